package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/camera"
)

// Channels is what a recorder tells of the channels that it sends on.
type Channels struct {
	Channels  []camera.Channel    `json:"channels"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Channels) kind() Kind { return KindChannels }

func (b Channels) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Channels) sum(_ string) string {
	return fmt.Sprintf("The recorder names %d channels of its own", len(b.Channels))
}
