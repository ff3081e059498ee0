package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
)

// OpenedUnder is the certificate under which a sign-in has opened the device in a scheme that shows the password: whoever holds that
// certificate has read it already. It is empty where a person has taken that back.
type OpenedUnder struct {
	Certificate string `json:"certificate" doc:"SHA-256 in hex; empty where a person has taken it back"`
}

func (OpenedUnder) kind() Kind { return KindOpenedUnder }

func (OpenedUnder) failure() *diagnose.Diagnosis { return nil }

func (b OpenedUnder) sum(_ string) string {
	if b.Certificate == "" {
		return "The sign-in is asked about again before it goes out so that it can be read"
	}
	return fmt.Sprintf("The sign-in has opened it under the certificate SHA-256 %.16s…", b.Certificate)
}
