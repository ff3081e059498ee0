package bringup

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
)

// connected is a target that this work has a session with.
type connected struct {
	name    string
	address string
	signIn  signin.SignIn
	leave   signin.Leave
	session target.Session
}

// tells asks a target what it is and how its slots stand, as far as its kind tells that, and puts the answers into out.
func (w targetDoor) tells(ctx context.Context, id uuid.UUID, c *connected, out *TargetSeen) error {
	if d, ok := c.session.(target.Describer); ok {
		about, err := d.Describe(ctx)
		if err != nil {
			return err
		}
		out.About = &about
	}
	if l, ok := c.session.(target.Lister); ok {
		layout, _, err := w.Lists.askedAfter(ctx, id, time.Now(), func() (target.Layout, error) { return l.Slots(ctx) })
		if err != nil {
			return err
		}
		out.Layout = &layout
	}
	return nil
}

// facts returns what a diagnosis may say of a target that was asked. c may be nil: nothing was asked then.
func (c *connected) facts(name string) diagnose.Facts {
	f := diagnose.Facts{Asking: name, Target: true}
	if c == nil {
		return f
	}
	f.User = c.signIn.User
	if u, err := url.Parse(c.address); err == nil {
		f.Host = u.Hostname()
		f.Port, _ = strconv.Atoi(target.Port(u))
	}
	return f
}

// sendsItself reports whether streams that a target sends on come from its own host. Its sign-in is for that host alone.
func (c *connected) sendsItself(list []latch.Given) bool {
	own := c.facts("").Host
	for _, g := range list {
		if u, err := streamurl.Parse(g.URL); err != nil || u.Host != own {
			return false
		}
	}
	return true
}

// A targetDoor connects to targets, and is what they are told and given.
type targetDoor struct{ *Work }

// connect returns the session with a target, one in this work. A *diagnose.TargetShutError means that no sign-in is known to open it.
func (w targetDoor) connect(ctx context.Context, id uuid.UUID) (*connected, error) {
	if c := w.targets[id]; c != nil {
		return c, nil
	}
	t, err := w.Record.Target(ctx, id)
	if err != nil {
		return nil, &OwnError{err}
	}
	driver := w.Targets[t.Kind]
	if driver == nil {
		return nil, &OwnError{fmt.Errorf("this program has no driver for targets of the kind %q", t.Kind)}
	}
	c := &connected{name: t.Name, address: t.Address}
	if err := w.keepOut(ctx, id); err != nil {
		return c, err
	}
	access, err := w.access(ctx, t, c)
	if err != nil {
		return c, err
	}
	c.address, c.leave = access.Address, access.Leave
	if c.session, err = driver.Connect(ctx, access); err != nil {
		return c, err
	}
	w.targets[id] = c
	return c, nil
}

// keepOut keeps the secrets that a target was handed before out of all that is recorded of it: it may repeat them.
func (w targetDoor) keepOut(ctx context.Context, id uuid.UUID) error {
	keys, err := w.Record.Handed(ctx, id)
	if err != nil {
		return &OwnError{err}
	}
	for _, k := range keys {
		if _, err := w.Decrypt(ctx, k); err != nil && !errors.Is(err, ErrGone) {
			return &OwnError{err}
		}
	}
	return nil
}

// access returns the way to a target: with the sign-in of the device that it is, or with the one that a person has chosen for it.
func (w targetDoor) access(ctx context.Context, t *Target, c *connected) (target.Access, error) {
	a := target.Access{Dial: w.Guard, Address: t.Address, InScope: w.Guard.Allowed.Contains, Log: w.log, Settings: t.Settings,
		Pin: t.Pin, About: t.About,
		HandOver: w.handOver(t),
		Fresh: func(ctx context.Context) (map[string]string, error) {
			fresh, err := w.Record.Target(ctx, t.ID)
			if err != nil {
				return nil, &OwnError{err}
			}
			return fresh.Settings, nil
		}}
	var err error
	if d := t.Device; d != nil {
		s := d.Status.SignedIn
		if s == nil || d.Status.Latch(latch.SignedIn).State != latch.Open {
			return a, &diagnose.TargetShutError{Name: t.Name}
		}
		if c.signIn, err = w.signInOf(ctx, d); err != nil {
			return a, err
		}
		a.Address, a.SignIn, a.About = d.Status.Device.XAddr, c.signIn, d.Status.AsTarget()
		if d.Status.Pin != nil {
			a.Pin = d.Status.Pin.Certificate.SHA256
		}
		a.Leave = w.leave(d, s.SignIn, signin.DeviceService, nil)
		return a, nil
	}
	if t.SignIn != uuid.Nil {
		if t.Refused == t.SignIn && !w.Retry {
			return a, &target.RefusedBeforeError{Target: t.Name}
		}
		if c.signIn, err = w.Decrypt(ctx, t.SignIn); err != nil {
			return a, err
		}
		a.SignIn, a.Leave = c.signIn, w.leaveTarget(t)
		w.log.Know(c.signIn)
	}
	if t.Via != uuid.Nil {
		via, err := w.Record.Target(ctx, t.Via)
		if err != nil {
			return a, &OwnError{err}
		}
		through, err := w.access(ctx, via, &connected{})
		if err != nil {
			return a, err
		}
		a.Through = &through
	}
	return a, nil
}

// leaveTarget is leave to send its sign-in to a target that is no device of the site. What it refuses once is not sent again before a
// person has said so.
func (w targetDoor) leaveTarget(t *Target) signin.Leave {
	return func(ctx context.Context, s signin.Sending) (func(error), error) {
		h := target.Handing{Secret: target.OwnSignIn, Channel: s.Channel, Scheme: s.Scheme}
		weaker := signin.Strength(s.Scheme) < signin.Strength(t.Takes)
		if weaker || signin.Readable(s.Scheme) {
			agreed, err := w.mayHave(ctx, t, h)
			if err != nil {
				return nil, err
			}
			if weaker && agreed == nil {
				return nil, &target.HandingError{Target: t.ID, Secret: target.OwnSignIn, Channel: s.Channel, Scheme: s.Scheme, Asks: true,
					Changed: "sign-in scheme"}
			}
		}
		try, err := w.patiently(ctx, func() (uuid.UUID, error) { return w.Keyring.BeginOn(ctx, t, t.SignIn, s.Channel.Host()) })
		if err != nil {
			return nil, err
		}
		return func(err error) { w.judgedByTarget(context.WithoutCancel(ctx), t, try, s, err) }, nil
	}
}

// judgedByTarget keeps what a target has made of its sign-in.
func (w targetDoor) judgedByTarget(ctx context.Context, t *Target, try uuid.UUID, s signin.Sending, err error) {
	result, wait := resultOf(err)
	if err := w.Keyring.End(ctx, try, result, wait); err != nil {
		w.Report.Warn("how a try on a target ended could not be kept", err)
	}
	switch {
	case result == signin.Refused:
		w.saw(ctx, t.ID, TargetSeen{What: "signing in", Refused: t.SignIn,
			Diagnosis: &diagnose.Diagnosis{Cause: trouble.WrongSignIn, Summary: t.Name + " refuses its sign-in.",
				Fix: "Choose another sign-in on the target's page."}})
	case result == signin.Opened:
		seen := TargetSeen{Takes: s.Scheme, SignIn: t.SignIn}
		if signin.Readable(s.Scheme) {
			seen.OpenedUnder = s.Channel.Certificate
		}
		if seen.Takes == t.Takes && seen.OpenedUnder == "" {
			return
		}
		t.Takes = s.Scheme
		if err := w.keepSeen(ctx, t.ID, seen); err != nil {
			w.Report.Warn("how a target took its sign-in could not be kept", err)
		}
	}
}

// handOver returns the gate for what a target is handed.
func (w targetDoor) handOver(t *Target) target.HandOver {
	return func(ctx context.Context, h target.Handing) error {
		_, err := w.mayHave(ctx, t, h)
		return err
	}
}

// mayHave decides whether a secret may go to a target, and binds what a person has agreed to to who answers there. It returns the agreement
// that was needed; nil for none.
func (w targetDoor) mayHave(ctx context.Context, t *Target, h target.Handing) (*target.Agreement, error) {
	trust := t.Trust
	trust.Unattended = w.Unattended
	agreed, err := trust.Check(h)
	if err != nil {
		if no := new(target.HandingError); errors.As(err, &no) {
			no.Target = t.ID
		}
		w.log.Note("nothing is sent: %v", err)
		return nil, err
	}
	if agreed != nil && agreed.To == nil {
		to := h.Identity()
		if err := w.Record.Bind(ctx, t.ID, h.Secret, to); err != nil {
			return nil, &OwnError{err}
		}
	}
	return agreed, nil
}

// saw keeps what a target has said, with the conversation since the last record.
func (w targetDoor) saw(ctx context.Context, id uuid.UUID, s TargetSeen) error {
	ctx, done := keeping(ctx)
	defer done()
	s.Exchange = w.log.Take()
	w.recorded++
	return w.keepSeen(ctx, id, s)
}

// keepSeen keeps what a target has said without the secrets that it was given: it may repeat them anywhere.
func (w targetDoor) keepSeen(ctx context.Context, id uuid.UUID, s TargetSeen) error {
	clean := struct {
		About     *target.About
		Layout    *target.Layout
		Diagnosis *diagnose.Diagnosis
	}{s.About, s.Layout, s.Diagnosis}
	raw, err := json.Marshal(clean)
	if err != nil {
		return err
	}
	clean.About, clean.Layout, clean.Diagnosis = nil, nil, nil
	if err := json.Unmarshal(w.secrets.JSON(raw), &clean); err != nil {
		return err
	}
	s.About, s.Layout, s.Diagnosis = clean.About, clean.Layout, clean.Diagnosis
	return w.Record.Saw(ctx, id, s)
}

// LookAt asks a target what it is and how its slots stand, and keeps that.
func (w *Work) LookAt(ctx context.Context, id uuid.UUID) error {
	w.Report.Doing("Looking at " + w.d.Title)
	out := TargetSeen{What: "answered"}
	t, err := targetDoor{w}.connect(ctx, id)
	if err == nil {
		if c, ok := t.session.(target.Certified); ok && c.Shown() != nil {
			out.Pin = c.Shown().SHA256
		}
		if in, ok := t.session.(target.SignedIn); ok {
			out.Takes = in.Scheme()
		}
		err = targetDoor{w}.tells(ctx, id, t, &out)
	}
	if l := out.Layout; l != nil {
		out.What = fmt.Sprintf("answered: %d slots used, %d free", l.Count(target.Used), l.Count(target.Free))
	}
	if out.Diagnosis, err = Explain(ctx, err, t.facts(w.d.Title)); err != nil {
		return err
	}
	out.Silent = out.Diagnosis != nil
	return targetDoor{w}.saw(ctx, id, out)
}

// ChangeTarget does that, and looks at the target anew. What was before is in the record of the last look.
func (w *Work) ChangeTarget(ctx context.Context, id uuid.UUID, change command.TargetChange) error {
	t, err := targetDoor{w}.connect(ctx, id)
	what := ""
	if err == nil {
		what, err = changeOn(ctx, t.session, w.d.Title, change)
	}
	diagnosis, err := Explain(ctx, err, t.facts(w.d.Title))
	if err != nil {
		return err
	}
	if err := (targetDoor{w}).saw(ctx, id, TargetSeen{What: what, Diagnosis: diagnosis}); err != nil {
		return err
	}
	if diagnosis != nil {
		return errors.New(diagnosis.Summary)
	}
	return w.LookAt(ctx, id)
}

func changeOn(ctx context.Context, s target.Session, name string, c command.TargetChange) (what string, err error) {
	unable := func(ability string) error { return &target.UnableError{Target: name, Ability: ability} }
	switch {
	case c.Free != "":
		f, ok := s.(target.Freer)
		if !ok {
			return "", unable("free")
		}
		return "freed the slot " + c.Free, f.Free(ctx, c.Free)
	case c.Schedule != nil:
		f, ok := s.(target.Scheduler)
		if !ok {
			return "", unable("schedule")
		}
		return "set when " + c.Slot + " records: " + c.Schedule.Mode, f.Schedule(ctx, c.Slot, *c.Schedule)
	default:
		f, ok := s.(target.Orderer)
		if !ok {
			return "", unable("order")
		}
		return fmt.Sprintf("put %d slots into order", len(c.Order)), f.Order(ctx, c.Order)
	}
}
