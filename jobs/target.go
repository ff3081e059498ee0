package jobs

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/stream/picturematch"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/byhand"
	"unlatch/core/wire/target/feed"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/live"
	"unlatch/core/wire/target/viabridge"
	"unlatch/core/work/bringup"
	"unlatch/core/work/onvifrecorder"
	"unlatch/store"
)

// drivers are the kinds of target that this program can fill.
var drivers = map[target.Kind]target.Driver{
	onvifrecorder.Kind: onvifrecorder.Driver{},
	viabridge.Kind:     viabridge.Driver{},
	hub.Kind:           hub.Driver{},
	feed.Kind:          feed.Driver{},
	byhand.Kind:        byhand.Driver{},
	live.Kind:          live.Driver{},
}

type targetWorker struct {
	river.WorkerDefaults[targetArgs]
	env *env
}

func (w *targetWorker) Work(ctx context.Context, job *river.Job[targetArgs]) error {
	a := job.Args
	if look := a.Do.Look; look != nil && look.Again > 0 { // no run shows it
		return w.env.finish(ctx, uuid.Nil, w.lookAtWaiting(ctx, a))
	}
	if w.env.onlyLooks && !a.Do.Looks() {
		return w.env.finish(ctx, a.Run, errOnlyLooks)
	}
	err := w.work(ctx, a)
	w.env.announce(a.Site, a.Run)
	if err != nil {
		return w.env.finish(ctx, a.Run, err)
	}
	return w.env.store.Keep(ctx, "the progress of a run", func(ctx context.Context) error { return w.env.store.Runs.StepDone(ctx, a.Run) })
}

func (w *targetWorker) work(ctx context.Context, a targetArgs) error {
	t, err := w.env.store.Targets.Get(ctx, a.Target)
	if err != nil {
		return err
	}
	if err := w.lookAt(ctx, a, t); err != nil || a.Do.Change != nil {
		return err
	}
	return w.check(ctx, a)
}

// lookAt looks at a target, or changes something on it.
func (w *targetWorker) lookAt(ctx context.Context, a targetArgs, t store.Target) (err error) {
	d, err := w.env.deviceOfTarget(ctx, t)
	if err != nil {
		return err
	}
	d.Site = a.Site
	job, err := w.env.deviceJob(ctx, a.Run, d)
	if err != nil {
		return err
	}
	defer job.Close()
	job.Retry = a.Do.Look != nil && a.Do.Look.Retry
	nameTarget(job, t)
	if a.Do.Change != nil {
		return job.ChangeTarget(ctx, a.Target, *a.Do.Change)
	}
	return job.LookAt(ctx, a.Target)
}

// deviceOfTarget returns the device that a target is, or one that stands for it.
func (e *env) deviceOfTarget(ctx context.Context, t store.Target) (*store.Device, error) {
	if t.Device == nil {
		return &store.Device{Site: t.Site}, nil
	}
	return e.store.Devices.Get(ctx, *t.Device)
}

// nameTarget gives the device that stands for a target its name and its host.
func nameTarget(job *deviceJob, t store.Target) {
	if t.Device != nil {
		return
	}
	dev := job.Device()
	dev.Title, dev.Addr = t.Name, hostOf(t.Address)
	if dev.Title == "" {
		dev.Title = "the target at " + dev.Addr
	}
}

// lookTime is how long one look at a target asks it for pictures.
const lookTime = 2 * time.Minute

// check asks a target again for the picture of each camera that stands on it. If a target answers slowly, the rest is left for the next
// look, and nothing is said of what was not asked.
func (w *targetWorker) check(ctx context.Context, a targetArgs) error {
	on, err := w.env.store.Targets.On(ctx, a.Target)
	if err != nil {
		return err
	}
	until := time.Now().Add(lookTime)
	for i, id := range on {
		if time.Now().After(until) {
			return w.env.store.Runs.Problem(ctx, a.Run, fmt.Sprintf("It answers slowly: %d of its %d cameras were not asked about this time.",
				len(on)-i, len(on)))
		}
		d, err := w.env.store.Devices.Get(ctx, id)
		if err != nil {
			return err
		}
		job, err := w.env.deviceJob(ctx, a.Run, d)
		if err != nil {
			return err
		}
		err = job.Confirm(ctx, a.Target)
		job.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func hostOf(at string) string {
	if u, err := url.Parse(at); err == nil && u.Hostname() != "" {
		return u.Hostname()
	}
	return at
}

func (r record) Target(ctx context.Context, id uuid.UUID) (*bringup.Target, error) {
	t, err := r.store().Targets.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &bringup.Target{ID: t.ID, Kind: t.Kind, Name: t.Name, Address: t.Address, Settings: t.Settings.V, Takes: t.Takes, Pin: t.Pin}
	if out.Trust, err = r.store().Targets.Trust(ctx, t); err != nil {
		return nil, err
	}
	for to, from := range map[*uuid.UUID]*uuid.UUID{&out.SignIn: t.SignIn, &out.Via: t.Via, &out.Refused: t.Refused} {
		if from != nil {
			*to = *from
		}
	}
	if t.About != nil {
		out.About = t.About.V
	}
	out.Silent = t.Silent != nil
	if t.Kind == feed.Kind {
		screens, err := r.store().Targets.Screens(ctx, id)
		if err != nil {
			return nil, err
		}
		raw, err := json.Marshal(screens)
		if err != nil {
			return nil, err
		}
		out.Settings = map[string]string{feed.Screens: string(raw)}
	}
	if t.Device == nil {
		return out, nil
	}
	out.Device, err = r.Device(ctx, *t.Device)
	if err == nil && out.Name == "" {
		out.Name = out.Device.Title
	}
	return out, err
}

func (r record) LongestWait(ctx context.Context, id uuid.UUID) (time.Duration, error) {
	return r.store().Targets.LongestWait(ctx, id)
}

func (r record) Saw(ctx context.Context, id uuid.UUID, s bringup.TargetSeen) error {
	return r.store().Keep(ctx, "what a target has said", func(ctx context.Context) error {
		return r.store().Targets.Saw(ctx, id, r.job.inRun(), store.Seen(s))
	})
}

func (r record) Bind(ctx context.Context, id uuid.UUID, s target.Secret, to target.Identity) error {
	return r.store().Keep(ctx, "who an agreement is for", func(ctx context.Context) error { return r.store().Targets.Bind(ctx, id, s, to) })
}

func (r record) Handed(ctx context.Context, id uuid.UUID) ([]uuid.UUID, error) {
	return r.store().Targets.Handed(ctx, id)
}

func (r record) Still(ctx context.Context, device uuid.UUID) ([]byte, error) {
	return r.store().Devices.StillOf(ctx, device)
}

func (r record) Alike(ctx context.Context, shown picturematch.Print, target uuid.UUID) (map[uuid.UUID][]byte, error) {
	return r.store().Devices.Alike(ctx, r.job.site.ID, shown.Sketch(), target)
}
