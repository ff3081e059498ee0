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
	out := State{Version: Version, Devices: slices.Clone(s.Devices)}
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
