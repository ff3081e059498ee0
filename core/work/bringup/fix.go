package bringup

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/fix"
	"unlatch/core/wire/onvif"
)

// Fix makes the change, records what it was and what it is, and opens the latches that the change was in the way of. What was before is
// recorded before anything is sent: a job that is killed in between has changed nothing that cannot be taken back.
func (w *Work) Fix(ctx context.Context, a command.Fix) error {
	if a.Undo && (fixChange{w}).standingFix(a.Action) == nil && w.d.Status.PutBack.Fixes[a.Action] {
		mine, err := w.mine(ctx, evidence.KindFix, string(a.Action))
		if err != nil {
			return err
		}
		if mine {
			return fixChange{w}.openAnew(ctx, a) // it was taken back before the work was killed
		}
	}
	c, in, err := w.signedClient(ctx)
	body := evidence.Fix{Action: a.Action, Undone: a.Undo}
	if err == nil {
		err = fixChange{w}.mend(ctx, c.Client, a, &body)
	}
	body.Pending = false
	if body.Diagnosis, err = Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the device", in.User)); err != nil {
		return err
	}
	if err := w.Keep(ctx, Finding{Subject: string(a.Action), Body: body}); err != nil {
		return err
	}
	if body.Diagnosis != nil {
		return w.Report.Problem(ctx, fmt.Sprintf("%s: %s %s", w.d.Title, body.Diagnosis.Summary, body.Diagnosis.Fix))
	}
	return fixChange{w}.openAnew(ctx, a)
}

// mine reports whether the newest record of a kind was made by this same work before it was killed.
func (w *Work) mine(ctx context.Context, kind evidence.Kind, subject string) (bool, error) {
	mine, err := w.Record.Mine(ctx, w.d, kind, subject)
	if err != nil {
		return false, &OwnError{err}
	}
	return mine, nil
}

// A fixChange mends one thing on a device, or takes that back.
type fixChange struct{ *Work }

// standingFix returns the newest change of a kind that stands on the device or was begun, or nil if there is none.
func (w fixChange) standingFix(a evidence.FixAction) *evidence.Fix {
	for i := range w.d.Status.Fixes {
		if r := &w.d.Status.Fixes[i]; r.Action == a {
			return r
		}
	}
	return nil
}

// intend records a change that is about to be sent, together with what undo has to put back. read returns the present value and whether it
// is the wanted one. If the change was begun before and not finished, or stands on the device, the value recorded then is kept: what the
// device says now may already be the work of the change.
func (w fixChange) intend(ctx context.Context, body *evidence.Fix, read func() (before string, stands bool, err error)) error {
	if begun := w.standingFix(body.Action); begun != nil && begun.Pending && begun.Undone == body.Undone {
		body.Before, body.User = begun.Before, begun.User
		return nil
	}
	was := w.standingFix(body.Action)
	if body.Undone && was != nil {
		body.Before = was.Before
	} else {
		before, stands, err := read()
		if err != nil {
			return err
		}
		if body.Before = before; stands && was != nil && was.User == body.User {
			body.Before = was.Before
		}
	}
	body.Pending = true
	return w.keep(ctx, Finding{Subject: string(body.Action), Body: *body})
}

// mend makes one change or undoes it.
func (w fixChange) mend(ctx context.Context, c *onvif.Client, a command.Fix, body *evidence.Fix) error {
	was := w.standingFix(a.Action)
	if a.Undo && was == nil {
		return &onvif.Fault{Codes: []string{"Sender", "ActionNotSupported"},
			Reason: "Unlatch has changed nothing of the kind on this device that it could take back"}
	}
	switch a.Action {
	case evidence.FixStreams:
		want := true
		if a.Undo {
			want = was.Before == "on"
		}
		err := w.intend(ctx, body, func() (string, bool, error) { on, err := fix.StreamsOn(ctx, c); return fix.OnOff(on), on, err })
		if err == nil {
			_, err = fix.SetStreams(ctx, c, want)
		}
		body.After = fix.OnOff(want)
		return err
	case evidence.FixClock:
		return w.setClock(ctx, c, a.Undo, was, body)
	case evidence.FixStreamUser:
		return w.streamUser(ctx, c, a, was, body)
	}
	return nil
}

// openAnew opens the latches that the fix was in the way of. What was read before the fix and may have changed by it is read again.
func (w fixChange) openAnew(ctx context.Context, a command.Fix) error {
	if w.OnlyChange {
		return nil
	}
	if a.Action == evidence.FixClock {
		return reachStep(w).reach(ctx) // the skew is read anew
	}
	if a.Action == evidence.FixStreams {
		if err := w.signInAgain(ctx); err != nil {
			return err
		}
	}
	if !a.Undo && a.Action != evidence.FixStreamUser {
		return w.Open(ctx)
	}
	if err := w.Read(ctx); err != nil {
		return err
	}
	w.d.Status.Proofs = nil // what was proven rested on what is no more
	if err := proveStep(w).prove(ctx); err != nil || a.Undo {
		return err
	}
	return w.Open(ctx)
}

// signInAgain signs in with the sign-in that is known to open the device, and reads again what the device says of itself.
func (w fixChange) signInAgain(ctx context.Context) error {
	s := w.d.Status.SignedIn
	if s == nil || s.SignIn == uuid.Nil {
		return nil
	}
	in, err := w.Decrypt(ctx, s.SignIn)
	if err != nil {
		return err
	}
	found, err := signInStep(w).try(ctx, s.SignIn, in, w.Leave(s.SignIn, signin.DeviceService))
	if err != nil {
		return ctx.Err() // the fix itself was read back; what is known of the device stays as it was
	}
	found.Label, found.User, found.Factory = s.Label, s.User, s.Factory
	return signInStep(w).signedIn(ctx, found)
}

// setClock sets the clock right, or back by as much as it was off.
func (w fixChange) setClock(ctx context.Context, c *onvif.Client, undo bool, was *evidence.Fix, body *evidence.Fix) error {
	want := time.Duration(0)
	if undo {
		if d, err := time.ParseDuration(was.Before); err == nil {
			want = d
		}
	}
	err := w.intend(ctx, body, func() (string, bool, error) {
		off, err := c.Clock(ctx)
		return off.Round(time.Second).String(), off.Abs() <= fix.Tolerance, err
	})
	if err != nil {
		return err
	}
	_, after, err := fix.SetClock(ctx, c, want)
	body.After = after.Round(time.Second).String()
	return err
}

// streamUser makes the user, whose password is on the keyring already, or takes it away.
func (w fixChange) streamUser(ctx context.Context, c *onvif.Client, a command.Fix, was *evidence.Fix, body *evidence.Fix) error {
	if a.Undo {
		k := w.d.Status.StreamKey
		user := was.User
		if k != nil && k.Made {
			user = k.User
		}
		if user == "" || was.Before != "none" {
			return &onvif.Fault{Codes: []string{"Sender", "UsernameMissing"},
				Reason: "Unlatch has made no user on this device that it could take away"}
		}
		body.User = user
		err := w.intend(ctx, body, func() (string, bool, error) { return "none", false, nil })
		if err == nil {
			err = fix.RemoveUser(ctx, c, user)
		}
		body.After = "none"
		if err != nil || k == nil {
			return err
		}
		return w.keep(ctx, Finding{Body: evidence.StreamKey{SignIn: k.SignIn, Label: k.Label, User: k.User, Removed: true}})
	}
	in, err := w.Decrypt(ctx, a.SignIn)
	if err != nil {
		return &OwnError{err}
	}
	k, err := w.Keyring.Key(ctx, a.SignIn)
	if err != nil {
		return &OwnError{err}
	}
	body.User = in.User
	err = w.intend(ctx, body, func() (string, bool, error) {
		there, err := fix.HasUser(ctx, c, in.User)
		if there {
			return in.User + " with another password", true, err
		}
		return "none", false, err
	})
	if err == nil {
		_, err = fix.MakeStreamUser(ctx, c, in.User, in.Secret)
	}
	if err != nil {
		return err
	}
	body.After = in.User
	return w.keep(ctx, Finding{Body: evidence.StreamKey{SignIn: a.SignIn, Label: k.Label, User: in.User, Made: body.Before == "none"}})
}
