package act

import (
	"fmt"
	"net/netip"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/addresslist"
	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/camera"
)

// GiveAddresses sends addresses and host settings to devices and finds them again.
type GiveAddresses struct {
	Site   uuid.UUID
	Title  string // of the run; "" for the usual one
	Lines  []AddressLine
	Strict bool
	// Network is how the site's addresses are laid out, kept with the site; nil leaves that as it is.
	Network *address.Network
}

// An AddressLine is one device with what it shall be set to.
type AddressLine struct {
	Device uuid.UUID
	To     camera.Network
}

// About implements Act.
func (a GiveAddresses) About() About {
	out := About{Name: "apply-addresses", Right: Work, Site: a.Site, WithStates: true}
	for _, l := range a.Lines {
		out.Devices = append(out.Devices, l.Device)
	}
	return out
}

// CannotMove says why a device cannot be given an address yet; "" where it can.
func CannotMove(d *latch.Device) string {
	switch {
	case d.Via != nil:
		return "Its address is the recorder's business: it hangs on the recorder's own switch"
	case !d.Status.InScope():
		return "It is a stray: agree to reach it first"
	case d.Status.SignedIn == nil || d.Status.SignedIn.Diagnosis != nil:
		return "It is not signed in to yet: open its latches first"
	case d.Endpoint == "":
		return "It has told no identity by which it could be found again"
	}
	return ""
}

// Decide implements Act. Two steps a device are counted: it is moved, and its latches are opened anew.
func (a GiveAddresses) Decide(f Facts) (Outcome, error) {
	to := map[uuid.UUID]camera.Network{}
	taken := map[netip.Addr]bool{}
	var devices []uuid.UUID
	for _, l := range a.Lines {
		if !l.To.DHCP {
			if err := (&address.Guard{Allowed: f.Site.Ranges}).Check(l.To.Addr); err != nil {
				return Outcome{}, refuse("bad_address", sentence(err.Error()), "Plan an address inside the site's ranges.")
			}
			if taken[l.To.Addr] {
				return Outcome{}, refuse("bad_address", l.To.Addr.String()+" stands in the plan twice.", "Give each device its own.")
			}
			taken[l.To.Addr] = true
		}
		to[l.Device] = l.To
		devices = append(devices, l.Device)
	}
	going, left, err := sift(f, devices, a.Strict, func(d *latch.Device) *Refusal {
		if why := CannotMove(d); why != "" {
			return refuse("cannot_move", d.Title+" cannot be given an address. "+why+".", "Do that first, or leave it out.")
		}
		return nil
	})
	if err != nil {
		return Outcome{}, err
	}
	title := a.Title
	if title == "" {
		title = "Give addresses to " + command.Cameras(len(going))
	}
	out := Outcome{Left: left, Work: &command.Work{Kind: "address", Title: title, Steps: 2 * int64(len(going))},
		Line: Line{Subject: f.names(ids(going)), Devices: ids(going)}}
	var before, after []string
	for _, d := range going {
		setting := to[d.ID]
		out.Work.Devices = append(out.Work.Devices, command.OnDevice{Device: d.ID, Do: command.Device{Address: &setting}})
		if len(after) < mostNamed {
			before, after = append(before, d.Addr), append(after, givenAddress(setting))
		}
	}
	out.Line.Before, out.Line.After = strings.Join(before, ", "), strings.Join(after, ", ")
	if a.Network != nil {
		out.Keep = append(out.Keep, LayOut{Network: *a.Network})
	}
	return out, nil
}

func givenAddress(s camera.Network) string {
	if s.DHCP {
		return "DHCP"
	}
	return s.Addr.String()
}

// LayOut is how the addresses of the act's site are laid out.
type LayOut struct{ Network address.Network }

// ImportList keeps a list of which addresses are expected on a site, in place of the one before.
type ImportList struct {
	Site uuid.UUID
	Rows []addresslist.Row
}

// About implements Act.
func (a ImportList) About() About {
	return About{Name: "import-address-list", Right: Work, Site: a.Site}
}

// Decide implements Act.
func (a ImportList) Decide(Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{After: fmt.Sprintf("%d rows", len(a.Rows))}}, nil
}

// RemoveList removes a site's list of expected addresses.
type RemoveList struct{ Site uuid.UUID }

// About implements Act.
func (a RemoveList) About() About {
	return About{Name: "remove-address-list", Right: Work, Site: a.Site}
}

// Decide implements Act.
func (a RemoveList) Decide(Facts) (Outcome, error) {
	return Outcome{Keep: []any{ImportList{Site: a.Site}}}, nil
}

// NameDevices gives devices the names that a list has for them.
type NameDevices struct {
	Site  uuid.UUID
	Names map[uuid.UUID]string
}

// About implements Act.
func (a NameDevices) About() About {
	out := About{Name: "use-listed-names", Right: Work, Site: a.Site}
	for id := range a.Names {
		out.Devices = append(out.Devices, id)
	}
	return out
}

// Decide implements Act.
func (a NameDevices) Decide(f Facts) (Outcome, error) {
	out := Outcome{Line: Line{Subject: f.names(f.Order), Devices: f.Order}}
	for _, id := range f.Order {
		out.Keep = append(out.Keep, Rename{Device: id, Name: wiretext.Line(a.Names[id], longestName)})
	}
	return out, nil
}
