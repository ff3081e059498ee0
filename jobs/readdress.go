package jobs

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/exchange"
	"unlatch/core/readdress"
	"unlatch/store"
)

// ReaddressArgs gives one device another address.
type ReaddressArgs struct {
	Run    uuid.UUID         `json:"run"`
	Device uuid.UUID         `json:"device"`
	To     readdress.Setting `json:"to"`
}

// Kind implements river.JobArgs.
func (ReaddressArgs) Kind() string { return "readdress" }

// InsertOpts implements river.JobArgsWithInsertOpts: a job that waits for a restart costs nothing and holds up none that plays streams.
func (ReaddressArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: addresses} }

// An Address is one device's line of an address plan.
type Address struct {
	Device uuid.UUID
	To     readdress.Setting
}

// Readdress begins a run that applies an address plan, one job a device: they restart at the same time, and one that fails does not
// hold the others up.
func (q *Queue) Readdress(ctx context.Context, site uuid.UUID, title string, plan []Address) (store.Run, error) {
	// Two steps a device: it is moved, and its latches are opened anew.
	return begin(ctx, q, site, "readdress", title, 2*int64(len(plan)), plan, func(run uuid.UUID, a Address) river.JobArgs {
		return ReaddressArgs{Run: run, Device: a.Device, To: a.To}
	})
}

type readdressWorker struct {
	river.WorkerDefaults[ReaddressArgs]
	env *env
}

// Timeout leaves room for the slowest restart.
func (w *readdressWorker) Timeout(*river.Job[ReaddressArgs]) time.Duration {
	return readdress.Wait + jobTimeout/2
}

func (w *readdressWorker) Work(ctx context.Context, job *river.Job[ReaddressArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(o *deviceWork) error { return o.readdress(ctx, job.Args.To) })
}

// readdress moves the device; a job of its own opens again what the move has closed, so that the recorder gets the new URL too. A job
// that was killed after the device had gone finds it at the new address and sends only what is not so yet.
func (o *deviceWork) readdress(ctx context.Context, to readdress.Setting) error {
	log := o.newLog()
	out, err := o.move(ctx, to, log)
	diagnosis, err := explain(ctx, err, o.facts(o.d.Status.Device.XAddr, "the device service", ""))
	if err != nil {
		return err
	}
	if diagnosis == nil && reflect.DeepEqual(out.Before, out.After) && !o.moving() {
		return o.openLater(ctx) // all was so already: an earlier change is what undo takes back
	}
	if err := o.record(ctx, store.Finding{Exchange: log.String(),
		Body: evidence.Addressed{Before: out.Before, To: to, After: out.After, Steps: out.Steps, Diagnosis: diagnosis}}); err != nil {
		return err
	}
	if diagnosis != nil {
		return o.env.store.StepDone(ctx, o.run) // the second step of it falls away
	}
	// What was heard at the old address is history; the device itself has just answered at the new one.
	_, err = o.sight(ctx, discovery.Sighting{Method: discovery.WSDiscovery, At: time.Now().UTC(), Addr: out.After.Addr,
		Endpoint: o.d.Endpoint.String, Kind: o.d.Status.Device.Kind, Name: o.d.Status.Device.Name, Hardware: o.d.Status.Device.Hardware, XAddr: out.Service})
	if err != nil {
		return err
	}
	return o.openLater(ctx)
}

// moving reports whether the device's move was recorded as begun and not as ended.
func (o *deviceWork) moving() bool { a := o.d.Status.Addressed; return a != nil && a.Pending }

// openLater adds the job that opens the device's latches to the same run, once.
func (o *deviceWork) openLater(ctx context.Context) error {
	_, err := river.ClientFromContext[pgxTx](ctx).Insert(ctx, OpenArgs{Run: o.run, Device: o.d.ID}, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByArgs: true}})
	return err
}

func (o *deviceWork) move(ctx context.Context, to readdress.Setting, log *exchange.Log) (readdress.Outcome, error) {
	if o.d.Status.SignedIn == nil {
		return readdress.Outcome{}, errors.New("it has not been signed in to; open its latches first")
	}
	if !o.d.Endpoint.Valid {
		return readdress.Outcome{}, errors.New("it has told no endpoint reference, so it could not be recognised at its new address")
	}
	in, err := o.signInOf(ctx, o.d)
	if err != nil {
		return readdress.Outcome{}, err
	}
	var begun *readdress.Setting
	if a := o.d.Status.Addressed; o.moving() && reflect.DeepEqual(a.To, to) {
		begun = &a.Before
	}
	return readdress.Do(ctx, readdress.Request{
		Begun: begun,
		Intend: func(before readdress.Setting) error {
			body := evidence.Addressed{Pending: true, Before: before, To: to, Steps: []readdress.Step{}}
			if err := o.record(ctx, store.Finding{Body: body}); err != nil {
				return &ownError{err}
			}
			o.d.Status.Addressed = &body
			return nil
		},
		Dial: o.guard, Service: o.d.Status.Device.XAddr, SignIn: in, Leave: o.leave(o.d, o.d.Status.SignedIn.SignIn, store.DeviceService, nil), Endpoint: o.d.Endpoint.String, To: to, Log: log,
		Locate: func(ctx context.Context) (netip.Addr, error) {
			return discovery.Locate(ctx, o.site.Ranges, o.d.Endpoint.String)
		},
		Doing: func(what string) {
			o.env.store.Progress(ctx, o.run, fmt.Sprintf("%s: %s", o.d.Title(), what), -1)
		},
	})
}
