package jobs

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/exchange"
	"unlatch/core/latch"
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

// An Address is one device's line of an address plan.
type Address struct {
	Device uuid.UUID
	To     readdress.Setting
}

// Readdress begins a run that applies an address plan, one job a device: they restart at the same time, and one that fails does not
// hold the others up.
func (q *Queue) Readdress(ctx context.Context, site uuid.UUID, title string, plan []Address) (store.Run, error) {
	return begin(ctx, q, site, "readdress", title, plan, func(run uuid.UUID, a Address) river.JobArgs {
		return ReaddressArgs{Run: run, Device: a.Device, To: a.To}
	})
}

type readdressWorker struct {
	river.WorkerDefaults[ReaddressArgs]
	env *env
}

// Timeout leaves room for the slowest restart and for opening the latches again after it.
func (w *readdressWorker) Timeout(*river.Job[ReaddressArgs]) time.Duration {
	return readdress.Wait + jobTimeout
}

func (w *readdressWorker) Work(ctx context.Context, job *river.Job[ReaddressArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(o *opening) error { return o.readdress(ctx, job.Args.To) })
}

// readdress moves the device and opens again what its move has closed: the recorder gets the new URL too. A job that was killed
// after the device had gone finds it at the new address and has nothing left to send.
func (o *opening) readdress(ctx context.Context, to readdress.Setting) error {
	if !to.DHCP && o.d.Status.Device.Addr == to.Addr {
		return o.open(ctx)
	}
	log := exchange.NewLog(nil)
	out, err := o.move(ctx, to, log)
	diagnosis, err := explain(ctx, err, o.facts(o.d.Status.Device.XAddr, "the device service", ""))
	if err != nil {
		return err
	}
	if err := o.record(ctx, store.Finding{Kind: evidence.KindAddressed, Exchange: log.String(),
		Body: evidence.Addressed{Before: out.Before, To: to, After: out.After, Steps: out.Steps, Diagnosis: diagnosis}}); err != nil {
		return err
	}
	if diagnosis != nil {
		return nil
	}
	// What was heard at the old address is history; the device itself has just answered at the new one.
	err = o.env.store.Keep(ctx, "a sighting", func(ctx context.Context) error {
		_, err := o.env.store.Sight(ctx, o.site.ID, &o.run, discovery.Sighting{Method: discovery.WSDiscovery, At: time.Now().UTC(), Addr: out.After.Addr,
			Endpoint: o.d.Endpoint.String, Kind: o.d.Status.Device.Kind, Name: o.d.Status.Device.Name, Hardware: o.d.Status.Device.Hardware, XAddr: out.Service})
		return err
	})
	if err != nil {
		return err
	}
	return o.open(ctx)
}

func (o *opening) move(ctx context.Context, to readdress.Setting, log *exchange.Log) (readdress.Outcome, error) {
	if o.d.Status.Latch(latch.SignedIn).State != latch.Open && o.d.Status.SignedIn == nil {
		return readdress.Outcome{}, errors.New("it has not been signed in to; open its latches first")
	}
	if !o.d.Endpoint.Valid {
		return readdress.Outcome{}, errors.New("it has told no endpoint reference, so it could not be recognised at its new address")
	}
	in, err := o.signInOf(ctx, o.d)
	if err != nil {
		return readdress.Outcome{}, err
	}
	return readdress.Do(ctx, readdress.Request{
		Dial: o.guard, Service: o.d.Status.Device.XAddr, SignIn: in, Endpoint: o.d.Endpoint.String, To: to, Log: log,
		Locate: func(ctx context.Context) (netip.Addr, error) {
			return discovery.Locate(ctx, o.site.Ranges, o.d.Endpoint.String)
		},
		Doing: func(what string) {
			o.env.store.Progress(ctx, o.run, fmt.Sprintf("%s: %s", o.d.Title(), what), -1)
		},
	})
}
