package handover

import (
	"fmt"
	"net/netip"
	"slices"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/outside"
	"unlatch/core/ground/address"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/discovery"
)

// A Taken is a pack from elsewhere as intent: who and where the devices are, what is wanted of them and where they are to be shown. Nothing
// in it counts as measured. Whoever wrote the pack is a stranger, so that each field is checked, and what cannot be used is left out with a
// warning.
type Taken struct {
	Site      uuid.UUID
	Name      string
	Ranges    address.Ranges
	Network   address.Network
	Devices   []TakenDevice
	Targets   []Target
	Wishes    []TakenWish
	Plans     []TakenPlan
	SitePlans []SitePlan
	Outside   outside.Form
	Warnings  []string
}

// A TakenDevice is a device that the pack has.
type TakenDevice struct {
	ID       uuid.UUID
	Name     string // as a person gave it
	InPack   evidence.InPack
	Own      tuning.Plan
	Roles    map[string]string
	Recorder bool
}

// A TakenWish is that a camera shall stand on a target.
type TakenWish struct {
	Device, Target uuid.UUID
	Slot, Role     string
}

// A TakenPlan is a plan of the site, of a model or of a selection.
type TakenPlan struct {
	Owner tuning.Owner
	Name  string
	Plan  tuning.Plan
	For   []uuid.UUID
}

const (
	longestTaken = 120
	mostWarnings = 50
)

// Take reads a pack as intent. Its error says what of the site itself cannot be used.
func Take(p *Pack) (Taken, error) {
	t := Taken{Site: p.Site.ID, Name: wiretext.Line(p.Site.Name, longestTaken)}
	if t.Site == uuid.Nil || t.Name == "" {
		return t, fmt.Errorf("the pack does not say which site it is of")
	}
	if len(p.Cameras) > MostCameras {
		return t, fmt.Errorf("the pack has %d devices, and a site has at most %d", len(p.Cameras), MostCameras)
	}
	var err error
	if t.Ranges, err = address.Parse(p.Site.Ranges...); err != nil {
		return t, fmt.Errorf("the ranges of the pack cannot be read: %w", err)
	}
	t.network(p.Site)
	known := map[uuid.UUID]bool{}
	// A recorder comes before what hangs on it.
	order := slices.Clone(p.Cameras)
	slices.SortStableFunc(order, func(a, b Camera) int { return boolInt(a.Via != uuid.Nil) - boolInt(b.Via != uuid.Nil) })
	for _, c := range order {
		if d, ok := t.device(c, known); ok {
			known[d.ID] = true
			t.Devices = append(t.Devices, d)
		}
	}
	t.targets(p, known)
	t.plans(p, known)
	for _, x := range p.SitePlans {
		x.Name, x.Marks = wiretext.Line(x.Name, longestTaken), slices.Clone(x.Marks)
		marks := x.Marks[:0]
		for _, m := range x.Marks {
			if m, err := m.Check(); err == nil && known[m.Device] {
				marks = append(marks, m)
			}
		}
		x.Marks = marks
		t.SitePlans = append(t.SitePlans, x)
	}
	if faults := p.Outside.Form.Check(t.Ranges, nil); len(faults) == 0 {
		t.Outside = p.Outside.Form
		t.Outside.Maps = slices.DeleteFunc(slices.Clone(t.Outside.Maps), func(m outside.Map) bool { return !known[m.Device] })
	} else {
		t.warn("the outside ports: %s", faults[0].Problem)
	}
	return t, nil
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (t *Taken) warn(format string, a ...any) {
	if len(t.Warnings) < mostWarnings {
		t.Warnings = append(t.Warnings, wiretext.Line(fmt.Sprintf(format, a...), 300))
	}
}

func (t *Taken) network(s Site) {
	n := address.Network{Bits: s.Bits, NTP: wiretext.Line(s.NTP, longestTaken), TimeZone: wiretext.Line(s.Zone, longestTaken)}
	var err error
	if n.Pool, err = address.Parse(s.Pool...); err != nil {
		t.warn("the pool of addresses: %v", err)
	}
	if n.DHCP, err = address.Parse(s.DHCP...); err != nil {
		t.warn("the addresses that DHCP gives out: %v", err)
	}
	if s.Gateway != "" {
		if n.Gateway, err = netip.ParseAddr(s.Gateway); err != nil {
			t.warn("the gateway %q is no address", s.Gateway)
		}
	}
	for _, text := range s.DNS {
		if a, err := netip.ParseAddr(text); err == nil {
			n.DNS = append(n.DNS, a)
		}
	}
	if n.Bits < 0 || n.Bits > 32 {
		n.Bits = 0
	}
	t.Network = n
}

// device reads one device. It reports false where it cannot be used.
func (t *Taken) device(c Camera, known map[uuid.UUID]bool) (d TakenDevice, ok bool) {
	addr, err := netip.ParseAddr(c.Address)
	switch {
	case err != nil:
		t.warn("%s: %q is no address", c.Title, c.Address)
		return d, false
	case c.ID == uuid.Nil || known[c.ID]:
		t.warn("%s is there twice", c.Title)
		return d, false
	case c.Via != uuid.Nil && !known[c.Via]:
		t.warn("%s hangs on a recorder that the pack does not have", c.Title)
		return d, false
	}
	line := func(s string) string { return wiretext.Line(s, longestTaken) }
	x := sighting.Sighting{Method: sighting.Method("handover pack"), Addr: addr.Unmap(), Endpoint: line(c.Endpoint), Kind: sighting.Camera,
		Name: line(c.Title), Hardware: line(c.Model), Maker: line(c.Maker), Serial: line(c.Serial), MAC: discovery.CleanMAC(c.MAC),
		Channel: c.Channel, Stray: !t.Ranges.Contains(addr.Unmap())}
	if c.Kind == string(sighting.Recorder) {
		x.Kind, d.Recorder = sighting.Recorder, true
	}
	if c.Via != uuid.Nil {
		via := c.Via
		x.Via = &via
	}
	d.ID, d.Name, d.InPack = c.ID, line(c.Name), evidence.InPack(x)
	if d.Own, err = tuning.ParsePlan(c.Plan); err != nil {
		t.warn("the plan of %s: %v", c.Title, err)
		d.Own = tuning.Plan{}
	}
	for token, role := range c.Roles {
		if slices.Contains(camera.Roles, role) && len(token) <= longestTaken {
			if d.Roles == nil {
				d.Roles = map[string]string{}
			}
			d.Roles[token] = role
		}
	}
	return d, true
}

func (t *Taken) targets(p *Pack, known map[uuid.UUID]bool) {
	there := map[uuid.UUID]bool{}
	for _, x := range p.Targets {
		if x.Device != uuid.Nil && (x.Device != x.ID || !known[x.Device]) {
			t.warn("the target %s is a device that the pack does not have", x.Name)
			continue
		}
		if x.ID == uuid.Nil || there[x.ID] {
			continue
		}
		there[x.ID] = true
		x.Name = wiretext.Line(x.Name, longestTaken)
		t.Targets = append(t.Targets, x)
	}
	for _, c := range p.Cameras {
		for _, w := range c.Placements {
			if !known[c.ID] || !there[w.Target] {
				continue
			}
			role := w.Role
			if !slices.Contains(camera.Roles, role) {
				role = ""
			}
			t.Wishes = append(t.Wishes, TakenWish{Device: c.ID, Target: w.Target, Slot: wiretext.Line(w.Token, longestTaken), Role: role})
		}
	}
}

func (t *Taken) plans(p *Pack, known map[uuid.UUID]bool) {
	for _, x := range p.Plans {
		plan, err := tuning.ParsePlan(x.Parts)
		owner := tuning.Owner(x.Owner)
		if err != nil || !slices.Contains([]tuning.Owner{tuning.Site, tuning.Model, tuning.Selection}, owner) {
			t.warn("a plan of %s %s cannot be read", x.Owner, x.Name)
			continue
		}
		t.Plans = append(t.Plans, TakenPlan{Owner: owner, Name: wiretext.Line(x.Name, longestTaken), Plan: plan,
			For: slices.DeleteFunc(slices.Clone(x.For), func(id uuid.UUID) bool { return !known[id] })})
	}
}

// A Standing is how a site stands to the pack that it was opened from.
type Standing struct {
	Same      []uuid.UUID  `json:"same" doc:"devices that are as the pack has them, as far as that is known here"`
	Missing   []PackDevice `json:"missing" doc:"that the pack has and nobody has heard here"`
	Surplus   []PackDevice `json:"surplus" doc:"that were heard here and the pack does not have"`
	Different []PackChange `json:"different" doc:"that are otherwise than the pack has them"`
	Unknown   int          `json:"unknown" doc:"facts of the pack that nothing is known of here yet"`
}

// A PackDevice is a device by its name.
type PackDevice struct {
	ID      uuid.UUID `json:"id"`
	Title   string    `json:"title"`
	Address string    `json:"address"`
}

// Stand compares a site with the pack that it was opened from. heard tells whether a device of the site was heard here. A fact that is not
// known here yet is no difference.
func Stand(pack, now *Pack, heard func(uuid.UUID) bool) Standing {
	s := Standing{Same: []uuid.UUID{}, Missing: []PackDevice{}, Surplus: []PackDevice{}, Different: []PackChange{}}
	for _, c := range now.Cameras {
		switch {
		case pack.Camera(c.ID) == nil:
			s.Surplus = append(s.Surplus, PackDevice{c.ID, c.Title, c.Address})
		case !heard(c.ID):
			s.Missing = append(s.Missing, PackDevice{c.ID, c.Title, c.Address})
		}
	}
	for _, c := range pack.Cameras { // somebody has taken it off the site since
		if now.Camera(c.ID) == nil {
			s.Missing = append(s.Missing, PackDevice{c.ID, c.Title, c.Address})
		}
	}
	different := map[uuid.UUID]bool{}
	for _, c := range Compare(pack, now) {
		if c.Is != baseline.Changed || !c.Target && !heard(c.ID) {
			continue
		}
		fields := slices.Clone(c.Fields)
		c.Fields = slices.DeleteFunc(fields, func(f baseline.FieldChange) bool { return f.Is == "" || f.Was == "" })
		s.Unknown += len(fields) - len(c.Fields)
		if len(c.Fields) > 0 {
			different[c.ID] = true
			s.Different = append(s.Different, c)
		}
	}
	for _, c := range now.Cameras {
		if pack.Camera(c.ID) != nil && heard(c.ID) && !different[c.ID] {
			s.Same = append(s.Same, c.ID)
		}
	}
	return s
}
