package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/tuning"
)

// Offers is what a device can be set to, as far as it told. It opens no latch.
type Offers struct {
	tuning.Offers
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Offers) kind() Kind { return KindOffers }

func (b Offers) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Offers) sum(_ string) string {
	text := fmt.Sprintf("It told what its %d streams can be set to", len(b.Streams))
	if b.Makes {
		text += ", and that one more can be made"
	}
	return text
}
