package jobs

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/evidence"
	"unlatch/core/onvif"
	"unlatch/core/remedy"
	"unlatch/store"
)

// RemedyArgs mends one thing on one device, or takes that back.
type RemedyArgs struct {
	Run    uuid.UUID     `json:"run"`
	Device uuid.UUID     `json:"device"`
	Action remedy.Action `json:"action"`
	SignIn uuid.UUID     `json:"sign_in"` // of a stream user: the keyring entry that the device shall take
	Undo   bool          `json:"undo"`
}

// Kind implements river.JobArgs.
func (RemedyArgs) Kind() string { return "remedy" }

// A Remedy is one device with what to do on it.
type Remedy struct {
	Device uuid.UUID
	Action remedy.Action
	SignIn uuid.UUID
	Undo   bool
}

// Remedy begins a run that mends devices, one job each.
func (q *Queue) Remedy(ctx context.Context, site uuid.UUID, title string, list []Remedy) (store.Run, error) {
	return begin(ctx, q, site, "remedy", title, int64(len(list)), list, func(run uuid.UUID, r Remedy) river.JobArgs {
		return RemedyArgs{Run: run, Device: r.Device, Action: r.Action, SignIn: r.SignIn, Undo: r.Undo}
	})
}

type remedyWorker struct {
	river.WorkerDefaults[RemedyArgs]
	env *env
}

func (w *remedyWorker) Work(ctx context.Context, job *river.Job[RemedyArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(o *deviceWork) error { return o.remedy(ctx, job.Args) })
}

// remedy makes the change, records what it was and what it is, and opens the latches that the change was in the way of. What was before is
// recorded before anything is sent: a job that is killed in between has changed nothing that cannot be taken back.
func (o *deviceWork) remedy(ctx context.Context, a RemedyArgs) error {
	log := o.newLog()
	c, in, err := o.client(ctx, o.d, log)
	body := evidence.Remedy{Action: a.Action, Undone: a.Undo}
	if err == nil {
		defer c.Close()
		err = o.mend(ctx, c, a, &body)
	}
	body.Pending = false
	if body.Diagnosis, err = explain(ctx, err, o.facts(o.d.Status.Device.XAddr, "the device", in.User)); err != nil {
		return err
	}
	if err := o.record(ctx, store.Finding{Subject: string(a.Action), Body: body, Exchange: log.String()}); err != nil {
		return err
	}
	if body.Diagnosis != nil {
		return o.env.store.RunProblem(ctx, o.run, fmt.Sprintf("%s: %s %s", o.d.Title(), body.Diagnosis.Summary, body.Diagnosis.Fix))
	}
	if onlyChange {
		return nil
	}
	return o.openAnew(ctx, a)
}

// onlyChange leaves out what follows a change, for tests of the change.
var onlyChange bool

// made is the newest change of a kind on the device that stands or was begun; nil for none.
func (o *deviceWork) made(a remedy.Action) *evidence.Remedy {
	for i := range o.d.Status.Remedies {
		if r := &o.d.Status.Remedies[i]; r.Action == a {
			return r
		}
	}
	return nil
}

// intend records a change that is about to be sent, with what undo has to put back; of an undo, that is what it puts back. One that was
// begun before and not finished keeps it: what the device says now may be its work already. So does one that stands on the device: read
// tells what there is now, and whether that is what the change wants.
func (o *deviceWork) intend(ctx context.Context, body *evidence.Remedy, read func() (before string, stands bool, err error)) error {
	if begun := o.made(body.Action); begun != nil && begun.Pending && begun.Undone == body.Undone {
		body.Before, body.User = begun.Before, begun.User
		return nil
	}
	was := o.made(body.Action)
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
	return o.record(ctx, store.Finding{Subject: string(body.Action), Body: *body})
}

// mend makes one change, or takes it back to what was before it.
func (o *deviceWork) mend(ctx context.Context, c *onvif.Client, a RemedyArgs, body *evidence.Remedy) error {
	was := o.made(a.Action)
	if a.Undo && was == nil {
		return &onvif.Fault{Codes: []string{"Sender", "ActionNotSupported"}, Reason: "Unlatch has changed nothing of the kind on this device that it could take back"}
	}
	switch a.Action {
	case remedy.Streams:
		want := true
		if a.Undo {
			want = was.Before == "on"
		}
		err := o.intend(ctx, body, func() (string, bool, error) { on, err := remedy.StreamsOn(ctx, c); return remedy.OnOff(on), on, err })
		if err == nil {
			_, err = remedy.SetStreams(ctx, c, want)
		}
		body.After = remedy.OnOff(want)
		return err
	case remedy.Clock:
		return o.setClock(ctx, c, a.Undo, was, body)
	case remedy.StreamUser:
		return o.streamUser(ctx, c, a, was, body)
	}
	return nil
}

// openAnew opens latches with what the remedy has changed. What rested on what it was before is asked for again.
func (o *deviceWork) openAnew(ctx context.Context, a RemedyArgs) error {
	if a.Action == remedy.Clock {
		return o.reach(ctx) // the skew is read anew
	}
	if a.Action == remedy.Streams {
		if err := o.signInAgain(ctx); err != nil {
			return err
		}
	}
	if !a.Undo && a.Action != remedy.StreamUser {
		return o.open(ctx)
	}
	fresh, err := o.env.store.Device(ctx, o.d.ID)
	if err != nil {
		return err
	}
	*o.d = *fresh
	o.d.Status.Proofs = nil // what was proven rested on what is no more
	if err := o.prove(ctx); err != nil || a.Undo {
		return err
	}
	return o.open(ctx)
}

// signInAgain reads what the device says of itself once more, with the sign-in that is known to open it.
func (o *deviceWork) signInAgain(ctx context.Context) error {
	s := o.d.Status.SignedIn
	if s == nil || s.SignIn == uuid.Nil {
		return nil
	}
	in, err := o.decrypt(ctx, s.SignIn)
	if err != nil {
		return err
	}
	log := o.newLog()
	found, err := o.try(ctx, s.SignIn, in, o.leave(o.d, s.SignIn, store.DeviceService, nil), log)
	if err != nil {
		return ctx.Err() // the remedy itself was read back; what is known of the device stays as it was
	}
	found.Label, found.User, found.Factory = s.Label, s.User, s.Factory
	return o.signedIn(ctx, found, log)
}

// setClock sets the clock right, or back by as much as it was off.
func (o *deviceWork) setClock(ctx context.Context, c *onvif.Client, undo bool, was *evidence.Remedy, body *evidence.Remedy) error {
	want := time.Duration(0)
	if undo {
		if d, err := time.ParseDuration(was.Before); err == nil {
			want = d
		}
	}
	err := o.intend(ctx, body, func() (string, bool, error) {
		off, err := c.Clock(ctx)
		return off.Round(time.Second).String(), off.Abs() <= remedy.Tolerance, err
	})
	if err != nil {
		return err
	}
	_, after, err := remedy.SetClock(ctx, c, want)
	body.After = after.Round(time.Second).String()
	return err
}

// streamUser makes the user, whose password is on the keyring already, or takes it away.
func (o *deviceWork) streamUser(ctx context.Context, c *onvif.Client, a RemedyArgs, was *evidence.Remedy, body *evidence.Remedy) error {
	if a.Undo {
		k := o.d.Status.StreamKey
		user := was.User
		if k != nil && k.Made {
			user = k.User
		}
		if user == "" || was.Before != "none" {
			return &onvif.Fault{Codes: []string{"Sender", "UsernameMissing"}, Reason: "Unlatch has made no user on this device that it could take away"}
		}
		body.User = user
		err := o.intend(ctx, body, func() (string, bool, error) { return "none", false, nil })
		if err == nil {
			err = remedy.RemoveUser(ctx, c, user)
		}
		body.After = "none"
		if err != nil || k == nil {
			return err
		}
		return o.record(ctx, store.Finding{Body: evidence.StreamKey{SignIn: k.SignIn, Label: k.Label, User: k.User, Removed: true}})
	}
	in, err := o.decrypt(ctx, a.SignIn)
	if err != nil {
		return &ownError{err}
	}
	k, err := o.env.store.SignIn(ctx, a.SignIn)
	if err != nil {
		return &ownError{err}
	}
	body.User = in.User
	err = o.intend(ctx, body, func() (string, bool, error) {
		there, err := remedy.HasUser(ctx, c, in.User)
		if there {
			return in.User + " with another password", true, err
		}
		return "none", false, err
	})
	if err == nil {
		_, err = remedy.MakeStreamUser(ctx, c, in.User, in.Secret)
	}
	if err != nil {
		return err
	}
	body.After = in.User
	return o.record(ctx, store.Finding{Body: evidence.StreamKey{SignIn: a.SignIn, Label: k.Label, User: in.User, Made: body.Before == "none"}})
}
