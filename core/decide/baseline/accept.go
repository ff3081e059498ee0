package baseline

import (
	"slices"

	"github.com/google/uuid"
)

// A Part is a field of a device, or all of its fields of that name where no subject is given.
type Part struct {
	Field   Field  `json:"field"`
	Subject string `json:"subject,omitempty"`
}

// Accept returns the state with some parts of one device as they are in now: what has changed is agreed on, and the rest stays. A device
// that the state does not have is added as it is now, whatever the parts; one that is not in now is left out.
func (s State) Accept(now State, device uuid.UUID, parts []Part) State {
	out := State{Version: Version, Devices: slices.Clone(s.Devices), Targets: s.Targets}
	find := func(list []Device) int { return slices.IndexFunc(list, func(d Device) bool { return d.ID == device }) }
	at, is := find(out.Devices), find(now.Devices)
	switch {
	case is < 0 && at < 0:
	case is < 0:
		out.Devices = slices.Delete(out.Devices, at, at+1)
	case at < 0:
		out.Devices = append(out.Devices, now.Devices[is])
	default:
		out.Devices[at] = out.Devices[at].accept(now.Devices[is], parts)
	}
	return out
}

// accept returns the device with some parts as they are in now.
func (d Device) accept(now Device, parts []Part) Device {
	takes := func(f Fact) bool {
		return slices.ContainsFunc(parts, func(p Part) bool { return p.Field == f.Field && (p.Subject == "" || p.Subject == f.Subject) })
	}
	out := d
	out.Title = now.Title
	out.Facts = slices.DeleteFunc(slices.Clone(d.Facts), takes)
	for _, f := range now.Facts {
		if takes(f) {
			out.Facts = append(out.Facts, f)
		}
	}
	if slices.ContainsFunc(parts, func(p Part) bool { return p.Field == Set }) {
		out.Settings = now.Settings
	}
	return out
}

// AcceptTarget returns the state with a target as it is now.
func (s State) AcceptTarget(now Target) State {
	out := State{Version: Version, Devices: s.Devices, Targets: slices.Clone(s.Targets)}
	i := slices.IndexFunc(out.Targets, func(t Target) bool { return t.ID == now.ID })
	if i < 0 {
		out.Targets = append(out.Targets, now)
	} else {
		out.Targets[i] = now
	}
	return out
}

// Under returns the state with what an older one has besides.
func (s State) Under(older State) State {
	out := State{Version: Version, Devices: slices.Clone(s.Devices), Targets: slices.Clone(s.Targets)}
	devices, targets := map[uuid.UUID]bool{}, map[uuid.UUID]bool{}
	for _, d := range s.Devices {
		devices[d.ID] = true
	}
	for _, t := range s.Targets {
		targets[t.ID] = true
	}
	for _, d := range older.Devices {
		if !devices[d.ID] {
			out.Devices = append(out.Devices, d)
		}
	}
	for _, t := range older.Targets {
		if !targets[t.ID] {
			out.Targets = append(out.Targets, t)
		}
	}
	return out
}

// identifying are the fields that tell one device from another of its kind.
var identifying = []Field{Address, Endpoint, Serial, HardwareAddress, Firmware, Certificate, SignIn, Maker, Model}

// Replace returns the state with a new device in place of an old one: what was agreed on of its streams and placements counts for the new
// one, and nothing is known of what tells the two apart. Without the old device the state stays as it is.
func (s State) Replace(old, now uuid.UUID) State {
	out := State{Version: Version, Devices: slices.Clone(s.Devices), Targets: s.Targets}
	out.Devices = slices.DeleteFunc(out.Devices, func(d Device) bool { return d.ID == now })
	for i, d := range out.Devices {
		if d.ID == old {
			d.ID = now
			d.Facts = slices.DeleteFunc(slices.Clone(d.Facts), func(f Fact) bool { return slices.Contains(identifying, f.Field) || f.Field == Path })
			out.Devices[i] = d
		}
	}
	return out
}
