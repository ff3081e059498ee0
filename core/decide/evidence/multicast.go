package evidence

import (
	"fmt"
	"net/netip"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/camera"
)

// A CastAction is something that is done about a stream's group.
type CastAction string

// The actions.
const (
	CastMeasure CastAction = "measure"
	CastSet     CastAction = "set"   // group, port, TTL
	CastStart   CastAction = "start" // sending without being asked
	CastStop    CastAction = "stop"
	CastUndo    CastAction = "undo" // what was set before
)

// Multicast is what is known of how a stream is sent to a group: each record holds all of it.
type Multicast struct {
	Pending     bool                 `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	Role        string               `json:"role"`
	Did         CastAction           `json:"did"`
	Says        camera.GroupSetting  `json:"says" doc:"by the device's own word"`
	Before      *camera.GroupSetting `json:"before,omitempty" doc:"what undo puts back"`
	Started     bool                 `json:"started,omitempty" doc:"it was told to send, and not to stop"`
	Bare        *camera.GroupHeard   `json:"bare,omitempty" doc:"what came on its group with nobody asking for it"`
	Specific    *camera.GroupHeard   `json:"specific,omitempty" doc:"the same, joined for the device alone (source-specific)"`
	RTSP        *camera.GroupHeard   `json:"rtsp,omitempty" doc:"what came on the group that RTSP names, while it was asked for"`
	RTSPGroup   netip.AddrPort       `json:"rtsp_group,omitzero"`
	RTSPProblem string               `json:"rtsp_problem,omitempty" doc:"why RTSP gives no group"`
	Diagnosis   *diagnose.Diagnosis  `json:"diagnosis,omitempty"`
}

// Sends reports whether the device says that it sends with nobody asking.
func (b *Multicast) Sends() bool { return b.Says.Auto || b.Started }

func (Multicast) kind() Kind { return KindMulticast }

func (b Multicast) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Multicast) sum(_ string) string {
	switch {
	case b.Pending:
		return fmt.Sprintf("Multicast of %s is about to be changed; what was before is kept here", b.Role)
	case b.Did == CastSet:
		return fmt.Sprintf("Multicast of %s set: %s", b.Role, b.Says)
	case b.Did == CastUndo:
		return fmt.Sprintf("Multicast of %s put back: %s", b.Role, b.Says)
	case b.Did == CastStart:
		return fmt.Sprintf("Multicast of %s started", b.Role)
	case b.Did == CastStop:
		return fmt.Sprintf("Multicast of %s stopped", b.Role)
	}
	return fmt.Sprintf("Multicast of %s measured: %s", b.Role, b.Says)
}
