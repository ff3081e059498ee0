package evidence

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/camera"
)

// SignedIn is the outcome of trying the keyring.
type SignedIn struct {
	SignIn     uuid.UUID           `json:"sign_in"`
	Label      string              `json:"label,omitempty"`
	User       string              `json:"user,omitempty"`
	Scheme     string              `json:"scheme,omitempty"`
	Info       camera.Info         `json:"info"`
	MAC        string              `json:"mac,omitempty"`
	Protocols  []camera.Protocol   `json:"protocols,omitempty" doc:"the network services that the device names, with their ports"`
	Recorder   bool                `json:"recorder,omitempty" doc:"the device has receiver and recording services"`
	StreamOnly bool                `json:"stream_only,omitempty" doc:"it is the stream service that was opened: the device has no other"`
	Open       bool                `json:"open,omitempty" doc:"the device lets anyone in"`
	Level      string              `json:"level,omitempty" doc:"of that user, by the device's own word: Administrator, Operator or User"`
	Factory    bool                `json:"factory,omitempty" doc:"the sign-in is one that devices have from the factory"`
	Tried      []string            `json:"tried,omitempty" doc:"labels of the sign-ins that were tried"`
	Diagnosis  *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (SignedIn) kind() Kind { return KindSignedIn }

func (b SignedIn) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b SignedIn) sum(_ string) string {
	if b.Open {
		return "The device lets anyone in"
	}
	switch {
	case b.StreamOnly && b.Label == "":
		return "The stream service wants no sign-in yet"
	case b.StreamOnly:
		return fmt.Sprintf("%q opens the stream service", b.Label)
	}
	return fmt.Sprintf("%q opens the device service (%s)", b.Label, b.Scheme)
}
