package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/proof"
)

// Outside is what came of playing a stream from elsewhere, by the site's outside address. Its subject is the stream's role.
type Outside struct {
	proof.Proof
	PlainURL  string              `json:"plain_url" doc:"as it reads from outside, without any sign-in"`
	Inside    string              `json:"inside" doc:"where it leads to"`
	Worker    string              `json:"worker" doc:"the machine that has played it"`
	Diagnosis *diagnose.Diagnosis `json:"not_from_outside,omitempty" doc:"why this proves nothing: the machine reaches the inside as well"`
}

func (Outside) kind() Kind { return KindOutside }

func (b Outside) failure() *diagnose.Diagnosis {
	if b.Diagnosis != nil {
		return b.Diagnosis
	}
	return b.Proof.Diagnosis
}

func (b Outside) sum(subject string) string {
	return fmt.Sprintf("Played %s from outside, at %s", subject, b.PlainURL)
}
