package jobs

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
	"unlatch/store"
)

// lookAgainAfter are the waits before a target is asked again, by Unlatch itself, for pictures that are waited for.
var lookAgainAfter = []time.Duration{5 * time.Second, 15 * time.Second, 45 * time.Second, 2 * time.Minute, 10 * time.Minute}

// lookAgain has a target asked again after the nth wait, once for all cameras that wait there; beyond the last wait it does nothing. A
// target that has said when it can begin is asked then.
func (e *env) lookAgain(ctx context.Context, site, target uuid.UUID, nth int, waiting ...*latch.Placement) error {
	waits := e.hooks.LookAgain
	if waits == nil {
		waits = lookAgainAfter
	}
	if nth >= len(waits) {
		return nil
	}
	at := time.Now().Add(waits[nth])
	for i, p := range waiting {
		if own := p.AskAgainAt(time.Now(), waits[nth]); i == 0 || own.Before(at) {
			at = own
		}
	}
	look := command.OnTarget{Target: target, Do: command.Target{Look: &command.Look{Again: nth + 1}}}
	_, err := e.queue.client.Insert(ctx, targetArgs{Site: site, OnTarget: look}, &river.InsertOpts{Queue: queueOf(site),
		ScheduledAt: at, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: open}})
	return err
}

// lookAgainWhereWaiting has the targets asked again whose pictures of the device are waited for.
func (d *deviceJob) lookAgainWhereWaiting(ctx context.Context) error {
	for _, p := range d.Device().Status.Placements {
		if p.AskedAgain() {
			if err := d.env.lookAgain(ctx, d.site.ID, p.Target, 0, &p); err != nil {
				return err
			}
		}
	}
	return nil
}

// lookAtWaiting asks a target, once for all its slots, and then for the picture of each camera that waits there and whose slot does not say
// that it is connecting still. What waits after that is asked for again later.
func (w *targetWorker) lookAtWaiting(ctx context.Context, a targetArgs) error {
	waiting, err := w.waitingOn(ctx, a.Target)
	if err != nil || len(waiting) == 0 {
		return err
	}
	t, err := w.env.store.Targets.Get(ctx, a.Target)
	if err != nil {
		return err
	}
	if act.Asked(t.Kind) {
		if err := w.lookAt(ctx, a, t); err != nil {
			return err
		}
		if t, err = w.env.store.Targets.Get(ctx, a.Target); err != nil {
			return err
		}
	}
	for i := range waiting {
		if p := waiting[i].Status.PlacementOn(a.Target); t.Layout != nil && connectingStill(t.Layout.V, p) {
			continue
		}
		job, err := w.env.deviceJob(ctx, a.Run, &waiting[i])
		if err != nil {
			return err
		}
		err = job.Confirm(ctx, a.Target)
		job.Close()
		if err != nil {
			return err
		}
	}
	if waiting, err = w.waitingOn(ctx, a.Target); err != nil || len(waiting) == 0 {
		return err
	}
	var left []*latch.Placement
	for i := range waiting {
		left = append(left, waiting[i].Status.PlacementOn(a.Target))
	}
	return w.env.lookAgain(ctx, a.Site, a.Target, a.Do.Look.Again, left...)
}

// connectingStill reports whether a target says of a slot that it is connecting, and may take that long.
func connectingStill(l target.Layout, p *latch.Placement) bool {
	i := slices.IndexFunc(l.Slots, func(s target.Slot) bool { return s.Token == p.Token })
	return i >= 0 && l.Slots[i].State == "connecting" && p.Waits == trouble.WaitsToConnect && time.Since(p.WaitsSince) < latch.ConnectTime
}

// waitingOn returns the cameras whose pictures on a target are waited for.
func (w *targetWorker) waitingOn(ctx context.Context, on uuid.UUID) ([]store.Device, error) {
	ids, err := w.env.store.Targets.On(ctx, on)
	if err != nil {
		return nil, err
	}
	all, err := w.env.store.Devices.Of(ctx, ids)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(d store.Device) bool {
		p := d.Status.PlacementOn(on)
		return p == nil || !p.AskedAgain()
	}), nil
}
