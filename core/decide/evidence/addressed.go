package evidence

import (
	"fmt"
	"strings"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/camera"
)

// Addressed is the outcome of giving the device another address.
type Addressed struct {
	Pending   bool                 `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	Before    camera.Network       `json:"before" doc:"what undo sends"`
	To        camera.Network       `json:"to"`
	After     camera.Network       `json:"after" doc:"what the device itself says since"`
	Steps     []camera.NetworkStep `json:"steps"`
	Diagnosis *diagnose.Diagnosis  `json:"diagnosis,omitempty"`
}

func (Addressed) kind() Kind { return KindAddressed }

func (b Addressed) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Addressed) sum(_ string) string {
	how := ""
	if b.Pending {
		return fmt.Sprintf("About to be moved from %s to %s", b.Before.Addr, b.To.Addr)
	}
	if b.Before.Addr == b.After.Addr && b.Before.DHCP == b.After.DHCP && b.Diagnosis == nil {
		return "Set besides the address: " + strings.Join(b.After.Changed(b.Before.HostSettings), ", ")
	}
	if b.After.DHCP {
		how = " by DHCP"
	}
	if also := b.After.Changed(b.Before.HostSettings); len(also) > 0 {
		how += "; also set: " + strings.Join(also, ", ")
	}
	return fmt.Sprintf("Moved from %s to %s%s", b.Before.Addr, b.After.Addr, how)
}
