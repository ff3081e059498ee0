package bringup

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/bridge"
	"unlatch/core/diagnose"
	"unlatch/core/latch"
	"unlatch/core/signin"
	"unlatch/core/target"
	"unlatch/core/target/hub"
)

// connected is a target that this work has a session with.
type connected struct {
	signIn  signin.SignIn
	leave   signin.Leave
	session target.Session
}

func (c *connected) user() string {
	if c == nil {
		return ""
	}
	return c.signIn.User
}

// connect is the session with a target, one in this work. A *diagnose.TargetShutError means that no sign-in is known to open it.
func (w *Work) connect(ctx context.Context, id uuid.UUID) (*connected, error) {
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
	c := &connected{}
	access, err := w.access(ctx, t, c)
	if err != nil {
		return c, err
	}
	c.leave = access.Leave
	if c.session, err = driver.Connect(ctx, access); err != nil {
		return c, err
	}
	w.targets[id] = c
	return c, nil
}

// access is the way to a target: with the sign-in of the device that it is, or with the one that a person has chosen for it.
func (w *Work) access(ctx context.Context, t *Target, c *connected) (target.Access, error) {
	a := target.Access{Dial: w.Guard, Address: t.Address, InScope: w.Guard.Allowed.Contains, Log: w.log, Settings: t.Settings, Pin: t.Pin,
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
		a.Address, a.SignIn = d.Status.Device.XAddr, c.signIn
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
func (w *Work) leaveTarget(t *Target) signin.Leave {
	policy := signin.Policy{Readable: t.Agreed, Unattended: w.Unattended}
	return func(ctx context.Context, s signin.Sending) (func(error), error) {
		if err := policy.Check(s); err != nil {
			return nil, err
		}
		return func(err error) {
			if refusedByTarget(err) {
				w.saw(context.WithoutCancel(ctx), t.ID, TargetSeen{What: "signing in", Refused: t.SignIn,
					Diagnosis: &diagnose.Diagnosis{Cause: diagnose.WrongSignIn, Summary: t.Name + " refuses its sign-in.",
						Fix: "Choose another sign-in on the target's page."}})
			}
		}, nil
	}
}

func refusedByTarget(err error) bool {
	return errors.As(err, new(*bridge.RefusedError)) || errors.As(err, new(*hub.RefusedError))
}

// saw keeps what a target has said, with the conversation since the last record.
func (w *Work) saw(ctx context.Context, id uuid.UUID, s TargetSeen) error {
	ctx, done := keeping(ctx)
	defer done()
	s.Exchange = w.log.Take()
	w.recorded++
	return w.Record.Saw(ctx, id, s)
}

// LookAt asks a target what it is and how its slots stand, and keeps that.
func (w *Work) LookAt(ctx context.Context, id uuid.UUID) error {
	w.Report.Doing("Looking at " + w.d.Title)
	out := TargetSeen{What: "answered"}
	t, err := w.connect(ctx, id)
	if err == nil {
		if c, ok := t.session.(target.Certified); ok && c.Shown() != nil {
			out.Pin = c.Shown().SHA256
		}
		if d, ok := t.session.(target.Describer); ok {
			var about target.About
			if about, err = d.Describe(ctx); err == nil {
				out.About = &about
			}
		}
	}
	if err == nil {
		if l, ok := t.session.(target.Lister); ok {
			var layout target.Layout
			if layout, err = l.Slots(ctx); err == nil {
				out.Layout = &layout
				out.What = fmt.Sprintf("answered: %d slots used, %d free", layout.Count(target.Used), layout.Count(target.Free))
			}
		}
	}
	if out.Diagnosis, err = Explain(ctx, err, w.facts("", w.d.Title, t.user())); err != nil {
		return err
	}
	return w.saw(ctx, id, out)
}

// A TargetChange is one thing to do on it that is about no single camera.
type TargetChange struct {
	Free     string           `json:"free,omitempty"`  // the slot whose block shall be given up
	Order    []string         `json:"order,omitempty"` // its slots, the first at a glance first
	Slot     string           `json:"slot,omitempty"`  // whose schedule is set
	Schedule *target.Schedule `json:"schedule,omitempty"`
}

// ChangeTarget does that, and looks at the target anew. What was before is in the record of the last look.
func (w *Work) ChangeTarget(ctx context.Context, id uuid.UUID, change TargetChange) error {
	t, err := w.connect(ctx, id)
	what := ""
	if err == nil {
		what, err = change.on(ctx, t.session, w.d.Title)
	}
	diagnosis, err := Explain(ctx, err, w.facts("", w.d.Title, t.user()))
	if err != nil {
		return err
	}
	if err := w.saw(ctx, id, TargetSeen{What: what, Diagnosis: diagnosis}); err != nil {
		return err
	}
	if diagnosis != nil {
		return errors.New(diagnosis.Summary)
	}
	return w.LookAt(ctx, id)
}

func (c TargetChange) on(ctx context.Context, s target.Session, name string) (what string, err error) {
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
