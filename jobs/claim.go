package jobs

import (
	"context"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/evidence"
	"unlatch/core/exchange"
	"unlatch/core/onvif"
	"unlatch/core/signin"
	"unlatch/store"
)

// ClaimArgs gives a factory-fresh device its first account, or the account that it has from the factory a password of its own. The password
// is on the keyring before the job exists: a crash between saving and sending locks nobody out.
type ClaimArgs struct {
	Run    uuid.UUID `json:"run"`
	Device uuid.UUID `json:"device"`
	SignIn uuid.UUID `json:"sign_in"`
}

// Kind implements river.JobArgs.
func (ClaimArgs) Kind() string { return "claim" }

// A Claim is one device with the keyring entry that it shall take.
type Claim struct{ Device, SignIn uuid.UUID }

// Claim begins a run that claims devices.
func (q *Queue) Claim(ctx context.Context, site uuid.UUID, title string, claims []Claim) (store.Run, error) {
	return begin(ctx, q, site, "claim", title, int64(len(claims)), claims, func(run uuid.UUID, c Claim) river.JobArgs {
		return ClaimArgs{Run: run, Device: c.Device, SignIn: c.SignIn}
	})
}

type claimWorker struct {
	river.WorkerDefaults[ClaimArgs]
	env *env
}

func (w *claimWorker) Work(ctx context.Context, job *river.Job[ClaimArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(o *deviceWork) error { return o.claim(ctx, job.Args.SignIn) })
}

// claim makes the first account and then signs in with it: a device is claimed when it takes the sign-in, not when it said yes. A
// device that is not open any more is left alone; what is on the keyring is tried on it in the usual way.
func (o *deviceWork) claim(ctx context.Context, key uuid.UUID) error {
	o.env.store.Progress(ctx, o.run, o.d.Title()+": claiming it", -1)
	in, err := o.decrypt(ctx, key)
	if err != nil {
		return err
	}
	s := o.d.Status.SignedIn
	if s == nil || !s.Open && !s.Factory {
		return o.open(ctx)
	}
	log := o.newLog()
	// A claim that was cut off may have given the device its account already: then it takes the new one, and nothing is sent again.
	if s.Open {
		if _, err := o.try(ctx, uuid.Nil, signin.SignIn{}, nil, log); refused(err) {
			return o.openWith(ctx, key, in, log)
		}
	}
	c, old, err := o.client(ctx, o.d, log)
	if c != nil {
		defer c.Close()
	}
	switch {
	case err != nil:
	case s.Open:
		err = c.CreateUser(ctx, in.User, in.Secret, "Administrator")
	case in.User != old.User:
		return o.open(ctx) // the account that it had from the factory has gone since
	case refusedBefore(ctx, c):
		return o.openWith(ctx, key, in, log)
	default:
		err = c.SetUser(ctx, in.User, in.Secret, "Administrator")
	}
	if diagnosis, err := explain(ctx, err, o.facts(o.d.Status.Device.XAddr, "the device", in.User)); err != nil || diagnosis != nil {
		if err != nil {
			return err
		}
		return o.record(ctx, store.Finding{Exchange: log.String(), Body: evidence.SignedIn{Open: s.Open, Factory: s.Factory, SignIn: s.SignIn, Label: s.Label, User: s.User, Info: s.Info, Diagnosis: diagnosis}})
	}
	return o.openWith(ctx, key, in, log)
}

// refusedBefore reports whether the device refuses the account that it had from the factory: an attempt that was cut off has changed
// its password.
func refusedBefore(ctx context.Context, c *onvif.Client) bool {
	_, err := c.Info(ctx)
	return refused(err)
}

// openWith signs in with the account that was just made, before any other key of the ring is tried, and opens what follows.
func (o *deviceWork) openWith(ctx context.Context, key uuid.UUID, in signin.SignIn, log *exchange.Log) error {
	k, err := o.env.store.SignIn(ctx, key)
	if err != nil {
		return err
	}
	found, err := o.tryKey(ctx, k, store.DeviceService, false, log, func(k store.SignIn, in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
		return o.try(ctx, k.ID, in, leave, log)
	})
	if err != nil {
		return o.notSignedIn(ctx, evidence.SignedIn{Tried: []string{k.Label}}, err, in.User, log)
	}
	found.SignIn, found.Label, found.User = key, k.Label, in.User
	if err := o.signedIn(ctx, found, log); err != nil {
		return err
	}
	return o.open(ctx)
}
