package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/sighting"
)

// InPack is what a handover pack from elsewhere says of a device: who it is and where it was. Nothing in it was heard or measured here.
type InPack sighting.Sighting

func (InPack) kind() Kind { return KindInPack }

func (InPack) failure() *diagnose.Diagnosis { return nil }

func (b InPack) sum(_ string) string {
	return fmt.Sprintf("The handover pack has it at %s", b.Addr)
}
