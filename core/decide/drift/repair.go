package drift

import (
	"net/netip"
	"slices"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/tuning"
)

// A Repair is how the agreed state is put back.
type Repair string

// The repairs.
const (
	GiveAddress Repair = "address"  // give the device its agreed address back
	SetStreams  Repair = "settings" // set its streams as agreed
	SetClock    Repair = "clock"    // set its clock
	PlaceAgain  Repair = "slot"     // put it into its slot again, or give the slot its streams again
	OpenAgain   Repair = "open"     // open its latches again: what was refused, or did not answer, may do so now
)

// repairs are those that a cause has; the rest must be mended by a person, or accepted.
var repairs = map[Cause]Repair{Moved: GiveAddress, Settings: SetStreams, Clock: SetClock, SlotLost: PlaceAgain, SlotTaken: PlaceAgain,
	WrongPicture: PlaceAgain, NotShown: PlaceAgain, Silent: OpenAgain, NotPlaying: OpenAgain, Path: PlaceAgain}

// Repair returns how the drift is put right; "" where only a person can, at the device.
func (d Drift) Repair() Repair {
	if d.Cause == Firmware && slices.ContainsFunc(d.Fields, func(c baseline.FieldChange) bool { return c.Field == baseline.Set }) {
		return SetStreams
	}
	if d.Cause == Moved && slices.Contains(d.Hints, Unknown) {
		return "" // it may be a stranger, to whom nothing is sent
	}
	return repairs[d.Cause]
}

// Unattended reports whether a repair may be done by the watch itself, where a person has said so: it changes what a target holds, or how a
// known device is set, and sends no sign-in anywhere that did not have it.
func (r Repair) Unattended() bool { return r == PlaceAgain || r == SetStreams }

// Acceptable reports whether what is there now can be agreed on. What is broken cannot: it would never be told again.
func (c Cause) Acceptable() bool {
	switch c {
	case Silent, Password, Claimed, NotPlaying, SlotLost, NotShown, TargetSilent, Black, GroupTaken, RelayDown:
		return false
	}
	return true
}

// MayBeReplaced reports whether a new device may have been put in the place of the one that a drift of the cause is about.
func (c Cause) MayBeReplaced() bool { return c == Replaced || c == Silent }

// Plan returns the plan that sets the streams of a device as they were agreed on, for some roles; an empty plan where nothing was kept of
// them. It asks for the fields that the device claimed then and leaves the rest.
func (a *Agreed) Plan(device uuid.UUID, roles []string) tuning.Plan {
	was := a.byID[device]
	if was == nil {
		return tuning.Plan{}
	}
	out := tuning.Plan{Streams: map[string]tuning.Stream{}}
	for role, s := range was.Settings {
		if len(roles) > 0 && !slices.Contains(roles, role) {
			continue
		}
		codec, known := tuning.CodecOf(s.Codec)
		if !known {
			codec = ""
		}
		out.Streams[role] = tuning.Stream{Codec: codec, Width: s.Width, Height: s.Height, FPS: s.FPS, BitrateKbps: s.BitrateKbps,
			GOPFrames: s.GOPFrames}
	}
	if len(out.Streams) == 0 {
		return tuning.Plan{}
	}
	return out
}

// Address returns what gives a device its agreed address back, and reports whether one was kept that it can be given. bits and gateway are
// those of the network that it is in.
func (a *Agreed) Address(device uuid.UUID, bits int, gateway netip.Addr) (camera.Network, bool) {
	was := a.byID[device]
	if was == nil {
		return camera.Network{}, false
	}
	addr, err := netip.ParseAddr(was.Value(baseline.Address, ""))
	return camera.Network{Addr: addr, Bits: bits, Gateway: gateway}, err == nil
}

// Roles are the roles of the streams whose settings a drift is about.
func (d Drift) Roles() (out []string) {
	for _, c := range d.Fields {
		if c.Field == baseline.Set && !slices.Contains(out, c.Subject) {
			out = append(out, c.Subject)
		}
	}
	return out
}
