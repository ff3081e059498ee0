package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/sighting"
)

// Heard is one sighting.
type Heard sighting.Sighting

func (Heard) kind() Kind { return KindHeard }

func (Heard) failure() *diagnose.Diagnosis { return nil }

func (b Heard) sum(_ string) string {
	if len(b.Ports) > 0 {
		return fmt.Sprintf("Heard at %s: port %s", b.Addr, b.Ports[0])
	}
	if b.Via != nil {
		return fmt.Sprintf("The recorder tells of it as channel %d", b.Channel)
	}
	return fmt.Sprintf("Heard at %s by %s", b.Addr, b.Method)
}
