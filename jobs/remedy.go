package jobs

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/evidence"
	"unlatch/core/exchange"
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
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(o *opening) error { return o.remedy(ctx, job.Args) })
}

// remedy makes the change, records what it was and what it is, and opens the latches that the change was in the way of.
func (o *opening) remedy(ctx context.Context, a RemedyArgs) error {
	log := exchange.NewLog(nil)
	c, in, err := o.client(ctx, o.d, log)
	body := evidence.Remedy{Action: a.Action, Undone: a.Undo}
	if err == nil {
		defer c.Close()
		switch a.Action {
		case remedy.Streams:
			err = o.switchStreams(ctx, c, a.Undo, &body)
		case remedy.Clock:
			err = o.setClock(ctx, c, a.Undo, &body)
		case remedy.StreamUser:
			err = o.streamUser(ctx, c, a, &body)
		}
	}
	if body.Diagnosis, err = explain(ctx, err, o.facts(o.d.Status.Device.XAddr, "the device", in.User)); err != nil {
		return err
	}
	if err := o.record(ctx, store.Finding{Kind: evidence.KindRemedy, Subject: string(a.Action), Body: body, Exchange: log.String()}); err != nil {
		return err
	}
	if body.Diagnosis != nil {
		return o.env.store.RunProblem(ctx, o.run, fmt.Sprintf("%s: %s %s", o.d.Title(), body.Diagnosis.Summary, body.Diagnosis.Fix))
	}
	return o.openAnew(ctx, a)
}

// openAnew opens latches with what the remedy has changed. What rested on what it was before is asked for again.
func (o *opening) openAnew(ctx context.Context, a RemedyArgs) error {
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
func (o *opening) signInAgain(ctx context.Context) error {
	s := o.d.Status.SignedIn
	if s == nil || s.SignIn == uuid.Nil {
		return nil
	}
	in, err := o.unseal(ctx, s.SignIn)
	if err != nil {
		return err
	}
	log := exchange.NewLog(nil)
	found, err := o.try(ctx, s.SignIn, in, o.leave(o.d, s.SignIn, store.DeviceService, nil), log)
	if err != nil {
		return ctx.Err() // the remedy itself was read back; what is known of the device stays as it was
	}
	found.Label, found.User, found.Factory = s.Label, s.User, s.Factory
	return o.signedIn(ctx, found, log)
}

func (o *opening) switchStreams(ctx context.Context, c *onvif.Client, undo bool, body *evidence.Remedy) error {
	before, err := remedy.SetStreams(ctx, c, !undo)
	say := map[bool]string{true: "on", false: "off"}
	body.Before, body.After = say[before], say[!undo]
	return err
}

func (o *opening) setClock(ctx context.Context, c *onvif.Client, undo bool, body *evidence.Remedy) error {
	want := time.Duration(0)
	if undo {
		for _, r := range o.d.Status.Remedies {
			if r.Action == remedy.Clock {
				if d, err := time.ParseDuration(r.Before); err == nil {
					want = d
				}
			}
		}
	}
	before, after, err := remedy.SetClock(ctx, c, want)
	body.Before, body.After = before.Round(time.Second).String(), after.Round(time.Second).String()
	return err
}

// streamUser makes the user, whose password is on the keyring already, or takes it away.
func (o *opening) streamUser(ctx context.Context, c *onvif.Client, a RemedyArgs, body *evidence.Remedy) error {
	key := a.SignIn
	if a.Undo {
		k := o.d.Status.StreamKey
		if k == nil || !k.Made {
			return &onvif.Fault{Codes: []string{"Sender", "UsernameMissing"}, Reason: "Unlatch has made no user on this device that it could take away"}
		}
		body.Before, body.After = k.User, "none"
		if err := remedy.RemoveUser(ctx, c, k.User); err != nil {
			return err
		}
		return o.record(ctx, store.Finding{Kind: evidence.KindStreamKey, Body: evidence.StreamKey{SignIn: k.SignIn, Label: k.Label, User: k.User, Removed: true}})
	}
	in, err := o.unseal(ctx, key)
	if err != nil {
		return &ownError{err}
	}
	k, err := o.env.store.SignIn(ctx, key)
	if err != nil {
		return &ownError{err}
	}
	existed, err := remedy.MakeStreamUser(ctx, c, in.User, in.Secret)
	if err != nil {
		return err
	}
	body.Before, body.After = "none", in.User
	if existed {
		body.Before = in.User + " with another password"
	}
	return o.record(ctx, store.Finding{Kind: evidence.KindStreamKey, Body: evidence.StreamKey{SignIn: key, Label: k.Label, User: in.User, Made: !existed}})
}
