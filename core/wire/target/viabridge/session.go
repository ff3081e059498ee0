// Package viabridge drives what stands behind a bridge (package bridge): it chooses the slot, fills the fields that the target asks
// for, and asks until the target shows the picture.
package viabridge

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"unlatch/core/ground/certificate"
	"unlatch/core/ground/trouble"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/target"
)

// Kind is the kind of target that this driver is for.
const Kind target.Kind = "bridge"

// Driver is the driver; its zero value is ready.
type Driver struct{}

// Kind implements target.Driver.
func (Driver) Kind() target.Kind { return Kind }

// Connect implements target.Driver. The address is where the bridge answers.
func (Driver) Connect(ctx context.Context, a target.Access) (target.Session, error) {
	c, err := bridge.New(a.Address, bridge.Options{Dial: a.Dial, SignIn: a.SignIn, Leave: a.Leave, Pin: a.Pin, Log: a.Log})
	if err != nil {
		return nil, err
	}
	t, err := c.Target(ctx)
	if err != nil {
		c.Close()
		return nil, err
	}
	return &Session{client: c, about: t, handOver: a.HandOver}, nil
}

// A Session is a bridge under work. It has every ability; one that the target does not have answers
// with a *target.UnableError.
type Session struct {
	client   *bridge.Client
	about    *bridge.Target
	handOver target.HandOver
}

// Scheme implements target.SignedIn.
func (s *Session) Scheme() string { return s.client.Scheme() }

// Close implements target.Session.
func (s *Session) Close() { s.client.Close() }

// Shown implements target.Certified.
func (s *Session) Shown() *certificate.Certificate { return s.client.Shown() }

// Describe implements target.Describer.
func (s *Session) Describe(context.Context) (target.About, error) {
	t := s.about
	in := intake.Intake{Name: t.Name, Codecs: t.Intake.Codecs, MaxSize: tuning.Size(t.Intake.MaxSize),
		FPS: intake.Range{Max: t.Intake.MaxFPS}, Kbps: intake.Range{Max: t.Intake.MaxKbps}, Schemes: t.Intake.Schemes, TLS: t.Intake.TLS,
		Roles: t.Intake.Streams, TotalMbps: t.LimitKbps / 1000, Requires: t.Intake.Needs}
	if in.Transports = t.Intake.Transports; len(in.Transports) == 0 && t.Intake.Pictures {
		in.Transports = slices.Concat(intake.ByRTSP, intake.ByHTTP)
	}
	for _, z := range t.Intake.Sizes {
		in.Sizes = append(in.Sizes, tuning.Size(z))
	}
	return target.About{Name: t.Name, Kind: t.Kind, Maker: t.Maker, Model: t.Model, Serial: t.Serial, Abilities: t.Abilities,
		Screens: t.Screens, Intake: &in, Through: t.Intake.Through, Both: t.Intake.Both, Pictures: t.Intake.Pictures}, nil
}

// Slots implements target.Lister.
func (s *Session) Slots(ctx context.Context) (target.Layout, error) {
	all, err := s.client.Slots(ctx)
	if err != nil {
		return target.Layout{}, err
	}
	out := target.Layout{Slots: []target.Slot{}, LoadKbps: all.LoadKbps, LimitKbps: s.about.LimitKbps, Days: all.Days}
	for _, x := range all.Slots {
		out.Slots = append(out.Slots, slotOf(x))
	}
	return out, nil
}

func slotOf(x bridge.Slot) target.Slot {
	out := target.Slot{Token: x.ID, Label: x.Label, Is: x.State, Why: x.Why, CanFree: x.CanFree}
	if e := x.Entry; e != nil {
		out.Name, out.Identity, out.Address = e.Name, e.Key, e.Address
	}
	if st := x.Status; st != nil {
		out.State = stateText(st)
		var sizes []string
		for _, z := range st.Sizes {
			sizes = append(sizes, fmt.Sprintf("%s %d×%d", z.Role, z.Width, z.Height))
		}
		out.Sizes = strings.Join(sizes, ", ")
	}
	for _, z := range x.SendsOn {
		out.SendsOn = append(out.SendsOn, target.Sent{Role: z.Role, URL: z.URL})
	}
	if sc := x.Schedule; sc != nil {
		out.Schedule = &target.Schedule{Mode: sc.Mode}
		for _, p := range sc.Week {
			out.Schedule.Week = append(out.Schedule.Week, target.Span(p))
		}
	}
	return out
}

func stateText(st *bridge.Status) string {
	text := st.State
	if st.Says != "" {
		text += ": " + st.Says
	}
	return text
}

// Place implements target.Session. A camera that has a slot keeps it, unless it is wanted in another.
func (s *Session) Place(ctx context.Context, c target.Camera) (target.Placement, error) {
	// What comes back is cleaned as it is read, so that what goes out has to be.
	c.Identity, c.Replaces, c.Name = wiretext.Line(c.Identity, 300), wiretext.Line(c.Replaces, 300), wiretext.Line(c.Name, 200)
	if c.Slot != "" { // most often it is as it was thought to be, and one call does it
		if p, err := s.straight(ctx, c); err == nil {
			return p, nil
		} else if broken := new(bridge.Problem); !errors.As(err, &broken) {
			return target.Placement{}, err
		}
	}
	all, err := s.client.Slots(ctx)
	if err != nil {
		return target.Placement{}, err
	}
	slot := all.Find(c.Identity)
	if slot != nil && c.Slot != "" && slot.ID != c.Slot && s.about.Can(bridge.CanMove) {
		if err := s.client.Move(ctx, slot.ID, c.Slot); err != nil {
			return target.Placement{}, err
		}
		slot = all.Slot(c.Slot)
	}
	if slot == nil {
		if slot, err = choose(all, c); err != nil {
			return target.Placement{}, err
		}
	}
	if slot == nil {
		return target.Placement{}, &target.GoneSlotError{Slot: c.Slot}
	}
	e, err := Compose(s.about, c)
	if err != nil {
		return target.Placement{}, err
	}
	if s.about.Templates != nil {
		if err := s.template(ctx, c, &e); err != nil {
			return target.Placement{}, err
		}
	}
	put, err := s.writeEntry(ctx, slot.ID, e, c.Address)
	var p *bridge.Problem
	if errors.As(err, &p) && p.Type == bridge.TypeTaken && c.Slot == "" { // somebody was faster: look again, once
		if all, lerr := s.client.Slots(ctx); lerr == nil {
			if next := all.FirstFree(); next != nil {
				slot = next
				put, err = s.writeEntry(ctx, slot.ID, e, c.Address)
			}
		}
	}
	if err != nil {
		return target.Placement{}, err
	}
	return target.Placement{Ref: ref(put.ID, e.Key), Slot: labelOf(put), Token: put.ID}, nil
}

// straight puts a camera into the slot that it is wanted in. A *bridge.Problem is a reason to look more closely.
func (s *Session) straight(ctx context.Context, c target.Camera) (target.Placement, error) {
	e, err := Compose(s.about, c)
	if err == nil && s.about.Templates != nil {
		err = s.template(ctx, c, &e)
	}
	if err != nil {
		return target.Placement{}, err
	}
	put, err := s.writeEntry(ctx, c.Slot, e, c.Address)
	if err != nil {
		return target.Placement{}, err
	}
	return target.Placement{Ref: ref(put.ID, e.Key), Slot: labelOf(put), Token: put.ID}, nil
}

// writeEntry puts an entry into a slot. Of two cameras of one name the address tells them apart.
func (s *Session) writeEntry(ctx context.Context, slot string, e bridge.Entry, addr string) (*bridge.Slot, error) {
	if e.Password != "" {
		about, err := s.Describe(ctx)
		if err != nil {
			return nil, err
		}
		if err := s.handOver.Ask(ctx, target.Handing{Secret: target.CameraSignIn, Channel: s.client.Channel(), Scheme: s.client.Scheme(),
			About: about}); err != nil {
			return nil, err
		}
	}
	put, err := s.client.Put(ctx, slot, e)
	var p *bridge.Problem
	if errors.As(err, &p) && p.Type == bridge.TypeNameTaken {
		e.Name = e.Name + " " + lastOf(addr)
		return s.client.Put(ctx, slot, e)
	}
	return put, err
}

// choose returns the slot for a camera that has none yet.
func choose(all *bridge.Slots, c target.Camera) (*bridge.Slot, error) {
	if c.Slot != "" {
		x := all.Slot(c.Slot)
		switch {
		case x == nil:
			return nil, &target.GoneSlotError{Slot: c.Slot}
		case x.State == bridge.Blocked:
			return nil, &target.BlockedError{Slot: x.Label, Why: x.Why}
		case x.State == bridge.Locked:
			return nil, &target.LockedSlotError{Slot: labelOf(x), Why: x.Why}
		case x.State == bridge.Used && x.Entry.Key != c.Replaces:
			return nil, &target.TakenError{Slot: labelOf(x), By: x.Entry.Name}
		}
		return x, nil
	}
	if c.Replaces != "" {
		if x := all.Find(c.Replaces); x != nil {
			return x, nil
		}
	}
	if x := all.FirstFree(); x != nil {
		return x, nil
	}
	full := &target.FullError{Slots: len(all.Slots)}
	for _, x := range all.Slots {
		if x.State == bridge.Blocked && x.CanFree {
			full.Blocked++
			full.Why = x.Why
		}
	}
	return nil, full
}

func labelOf(s *bridge.Slot) string {
	if s.Label != "" {
		return s.Label
	}
	return s.ID
}

func lastOf(addr string) string {
	if i := strings.LastIndexByte(addr, '.'); i >= 0 {
		return addr[i+1:]
	}
	return addr
}

// ref names a slot and what was put there, so that a target which renumbers its slots is not told of another camera.
func ref(slot, key string) target.Ref { return target.Ref(slot + "\n" + key) }

// find returns the slot that a reference means: the one that holds its camera now, wherever that is.
func (s *Session) find(ctx context.Context, r target.Ref) (*bridge.Slot, error) {
	id, key, ok := strings.Cut(string(r), "\n")
	if !ok {
		return nil, errors.New("the reference to the placement cannot be read")
	}
	x, err := s.client.Slot(ctx, id)
	if err == nil && x.Entry != nil && x.Entry.Key == key {
		return x, nil
	}
	var p *bridge.Problem
	if err != nil && !(errors.As(err, &p) && p.Status == 404) {
		return nil, err
	}
	all, err := s.client.Slots(ctx)
	if err != nil {
		return nil, err
	}
	if x := all.Find(key); x != nil {
		return x, nil
	}
	return nil, &target.GoneSlotError{Slot: id}
}

// Confirm implements target.Session.
func (s *Session) Confirm(ctx context.Context, r target.Ref, wait time.Duration) (target.Report, error) {
	began := time.Now()
	for {
		x, err := s.find(ctx, r)
		if err != nil {
			return target.Report{}, err
		}
		out := target.Report{After: time.Since(began), Says: "nothing of it"}
		if st := x.Status; st != nil {
			out.Says = stateText(st)
			out.Arrived = st.State == "showing"
			if st.MayBegin() {
				out.Waits, out.Until = trouble.WaitsToConnect, st.ReadyAt(time.Now())
			}
		}
		if out.Arrived || out.After > wait {
			return out, nil
		}
		select {
		case <-ctx.Done():
			return out, ctx.Err()
		case <-time.After(250 * time.Millisecond):
		}
	}
}

// Remove implements target.Session.
func (s *Session) Remove(ctx context.Context, r target.Ref) error {
	x, err := s.find(ctx, r)
	if errors.As(err, new(*target.GoneSlotError)) {
		return nil
	}
	if err != nil {
		return err
	}
	return s.client.Remove(ctx, x.ID)
}

// Compose returns the entry for a camera on a target: the streams that it takes, the driver, and every field that it wants filled.
func Compose(t *bridge.Target, c target.Camera) (bridge.Entry, error) {
	e := bridge.Entry{Key: c.Identity, Name: c.Name, User: c.SignIn.User, Password: c.SignIn.Secret.Reveal(), Channel: c.Channel,
		Replaces: c.Replaces}
	if t.Intake.PlainNames {
		e.Name = Sayable(e.Name)
	}
	for _, st := range c.Streams {
		e.Streams = append(e.Streams, bridge.Stream{Role: st.Role, URL: st.URL, Transport: transport(st.Transport)})
	}
	if len(e.Streams) == 0 {
		return e, errors.New("none of its streams is one that the target takes")
	}
	for _, n := range t.Intake.Needs {
		switch n {
		case "address": // it must be filled, whether or not it means something
			e.Address = c.Address
		case "model":
			e.Model = c.Model
		}
	}
	for _, d := range t.Drivers {
		if d.Plain {
			e.Driver = d.ID
		}
	}
	if len(t.Drivers) > 0 && e.Driver == "" {
		return e, errors.New("the target has no driver that takes a stream URL as it is")
	}
	return e, nil
}

// transport returns how a stream that is asked for by RTSP comes; "" for one that comes in another way, which its URL says.
func transport(t string) string {
	switch t {
	case "udp", "multicast":
		return t
	case "", "tcp", "http tunnel":
		return "tcp"
	}
	return ""
}

// Sayable returns a name that can be spoken: letters, digits and single blanks.
func Sayable(name string) string {
	var b strings.Builder
	for _, r := range name {
		if r == '&' {
			b.WriteString(" and ")
		} else if 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' {
			b.WriteRune(r)
		} else {
			b.WriteByte(' ')
		}
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

// template finds or defines the template that a camera's URL has the shape of.
func (s *Session) template(ctx context.Context, c target.Camera, e *bridge.Entry) error {
	want, host, err := Template(c.Streams[0], c.Channel, s.about.Templates.Channel)
	if err != nil {
		return err
	}
	e.Address = host
	have, err := s.client.Templates(ctx)
	if err != nil {
		return err
	}
	used := map[int]bool{}
	for _, t := range have {
		used[t.Number] = true
		if t.Path == want.Path && t.Port == want.Port && t.Transport == want.Transport && t.Stream == want.Stream {
			e.Template = t.Number
			return nil
		}
	}
	for n := 1; n <= s.about.Templates.Most; n++ {
		if !used[n] {
			want.Number, e.Template = n, n
			return s.client.SetTemplate(ctx, want)
		}
	}
	return &target.TemplatesFullError{Most: s.about.Templates.Most, Path: want.Path}
}
