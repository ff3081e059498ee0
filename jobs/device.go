package jobs

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/journal"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/target"
	"unlatch/core/work/bringup"
	"unlatch/store"
)

// A deviceJob is one job's work on one device: core's steps over the store.
type deviceJob struct {
	*bringup.Work
	env  *env
	site store.Site
	run  uuid.UUID
	// changed is when each entry of the keyring was changed last that was taken off it.
	changed *sync.Map
}

// inRun returns the run that findings are kept with; nil for work that belongs to none.
func (j *deviceJob) inRun() *uuid.UUID {
	if j.run == uuid.Nil {
		return nil
	}
	return &j.run
}

// onDevice runs one job's work on one device and counts it as a step of its run.
func (e *env) onDevice(ctx context.Context, run, device uuid.UUID, work func(*deviceJob) error) error {
	d, err := e.store.Devices.Get(ctx, device)
	if err != nil {
		return e.finish(ctx, run, err)
	}
	defer e.announce(d.Site, run)
	job, err := e.deviceJob(ctx, run, d)
	if err == nil {
		err = work(job)
		job.Close()
	}
	if err == nil { // a change that was agreed on, or that put right what was, is told as that at once
		_, err = e.settle(ctx, device, time.Time{}, time.Now().UTC())
	}
	if err != nil {
		return e.finish(ctx, run, err)
	}
	// Work that is done is counted also while the process ends: it would be done once more otherwise.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	return e.store.Keep(ctx, "the progress of a run", func(ctx context.Context) error { return e.store.Runs.StepDone(ctx, run) })
}

// deviceJob prepares work on a device. Its guard lets out to the ranges of the site, to the strays that somebody has consented to, and to
// the stated addresses of its targets.
func (e *env) deviceJob(ctx context.Context, run uuid.UUID, d *store.Device) (*deviceJob, error) {
	way, err := e.store.Sites.WayOut(ctx, d.Site)
	if err != nil {
		return nil, err
	}
	guard, site := way.Guard(), way.Site
	guard.Resolver = e.resolver
	if e.traced {
		guard.Trace = connecting
	}
	job := &deviceJob{env: e, site: site, run: run, changed: &sync.Map{}}
	job.Work = bringup.Start(d.Latch(), bringup.Config{
		Record: record{job}, Keyring: keyring{job}, Report: reporter{job}, Targets: drivers, Guard: guard,
		Link: e.links.of(site), Lists: &e.lists,
		Watch: e.hooks.Watch, OnlyChange: e.hooks.OnlyChanges, OnlyLook: e.onlyLooks,
		Budgets: e.hooks.Budgets,
	})
	return job, nil
}

// hooks are for tests of the work: they end it as a kill would, and wait less.
type hooks struct {
	// Watch is told before each thing that is sent, after each answer and around each record.
	Watch func()
	// Places is how many devices are worked on at once; 0 for as many as the machine has memory for.
	Places int
	// OnlyLooks is that of Options.
	OnlyLooks bool
	// OnlyChanges leaves out the latches that are opened after a change.
	OnlyChanges bool
	// Budgets are other times for some steps.
	Budgets map[latch.Name]time.Duration
	// LookAgain are other waits before a target is asked again.
	LookAgain []time.Duration
	// Resolver looks names up in place of the machine's name servers.
	Resolver address.Resolver
	// RoundsEvery is how often looks that are due are taken; 0 for the usual time. DoubtLater is how soon a target is asked again that has
	// lost something.
	RoundsEvery, DoubtLater time.Duration
	// AwayAfter is for how long the database does not answer before a worker elsewhere takes its line for cut; 0 for the usual time. AwayClock
	// is the time of what it sees then; nil for this process's.
	AwayAfter time.Duration
	AwayClock stamper
	// Journal is that of Options.
	Journal *journal.Journal
	// TellEvery is how often news are looked for, how long they are held back, and how soon a message is tried again; 0 for the usual times.
	TellEvery time.Duration
	// RetryAfter is the wait before a job that was cut short begins again; 0 for a second.
	RetryAfter time.Duration
}

// record is the store as the memory of core's steps.
type record struct{ job *deviceJob }

func (r record) store() *store.Store { return r.job.env.store }

func (r record) Device(ctx context.Context, id uuid.UUID) (*latch.Device, error) {
	d, err := r.store().Devices.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	return d.Latch(), nil
}

func (r record) Neighbours(ctx context.Context) ([]latch.Device, error) {
	list, err := r.store().Devices.List(ctx, r.job.site.ID)
	out := make([]latch.Device, len(list))
	for i := range list {
		out[i] = *list[i].Latch()
	}
	return out, err
}

func (r record) Add(ctx context.Context, d *latch.Device, f bringup.Finding) error {
	return r.add(ctx, d, f)
}

func (r record) AddLater(ctx context.Context, d *latch.Device, f ...bringup.Finding) error {
	return r.add(store.Lazily(ctx), d, f...)
}

func (r record) add(ctx context.Context, d *latch.Device, f ...bringup.Finding) error {
	return r.store().Keep(ctx, what(f, d), func(ctx context.Context) error {
		return r.store().Devices.RecordAll(ctx, d.ID, r.job.inRun(), findings(f)...)
	})
}

func (r record) AddAndRead(ctx context.Context, d *latch.Device, f ...bringup.Finding) (*latch.Device, error) {
	var out *store.Device
	err := r.store().Keep(ctx, what(f, d), func(ctx context.Context) (err error) {
		out, err = r.store().Devices.RecordAndGet(store.Lazily(ctx), d.ID, r.job.inRun(), findings(f)...)
		return err
	})
	if err != nil {
		return nil, err
	}
	return out.Latch(), nil
}

// findings converts the findings of core to those of the store.
func findings(f []bringup.Finding) []store.Finding {
	out := make([]store.Finding, len(f))
	for i := range f {
		out[i] = store.Finding{Subject: f[i].Subject, Body: f[i].Body, Exchange: f[i].Exchange, Still: f[i].Still, StillID: f[i].StillID}
	}
	return out
}

// what names findings of a device, for the log.
func what(f []bringup.Finding, d *latch.Device) string {
	if len(f) == 0 {
		return "what is known of " + d.Addr
	}
	return string(evidence.KindOf(f[0].Body)) + " of " + d.Addr
}

func (r record) Mine(ctx context.Context, d *latch.Device, kind evidence.Kind, subject string) (bool, error) {
	return r.store().Devices.RecordedIn(ctx, d.ID, kind, subject, r.job.run)
}

func (r record) Identify(ctx context.Context, id uuid.UUID, serial, mac string) error {
	return r.store().Keep(ctx, "a device's identity", func(ctx context.Context) error {
		return r.store().Devices.Identify(ctx, id, serial,
			mac)
	})
}

func (r record) Sight(ctx context.Context, x sighting.Sighting) (device uuid.UUID, err error) {
	err = r.store().Keep(ctx, "a sighting", func(ctx context.Context) (err error) {
		device, err = r.store().Devices.Sight(ctx, r.job.site.ID, r.job.inRun(), x)
		return err
	})
	return device, err
}

func (r record) Books(ctx context.Context) ([]*recipe.Book, error) { return r.store().Books.All(ctx) }

func (r record) Alone(ctx context.Context, name uuid.UUID, fn func(context.Context) error) error {
	return r.store().Locked(ctx, name, fn)
}

// keyring is the store as the keyring of core's steps.
type keyring struct{ job *deviceJob }

func (k keyring) store() *store.Store { return k.job.env.store }

func (k keyring) Key(ctx context.Context, id uuid.UUID) (bringup.Key, error) {
	s, err := k.store().SignIns.Get(ctx, id)
	return keyOf(s, id), err
}

// keyOf returns an entry as core's steps see it, for a device.
func keyOf(s store.SignIn, device uuid.UUID) bringup.Key {
	out := bringup.Key{ID: s.ID, Label: s.Label, User: s.User, Factory: s.Factory, Why: s.Turn.String(), Opened: s.Opened != nil,
		Shut: s.Last == signin.Shut}
	for _, d := range s.Devices {
		out.Bound = out.Bound || d == device
	}
	return out
}

func (k keyring) Decrypt(ctx context.Context, id uuid.UUID) (signin.SignIn, error) {
	in, changed, err := k.store().SignIns.Take(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		err = bringup.ErrGone
	}
	k.job.changed.Store(id, changed)
	return in, err
}

func (k keyring) OfRelay(ctx context.Context, relay uuid.UUID) (signin.SignIn, error) {
	in, err := k.store().Relays.SignIn(ctx, relay)
	if errors.Is(err, store.ErrNotFound) {
		err = bringup.ErrGone
	}
	if err == nil {
		k.job.env.warm(ctx, relay)
	}
	return in, err
}

func (k keyring) Candidates(ctx context.Context, d *latch.Device, purpose signin.Purpose, again bool) ([]bringup.Key, error) {
	dev := d.Status.Device
	known := store.Known{Words: dev.Maker + " " + dev.Name + " " + dev.Hardware, Kind: dev.Model()}
	list, err := k.store().SignIns.Candidates(ctx, d.ID, k.job.site.ID, known, purpose, again)
	out := make([]bringup.Key, len(list))
	for i, s := range list {
		out[i] = keyOf(s, d.ID)
	}
	return out, err
}

func (k keyring) Begin(ctx context.Context, d *latch.Device, key uuid.UUID, purpose signin.Purpose, host string) (uuid.UUID, error) {
	return k.store().SignIns.BeginTry(ctx, store.Try{Device: d.ID, SignIn: key, Purpose: purpose, Kind: d.Status.Device.Model(), Host: host,
		Run: k.job.run, Changed: k.changed(key)})
}

// changed returns when an entry was changed last that this job has taken off the keyring.
func (k keyring) changed(key uuid.UUID) time.Time {
	at, _ := k.job.changed.Load(key)
	t, _ := at.(time.Time)
	return t
}

func (k keyring) BeginOn(ctx context.Context, t *bringup.Target, key uuid.UUID, host string) (uuid.UUID, error) {
	try, err := k.store().SignIns.BeginTry(ctx, store.Try{Target: t.ID, SignIn: key, Purpose: signin.Target, Host: host, Run: k.job.run,
		Changed: k.changed(key)})
	if errors.Is(err, store.ErrRefusedMeanwhile) {
		err = &target.RefusedBeforeError{Target: t.Name}
	}
	return try, err
}

func (k keyring) End(ctx context.Context, try uuid.UUID, r signin.Result, wait time.Duration) error {
	return k.store().Keep(ctx, "a try", func(ctx context.Context) error { return k.store().SignIns.EndTry(ctx, try, r, wait) })
}

func (k keyring) WrongTries(ctx context.Context, device uuid.UUID) (int, error) {
	return k.store().SignIns.WrongTries(ctx, device)
}

// reporter tells the readers of the run.
type reporter struct{ job *deviceJob }

func (r reporter) Doing(text string) {
	r.job.env.said.say(r.job.run, text)
}

func (r reporter) Problem(ctx context.Context, text string) error {
	if r.job.run == uuid.Nil {
		return nil // nobody looks at this work; what it has found out stands in the record
	}
	return r.job.env.store.Runs.Problem(ctx, r.job.run, text)
}

func (r reporter) Warn(text string, err error) { r.job.env.log.Warn(text, "err", err) }

// Wake adds one job a wait. A little later than said: the device's clock need not be ours.
func (r reporter) Wake(ctx context.Context, device uuid.UUID, at time.Time) error {
	wake := command.OnDevice{Device: device, Do: command.Device{Wake: &command.Wake{Until: at}}}
	_, err := r.job.env.queue.client.Insert(ctx, deviceArgs{OnDevice: wake},
		&river.InsertOpts{Queue: queueOf(r.job.site.ID), ScheduledAt: at.Add(time.Second), UniqueOpts: river.UniqueOpts{ByArgs: true}})
	return err
}
