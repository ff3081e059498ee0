package act

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/camera"
)

// longestName is the longest name of a camera, a site or a target, in characters.
const longestName = 120

// Rename gives a device a name; an empty one gives back what the device calls itself.
type Rename struct {
	Site, Device uuid.UUID
	Name         string
	Was          *string // the name that the person saw; nil renames whatever it is called
}

// About implements Act.
func (a Rename) About() About {
	return About{Name: "rename-device", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}, WithStates: true}
}

// Decide implements Act.
func (a Rename) Decide(f Facts) (Outcome, error) {
	a.Name = wiretext.Line(a.Name, longestName)
	out := Outcome{Keep: []any{a}}
	if a.Was != nil {
		out.Keep = []any{Unchanged{Device: a.Device, Was: Fields{"name": *a.Was}, Then: Fields{"name": a.Name}}, a}
	}
	out.Line = Line{Subject: f.Devices[a.Device].Addr, Devices: []uuid.UUID{a.Device}, Before: f.Devices[a.Device].Name, After: a.Name}
	return out, nil
}

// Forget removes devices with their evidence.
type Forget struct {
	Site    uuid.UUID
	Devices []uuid.UUID
}

// About implements Act.
func (a Forget) About() About {
	return About{Name: "forget-devices", Right: Work, Site: a.Site, Devices: a.Devices}
}

// Decide implements Act.
func (a Forget) Decide(f Facts) (Outcome, error) {
	var addrs []string
	for _, id := range a.Devices {
		if d := f.Devices[id]; d != nil && len(addrs) < mostNamed {
			addrs = append(addrs, d.Title+" at "+d.Addr)
		}
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.names(a.Devices), Before: strings.Join(addrs, ", ")}}, nil
}

// mostNamed is how many devices a line of the record names one by one.
const mostNamed = 50

// SetRoles says which stream of a device is its main, sub or third stream.
type SetRoles struct {
	Site, Device uuid.UUID
	Roles        map[string]string // a role by the device's own token
}

// About implements Act.
func (a SetRoles) About() About {
	return About{Name: "set-roles", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}, WithStates: true}
}

// Decide implements Act.
func (a SetRoles) Decide(f Facts) (Outcome, error) {
	d := f.Devices[a.Device]
	if err := camera.CheckRoles(d.Status.Streams, a.Roles); err != nil {
		return Outcome{}, refuse("bad_roles", sentence(err.Error()), "Give each stream a role of its own.")
	}
	var before, after []string
	for _, s := range d.Status.Streams {
		if to, named := a.Roles[s.Token]; named && to != s.Role {
			before, after = append(before, s.Token+" "+s.Role), append(after, s.Token+" "+to)
		}
	}
	return Outcome{Keep: []any{a},
		Line: Line{Subject: d.Title, Devices: []uuid.UUID{a.Device}, Before: strings.Join(before, ", "), After: strings.Join(after, ", ")}}, nil
}

// TakeCertificate says that a person has looked at the certificate that a device shows, and that it is the device's own.
type TakeCertificate struct {
	Site, Device uuid.UUID
	SHA256       string // in hex, of the certificate that the person has seen
}

// About implements Act.
func (a TakeCertificate) About() About {
	return About{Name: "take-certificate", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}, WithStates: true}
}

// Decide implements Act.
func (a TakeCertificate) Decide(f Facts) (Outcome, error) {
	d := f.Devices[a.Device]
	for _, c := range shown(&d.Status) {
		if c == nil || c.SHA256 != a.SHA256 {
			continue
		}
		pin := evidence.Pin{Certificate: *c, Taken: true}
		if p := d.Status.Pin; p != nil && p.Certificate.SHA256 != c.SHA256 {
			pin.Before = p.Certificate.SHA256
		}
		return Outcome{Keep: []any{Found{Device: d.ID, Body: pin}},
			Line: Line{Subject: d.Title, Devices: []uuid.UUID{d.ID}, Before: pin.Before, After: a.SHA256}}, nil
	}
	return Outcome{}, refuse("no_certificate", "That is not the certificate that the device has shown.",
		"Play the stream again and look at what it shows now.")
}

// shown returns the certificates that a device has shown; nil where it has shown none.
func shown(st *latch.Status) (out []*certificate.Certificate) {
	if r := st.Reached; r != nil {
		out = append(out, r.TLS)
	}
	for _, p := range st.Proofs {
		out = append(out, p.TLS)
	}
	if p := st.Pin; p != nil {
		out = append(out, &p.Certificate)
	}
	return out
}

// DismissClaim sets aside that something at an address has said to be this device.
type DismissClaim struct {
	Site, Device uuid.UUID
	Addr         netip.Addr
}

// About implements Act.
func (a DismissClaim) About() About {
	return About{Name: "dismiss-claim", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}, WithStates: true}
}

// Decide implements Act.
func (a DismissClaim) Decide(f Facts) (Outcome, error) {
	d := f.Devices[a.Device]
	for _, c := range d.Status.Claims {
		if c.Addr == a.Addr {
			c.Dismissed = true
			return Outcome{Keep: []any{Found{Device: d.ID, Subject: a.Addr.String(), Body: c}},
				Line: Line{Subject: d.Title, Devices: []uuid.UUID{d.ID}, Before: a.Addr.String()}}, nil
		}
	}
	return Outcome{}, &MissingError{IDs: []uuid.UUID{a.Device}}
}

// WalkPast says that somebody who walks past a camera is seen in its picture.
type WalkPast struct {
	Site, Device uuid.UUID
	Unsaid       bool // it was said in error
}

// About implements Act.
func (a WalkPast) About() About {
	return About{Name: "walk-past", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Device}}
}

// Decide implements Act.
func (a WalkPast) Decide(f Facts) (Outcome, error) {
	after := "seen"
	if a.Unsaid {
		after = "not seen after all"
	}
	return Outcome{Keep: []any{Found{Device: a.Device, Body: evidence.Walked{By: f.By.Name, Unsaid: a.Unsaid}}},
		Line: Line{Subject: f.names([]uuid.UUID{a.Device}), Devices: []uuid.UUID{a.Device}, After: after}}, nil
}

// TakeAwayStream takes a stream away that a person has given to a device by its URL, or puts it back.
type TakeAwayStream struct {
	Device uuid.UUID
	Token  string
	Back   bool
}

// About implements Act.
func (a TakeAwayStream) About() About {
	return About{Name: "take-away-stream", Right: Work, Devices: []uuid.UUID{a.Device}, WithStates: true}
}

// Decide implements Act.
func (a TakeAwayStream) Decide(f Facts) (Outcome, error) {
	d := f.Devices[a.Device]
	i := slices.IndexFunc(d.Status.ByHand, func(b evidence.StreamByHand) bool { return b.Stream.Token == a.Token })
	if i < 0 {
		return Outcome{}, refuse("not_given", "Nobody has given this device such a stream.",
			"A stream that the device itself names is switched off in its settings.")
	}
	b := d.Status.ByHand[i]
	b.Removed = !a.Back
	line := Line{Subject: d.Title, Devices: []uuid.UUID{d.ID}, Before: b.Stream.URL}
	if a.Back {
		line.Before, line.After = "", b.Stream.URL
	}
	return Outcome{Keep: []any{Found{Device: d.ID, Subject: a.Token, Body: b}}, Line: line}, nil
}

// WatchLive looks at the live picture of a camera. Of a customer it is recorded; whoever works on a site looks at its pictures all day.
type WatchLive struct{ Device uuid.UUID }

// About implements Act.
func (a WatchLive) About() About {
	return About{Name: "watch-live", Right: Look, Devices: []uuid.UUID{a.Device}}
}

// Decide implements Act.
func (a WatchLive) Decide(f Facts) (Outcome, error) {
	return Outcome{Line: Line{Subject: f.names([]uuid.UUID{a.Device}), Devices: []uuid.UUID{a.Device}}}, nil
}
