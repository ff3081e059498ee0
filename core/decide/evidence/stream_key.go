package evidence

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
)

// StreamKey is a sign-in of the streams' own, where another opens the device service.
type StreamKey struct {
	SignIn  uuid.UUID `json:"sign_in"`
	Label   string    `json:"label,omitempty"`
	User    string    `json:"user,omitempty"`
	Made    bool      `json:"made,omitempty" doc:"Unlatch made the user on the device"`
	Removed bool      `json:"removed,omitempty"`
}

func (StreamKey) kind() Kind { return KindStreamKey }

func (StreamKey) failure() *diagnose.Diagnosis { return nil }

func (b StreamKey) sum(_ string) string {
	switch {
	case b.Removed:
		return "The stream user is gone again"
	case b.Made:
		return fmt.Sprintf("Stream user %q made on the device", b.User)
	}
	return fmt.Sprintf("%q opens the streams", b.Label)
}
