package handover

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/ready"
	"unlatch/core/decide/weigh"
	"unlatch/core/ground/address"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/capacity"
	"unlatch/core/stream/sighting"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
)

// Facts are what a pack is made of.
type Facts struct {
	ID      uuid.UUID
	Name    string
	Ranges  address.Ranges
	Network address.Network
	Devices []*latch.Device // by address
	Targets []TargetFacts   // the oldest first
	Plans   []Plan
	// Own are the plans that cameras have of their own, and Roles those that people gave to streams, by the device.
	Own       map[uuid.UUID]map[string]string
	Roles     map[uuid.UUID]map[string]string
	SitePlans []SitePlan // without Picture
	Outside   Outside
	Recording *capacity.RecordingForm // nil where nobody has said how the site is recorded
	Ready     ready.Site
	Checklist ready.Checklist
	Attested  map[string]ready.Attested
	Notes     map[uuid.UUID][]string // on devices
	Books     []Book
	SignIns   map[uuid.UUID]SignIn
}

// TargetFacts are what is known of a target.
type TargetFacts struct {
	ID       uuid.UUID
	Kind     target.Kind
	Name     string
	Address  string
	Reach    []string
	Device   uuid.UUID // zero for none
	Through  uuid.UUID
	Intake   string
	SignIn   uuid.UUID
	Settings map[string]string
	Silent   bool
	Pin      string
	About    *target.About
	Layout   *target.Layout
}

// Of returns the pack of a site.
func Of(f Facts) Pack {
	belonging := slices.DeleteFunc(slices.Clone(f.Devices), func(d *latch.Device) bool {
		return !d.Status.InScope() || d.Status.Device.Kind == sighting.Other
	})
	p := Pack{Form: Form, Site: f.site(), Cameras: []Camera{}, Targets: []Target{}, SitePlans: []SitePlan{}, Plans: []Plan{},
		Outside: f.Outside, Books: []Book{}, State: baseline.Of(belonging)}
	p.SitePlans, p.Plans, p.Books = append(p.SitePlans, f.SitePlans...), append(p.Plans, f.Plans...), append(p.Books, f.Books...)
	for i := range p.SitePlans {
		p.SitePlans[i].Picture = fmt.Sprintf("pictures/plans/%s", p.SitePlans[i].ID)
	}
	for i := range p.Books {
		p.Books[i].File = fmt.Sprintf("books/%02d-%s-%s.yaml", i+1, p.Books[i].Kind, plainName(p.Books[i].Name))
	}
	for _, d := range belonging {
		p.Cameras = append(p.Cameras, f.camera(d))
	}
	for _, t := range f.Targets {
		p.Targets = append(p.Targets, f.target(t))
		p.State.Targets = append(p.State.Targets, baseline.TargetOf(t.ID, t.Name, t.Silent, t.About, t.Pin))
	}
	p.Findings = f.Ready.Findings()
	p.Checklist = f.Ready.Check(f.Checklist, p.Findings, f.Attested)
	p.Capacity = f.capacity(belonging)
	return p
}

func (f *Facts) site() Site {
	n := f.Network
	s := Site{ID: f.ID, Name: f.Name, Ranges: f.Ranges.Strings(), Bits: n.Bits, Pool: n.Pool.Spans(), DHCP: n.DHCP.Spans(), NTP: n.NTP,
		Zone: n.TimeZone}
	if n.Gateway.IsValid() {
		s.Gateway = n.Gateway.String()
	}
	for _, a := range n.DNS {
		s.DNS = append(s.DNS, a.String())
	}
	return s
}

// plainName makes a file's name of a text: letters, digits and hyphens.
func plainName(s string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(s) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			b.WriteRune(r)
		} else if b.Len() > 0 && !strings.HasSuffix(b.String(), "-") {
			b.WriteByte('-')
		}
		if b.Len() >= 40 {
			break
		}
	}
	if name := strings.Trim(b.String(), "-"); name != "" {
		return name
	}
	return "unnamed"
}

func (f *Facts) camera(d *latch.Device) Camera {
	st := &d.Status
	id := st.Device
	c := Camera{ID: d.ID, Kind: string(id.Kind), Name: d.Name, Title: d.Title, Address: d.Addr, MAC: id.MAC, Serial: id.Serial,
		Endpoint: d.Endpoint, Certificate: id.Certificate, Maker: id.Maker, Model: id.Hardware, Web: id.Page, Channel: d.Channel,
		Latch: string(ready.StandsAt(d)), Notes: f.Notes[d.ID], Roles: f.Roles[d.ID], Plan: f.Own[d.ID]}
	if d.Via != nil {
		c.Via = *d.Via
	}
	if in := st.SignedIn; in != nil && in.Diagnosis == nil {
		c.Maker, c.Model, c.Firmware = or(in.Info.Manufacturer, c.Maker), or(in.Info.Model, c.Model), in.Info.Firmware
		c.Serial, c.MAC = or(c.Serial, in.Info.Serial), or(c.MAC, in.MAC)
		if in.SignIn != uuid.Nil {
			c.SignIn = f.signIn(in.SignIn, in.Label, in.User)
		}
	}
	if k := st.StreamKey; k != nil {
		c.StreamUser = f.signIn(k.SignIn, k.Label, k.User)
	}
	if d.Via == nil {
		for _, x := range id.Ports {
			c.Ports = append(c.Ports, Port{Number: int(x.Number), Is: x.Speaks})
		}
		slices.SortFunc(c.Ports, func(a, b Port) int { return a.Number - b.Number })
	}
	for _, s := range st.Streams {
		c.Streams = append(c.Streams, stream(st, s))
		if p, ok := st.Proofs[s.Role]; ok && p.Still != nil && c.Still == uuid.Nil {
			c.Still = *p.Still
		}
	}
	for i := range st.Placements {
		c.Placements = append(c.Placements, placement(&st.Placements[i]))
	}
	return c
}

// signIn returns an entry of the keyring as it is called now; as it was called when it was used, where it is gone.
func (f *Facts) signIn(id uuid.UUID, label, user string) *SignIn {
	if now, ok := f.SignIns[id]; ok {
		return &now
	}
	return &SignIn{ID: id, Label: label, User: user}
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func stream(st *latch.Status, x camera.Stream) Stream {
	s := Stream{Role: x.Role, Token: x.Token, URL: x.URL, Claimed: settings(x.Claimed)}
	if want, ok := st.Plan.Streams[x.Role]; ok && want != (tuning.Stream{}) {
		s.Planned = want.String()
	}
	if t, ok := st.Tunes[x.Role]; ok {
		s.Meets = t.State == "meets"
	}
	p, ok := st.Proofs[x.Role]
	if !ok || p.Video == nil {
		return s
	}
	v := p.Video
	m := &Measured{Codec: v.Codec, Width: v.Width, Height: v.Height, FPS: round(v.FPS), Kbps: round(v.BitrateKbps),
		GOPSeconds: round(v.GOPSeconds), Transport: p.Transport, FirstPictureMS: round(p.FirstKeyframeMS), PerSecondKbps: v.PerSecondKbps}
	if p.Audio != nil {
		m.Audio = p.Audio.Codec
	}
	if since := st.Latch(latch.Proven).Since; since != nil {
		m.At = since.UTC()
	}
	s.Measured = m
	return s
}

// round keeps what is measured to a tenth.
func round(v float64) float64 { return math.Round(v*10) / 10 }

// settings writes what a device claims like a plan.
func settings(c camera.Settings) string {
	if c == (camera.Settings{}) {
		return ""
	}
	s := fmt.Sprintf("%s,%dx%d", strings.ToLower(c.Codec), c.Width, c.Height)
	if c.FPS > 0 {
		s += fmt.Sprintf(",%gfps", round(c.FPS))
	}
	if c.BitrateKbps > 0 {
		s += fmt.Sprintf(",%dkbps", c.BitrateKbps)
	}
	if c.GOPFrames > 0 {
		s += fmt.Sprintf(",gop%d", c.GOPFrames)
	}
	return s
}

func placement(p *latch.Placement) Placement {
	out := Placement{Target: p.Target, Name: p.Name, Kind: string(p.Kind), Slot: p.Slot, Token: p.Token, Role: p.Role, State: string(p.State),
		Report: p.Report, ByHand: p.ByHand()}
	for _, g := range p.Gives {
		out.Gives = append(out.Gives, g.Role)
	}
	if p.Still != nil {
		out.Still = *p.Still
	}
	if !p.ConfirmedAt.IsZero() {
		out.Confirmed = p.ConfirmedAt.UTC()
	}
	return out
}

func (f *Facts) target(t TargetFacts) Target {
	out := Target{ID: t.ID, Kind: string(t.Kind), Name: t.Name, Address: t.Address, Reach: t.Reach, Device: t.Device, Through: t.Through,
		Intake: t.Intake}
	for k, v := range t.Settings {
		if out.Settings == nil {
			out.Settings = map[string]string{}
		}
		out.Settings[k] = v
	}
	if t.SignIn != uuid.Nil {
		out.SignIn = f.signIn(t.SignIn, "", "")
	}
	if a := t.About; a != nil {
		out.Is, out.Maker, out.Model = a.Kind, a.Maker, a.Model
	}
	l := t.Layout
	if l == nil {
		return out
	}
	out.LoadKbps, out.LimitKbps, out.Days = round(l.LoadKbps), round(l.LimitKbps), round(l.Days)
	for _, s := range l.Slots {
		x := Slot{Token: s.Token, Label: s.Label, Is: s.Is, Name: s.Name, State: s.State, Schedule: s.Schedule}
		for _, d := range f.Devices {
			if p := d.Status.PlacementOn(t.ID); p != nil && p.Token == s.Token && p.Slot != "" {
				x.Camera = d.ID
			}
		}
		out.Slots = append(out.Slots, x)
	}
	return out
}

func (f *Facts) capacity(devices []*latch.Device) *Capacity {
	if f.Recording == nil {
		return nil
	}
	r, err := f.Recording.Read()
	if err != nil {
		return nil // kept by a program that knew another form
	}
	src := weigh.Bare(weigh.Sources(devices, func(d *latch.Device) tuning.Plan { return weigh.Unmet(&d.Status, tuning.Plan{}) }))
	cost, err := r.CostOf(src)
	if err != nil {
		return nil
	}
	return &Capacity{Form: *f.Recording, Cost: cost}
}

// NotesOf returns what somebody should know of a device beside its state: changes that can be undone, and commands that stand on it.
func NotesOf(d *latch.Device) (out []string) {
	st := &d.Status
	for _, c := range st.Commanded {
		out = append(out, c.Command.Name)
	}
	for _, x := range st.Fixes {
		if x.Action == evidence.FixStreamUser {
			continue // stands as the user of its streams
		}
		out = append(out, string(x.Action))
	}
	if w := st.Walked; w != nil {
		out = append(out, fmt.Sprintf("walk test: %s, %s", w.By, w.At.UTC().Format("2006-01-02")))
	}
	return out
}
