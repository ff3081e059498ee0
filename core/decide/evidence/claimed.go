package evidence

import (
	"fmt"
	"net/netip"

	"unlatch/core/decide/diagnose"
)

// Claimed is another address that says it is this device while the device still answers at its own.
type Claimed struct {
	Addr      netip.Addr `json:"addr"`
	Still     netip.Addr `json:"still" doc:"where the device itself answered at that moment"`
	Method    string     `json:"method"`
	Dismissed bool       `json:"dismissed,omitempty" doc:"a person has seen it and it is no longer shown"`
}

func (Claimed) kind() Kind { return KindClaimed }

func (Claimed) failure() *diagnose.Diagnosis { return nil }

func (b Claimed) sum(_ string) string {
	if b.Dismissed {
		return fmt.Sprintf("The claim of %s to be this device was set aside", b.Addr)
	}
	return diagnose.ClaimedBy(b.Addr, b.Still, b.Method).Summary
}
