package bringup

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/diagnose"
	"unlatch/core/evidence"
	"unlatch/core/latch"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/core/target"
)

// confirmWait is how long a target gets to show the picture.
const confirmWait = 12 * time.Second

// place puts the camera on every wanted target that does not have it.
func (w *Work) place(ctx context.Context) error {
	for _, p := range w.d.Status.Placements {
		if p.Slot != "" && p.Diagnosis == nil && !p.Moved {
			continue
		}
		put, diagnosis, err := w.placeOn(ctx, p)
		if err != nil {
			return err
		}
		body := evidence.Placed{Slot: put.Slot, URL: w.d.Status.Streams[0].URL, Ref: string(put.Ref), Diagnosis: diagnosis}
		if err := w.Keep(ctx, Finding{Subject: p.Target.String(), Body: body}); err != nil {
			return err
		}
	}
	return nil
}

func (w *Work) placeOn(ctx context.Context, p latch.Placement) (put target.Placement, _ *diagnose.Diagnosis, err error) {
	t, err := w.connect(ctx, p.Target)
	if err == nil {
		var u streamurl.URL
		if u, err = streamurl.Parse(w.d.Status.Streams[0].URL); err != nil {
			return put, nil, err
		}
		if u.SignIn, err = w.streamSignIn(ctx); err != nil {
			return put, nil, err
		}
		w.log.Know(u.SignIn)
		// One at a time on a target: two that look for a free slot at once would both take it.
		err = w.Record.Alone(ctx, p.Target, func() (err error) {
			put, err = t.session.Place(ctx, target.Camera{Identity: w.identity(), Name: w.d.Title, Address: w.d.Addr, URL: u.Reveal()})
			return err
		})
	}
	diagnosis, err := Explain(ctx, err, w.facts("", "the recorder", t.user()))
	return put, diagnosis, err
}

// identity is what a target keeps to recognise the camera by: its endpoint reference, else Unlatch's own ID for it.
func (w *Work) identity() string {
	if w.d.Endpoint != "" {
		return w.d.Endpoint
	}
	return "urn:uuid:" + w.d.ID.String()
}

// connected is a target that this work has a session with.
type connected struct {
	signIn  signin.SignIn
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
	access := target.Access{Dial: w.Guard, Address: t.Address, InScope: w.Guard.Allowed.Contains, Log: w.log}
	if d := t.Device; d != nil {
		s := d.Status.SignedIn
		if s == nil || d.Status.Latch(latch.SignedIn).State != latch.Open {
			return nil, &diagnose.TargetShutError{Name: t.Name}
		}
		if c.signIn, err = w.signInOf(ctx, d); err != nil {
			return nil, err
		}
		access.Address, access.SignIn = d.Status.Device.XAddr, c.signIn
		if d.Status.Pin != nil {
			access.Pin = d.Status.Pin.Certificate.SHA256
		}
		access.Leave = w.leave(d, s.SignIn, signin.DeviceService, nil)
	}
	if c.session, err = driver.Connect(ctx, access); err != nil {
		return c, err
	}
	w.targets[id] = c
	return c, nil
}

// confirm asks each target that has the camera for its own state.
func (w *Work) confirm(ctx context.Context) error {
	for _, p := range w.d.Status.Placements {
		if p.Confirmed {
			continue
		}
		t, err := w.connect(ctx, p.Target)
		if errors.As(err, new(*diagnose.TargetShutError)) {
			return nil // it had the camera before, and says nothing to anybody now
		}
		var report target.Report
		if err == nil {
			report, err = t.session.Confirm(ctx, target.Ref(p.Ref), confirmWait)
		}
		diagnosis, err := Explain(ctx, err, w.facts("", "the recorder", t.user()))
		if err != nil {
			return err
		}
		if diagnosis == nil && !report.Arrived {
			diagnosis = notArrived(p.Name, report)
		}
		body := evidence.Confirmed{Says: report.Says, AfterMS: report.After.Milliseconds(), Diagnosis: diagnosis}
		if err := w.Keep(ctx, Finding{Subject: p.Target.String(), Body: body}); err != nil {
			return err
		}
	}
	return nil
}

// notArrived words that a target has a camera and does not get its picture.
func notArrived(name string, r target.Report) *diagnose.Diagnosis {
	return &diagnose.Diagnosis{Cause: diagnose.TargetWaiting,
		Summary: fmt.Sprintf("%s has the camera and no picture: it reports %s after %s.", diagnose.Capital(name), r.Says,
			r.After.Round(time.Second)),
		Fix: "Unlatch itself plays this stream, so look at the way between recorder and camera, the sign-in schemes that the recorder speaks, " +
			"and the camera's session limit.",
		Seen: "it reports " + r.Says}
}

// Remove takes the camera off a target. A target that does not answer keeps the camera, and so does the record.
func (w *Work) Remove(ctx context.Context, from uuid.UUID) error {
	for _, p := range w.d.Status.Placements {
		if p.Target != from || p.Slot == "" {
			continue
		}
		w.Report.Doing(fmt.Sprintf("%s: taking it off %s", w.d.Title, p.Name))
		t, err := w.connect(ctx, from)
		if errors.As(err, new(*diagnose.TargetShutError)) {
			return fmt.Errorf("%s is not signed in to, so the camera stays on it", p.Name)
		}
		if err == nil {
			err = t.session.Remove(ctx, target.Ref(p.Ref))
		}
		diagnosis, err := Explain(ctx, err, w.facts("", "the recorder", t.user()))
		if err != nil {
			return err
		}
		if diagnosis != nil {
			return errors.New(diagnosis.Summary)
		}
		if err := w.Keep(ctx, Finding{Subject: from.String(), Body: evidence.Placed{Removed: true}}); err != nil {
			return err
		}
	}
	return nil
}
