package evidence

import (
	"fmt"
	"net/netip"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/camera"
)

// Located is the list of stream URLs.
type Located struct {
	Addr      netip.Addr          `json:"addr" doc:"where the device was when it named them; missing in old records"`
	Streams   []camera.Stream     `json:"streams"`
	Shape     string              `json:"shape,omitempty" doc:"the recipe's shape, where the paths were found by trying"`
	Recipe    string              `json:"recipe,omitempty"`
	Tried     []camera.TriedPath  `json:"tried,omitempty" doc:"paths that were tried"`
	Diagnosis *diagnose.Diagnosis `json:"diagnosis,omitempty"`
}

func (Located) kind() Kind { return KindLocated }

func (b Located) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Located) sum(_ string) string {
	if b.Recipe != "" {
		return fmt.Sprintf("%d paths found by the recipe %q, after %d tries", len(b.Streams), b.Recipe, len(b.Tried))
	}
	return fmt.Sprintf("The device names %d stream URLs", len(b.Streams))
}
