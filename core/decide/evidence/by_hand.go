package evidence

import (
	"fmt"
	"net/netip"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/camera"
)

// StreamByHand is a stream that a person has given by its URL, because no device service names it: motion JPEG, pictures or a transport
// stream. Its subject is the stream's token.
type StreamByHand struct {
	Stream camera.Stream `json:"stream"`
	// Addr is where the device was then. A URL that names it follows the device when it moves.
	Addr    netip.Addr `json:"addr"`
	Removed bool       `json:"removed,omitempty" doc:"a person has taken it away again"`
}

func (StreamByHand) kind() Kind { return KindByHand }

func (StreamByHand) failure() *diagnose.Diagnosis { return nil }

func (b StreamByHand) sum(_ string) string {
	if b.Removed {
		return fmt.Sprintf("The stream %s was taken away again", b.Stream.URL)
	}
	return fmt.Sprintf("A person has given the stream %s", b.Stream.URL)
}
