package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
)

// Web is the outcome of asking for the device's own page.
type Web struct {
	URL       string              `json:"url"`
	Scheme    string              `json:"scheme,omitempty"`
	Label     string              `json:"label,omitempty" doc:"of the sign-in that opened it"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Web) kind() Kind { return KindWeb }

func (b Web) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Web) sum(_ string) string {
	if b.Label == "" {
		return "Its own page opens without a sign-in"
	}
	return fmt.Sprintf("%q opens its own page", b.Label)
}
