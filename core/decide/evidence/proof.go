package evidence

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/proof"
)

// Proof is a proof of one URL, with the stored still.
type Proof struct {
	proof.Proof
	PlainURL string     `json:"plain_url" doc:"the URL without any sign-in"`
	Role     string     `json:"role,omitempty" doc:"what the stream was used as"`
	Settings string     `json:"settings,omitempty" doc:"fingerprint of the settings that the device claimed when it was played"`
	Still    *uuid.UUID `json:"still,omitempty"`
}

func (Proof) kind() Kind { return KindProof }

func (b Proof) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Proof) sum(subject string) string {
	if b.Role != "" {
		subject = b.Role
	}
	if b.Video == nil {
		return "Played " + subject
	}
	return fmt.Sprintf("Played %s: %s %d × %d, %.4g fps, %.0f kbit/s", subject, b.Video.Codec, b.Video.Width, b.Video.Height,
		b.Video.FPS, b.Video.BitrateKbps)
}
