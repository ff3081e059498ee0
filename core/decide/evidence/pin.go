package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/certificate"
)

// Pin is the certificate that a device is known by: the first that it showed, or one that a person has taken since.
type Pin struct {
	Certificate certificate.Certificate `json:"certificate"`
	Before      string                  `json:"before,omitempty" doc:"SHA-256 of the one before"`
	Taken       bool                    `json:"taken,omitempty" doc:"a person has looked at it and taken it"`
}

// TakenByPerson reports whether a person has looked at the certificate and taken it. In records of before there was a mark for that, only
// a person put one certificate in the place of another.
func (b Pin) TakenByPerson() bool { return b.Taken || b.Before != "" }

func (Pin) kind() Kind { return KindPin }

func (Pin) failure() *diagnose.Diagnosis { return nil }

func (b Pin) sum(_ string) string {
	how := "Known from now on by its certificate"
	switch {
	case b.Before != "":
		how = "A new certificate was taken"
	case b.Taken:
		how = "Its certificate was looked at and taken"
	}
	if b.Certificate.Expired {
		how += fmt.Sprintf(", which expired on %s", b.Certificate.Until.Format("2006-01-02"))
	}
	return fmt.Sprintf("%s: SHA-256 %.16s…", how, b.Certificate.SHA256)
}
