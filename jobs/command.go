package jobs

import (
	"context"
	"errors"
	"runtime/debug"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/decide/command"
	"unlatch/core/ground/fair"
	"unlatch/core/ground/machine"
	"unlatch/core/stream/camera"
	"unlatch/core/wire/netconfig"
)

// deviceArgs is a job: one command to one device.
type deviceArgs struct {
	Run uuid.UUID `json:"run"`
	command.OnDevice
}

// Kind implements river.JobArgs.
func (deviceArgs) Kind() string { return "device" }

// targetArgs is a job: one command to one target.
type targetArgs struct {
	Run  uuid.UUID `json:"run"`
	Site uuid.UUID `json:"site"`
	command.OnTarget
}

// Kind implements river.JobArgs.
func (targetArgs) Kind() string { return "target" }

// siteArgs is a job: one command on a site.
type siteArgs struct {
	Run  uuid.UUID      `json:"run"`
	Site uuid.UUID      `json:"site"`
	Do   command.OnSite `json:"do"`
}

// Kind implements river.JobArgs.
func (siteArgs) Kind() string { return "site" }

// Bounds of a job. One that is cut short by its time is begun again: what it found is kept, so that it gets further each time.
const (
	jobTimeout   = 10 * time.Minute // the steps of one camera have times of their own
	sweepTimeout = 12 * time.Hour   // large ranges are asked at the pace that switches bear
	packTimeout  = 30 * time.Minute
	moveTimeout  = netconfig.Wait + jobTimeout/2
	maxAttempts  = 3
)

type deviceWorker struct {
	river.WorkerDefaults[deviceArgs]
	env *env
}

// Timeout leaves room for the slowest restart.
func (w *deviceWorker) Timeout(job *river.Job[deviceArgs]) time.Duration {
	if job.Args.Do.Address != nil {
		return moveTimeout
	}
	return jobTimeout
}

func (w *deviceWorker) Work(ctx context.Context, job *river.Job[deviceArgs]) error {
	a := job.Args
	if a.Do.Wake != nil {
		return w.env.wake(ctx, a.Device)
	}
	if w.env.onlyLooks && !a.Do.Looks() {
		return w.env.finish(ctx, a.Run, errOnlyLooks)
	}
	if !a.Do.Waits() { // those that wait most of the time have bounds of their own
		leave, err := w.env.enter(ctx, job.Queue)
		if err != nil {
			return w.env.finish(ctx, a.Run, err)
		}
		if leave == nil {
			return river.JobSnooze(busyAgain)
		}
		defer leave()
	}
	work := func(ctx context.Context) error {
		return w.env.onDevice(ctx, a.Run, a.Device, func(d *deviceJob) error {
			if err := d.carryOut(ctx, a.Do); err != nil {
				return err
			}
			return d.lookAgainWhereWaiting(ctx)
		})
	}
	if !a.Do.Alone() {
		return work(ctx)
	}
	free, err := w.env.store.TryLocked(ctx, a.Device, work)
	switch {
	case free:
		return err
	case err != nil:
		return w.env.finish(ctx, a.Run, err)
	}
	w.env.store.Runs.Progress(ctx, a.Run, "Waiting until other work on a camera is done", -1)
	return river.JobSnooze(busyAgain)
}

// errOnlyLooks is for a command that would change something, where the worker may not.
var errOnlyLooks = errors.New("the worker of this site only looks: it was started with read-only, and changes no device and no target")

// placeWithin is how long a job waits for a place before it goes back to its queue: its own time runs meanwhile.
const placeWithin = time.Minute

// places returns how many devices this process works on at once, whatever their sites.
func places() int {
	return fair.Places(min(machine.MayTake(), debug.SetMemoryLimit(-1)))
}

// enter waits for one of the places of this process, which sites share: one of two thousand cameras keeps none of five waiting. leave is
// nil where it takes too long.
func (e *env) enter(ctx context.Context, site string) (leave func(), err error) {
	soon, done := context.WithTimeout(ctx, placeWithin)
	defer done()
	leave, err = e.gate.Enter(soon, site)
	if err != nil && ctx.Err() == nil {
		return nil, nil
	}
	return leave, err
}

// busyAgain is after how long a command is taken up again whose device is worked on by another. It holds no place in the queue meanwhile.
const busyAgain = time.Second

// carryOut does what a command says.
func (d *deviceJob) carryOut(ctx context.Context, do command.Device) error {
	switch {
	case do.Open != nil:
		return d.open(ctx, *do.Open)
	case do.Address != nil:
		return d.move(ctx, *do.Address)
	case do.Claim != nil:
		return d.Claim(ctx, do.Claim.SignIn)
	case do.Fix != nil:
		return d.Fix(ctx, *do.Fix)
	case do.Send != nil:
		return d.Send(ctx, *do.Send)
	case do.Mark != nil:
		return d.Mark(ctx, do.Mark.How, do.Mark.Text, do.Mark.Back)
	case do.Cast != nil:
		return d.Multicast(ctx, *do.Cast)
	case do.Tune != nil:
		return d.Tune(ctx, *do.Tune)
	case do.Place != nil:
		return d.place(ctx, *do.Place)
	case do.Move != nil:
		return d.Move(ctx, do.Move.Target, do.Move.Slot)
	case do.Show != nil:
		_, err := d.Show(ctx, do.Show.Target, do.Show.Screen)
		return err
	case do.Rule != nil:
		return d.SetRule(ctx, do.Rule.Target, do.Rule.Rule)
	case do.Remove != nil:
		return d.remove(ctx, do.Remove.Target)
	}
	return nil
}

func (d *deviceJob) open(ctx context.Context, how command.Open) error {
	d.Unattended, d.Retry = how.Unattended, how.Retry
	if how.Again {
		if err := d.ProveAgain(ctx); err != nil {
			return err
		}
	}
	return d.Open(ctx)
}

// move gives the device another address. It counts two steps: the device is moved, and its latches are opened anew, so that its targets
// get the new address too.
func (d *deviceJob) move(ctx context.Context, to camera.Network) error {
	moved, err := d.SetAddress(ctx, to)
	switch {
	case err != nil:
		return err
	case moved:
		return d.openLater(ctx)
	}
	return d.env.store.Runs.StepDone(ctx, d.run) // there is no second step
}

// openLater adds the command that opens the device's latches to the same run, once.
func (d *deviceJob) openLater(ctx context.Context) error {
	open := command.OnDevice{Device: d.Device().ID, Do: command.Device{Open: &command.Open{}}}
	_, err := d.env.queue.client.Insert(ctx, deviceArgs{d.run, open},
		&river.InsertOpts{Queue: queueOf(d.site.ID), UniqueOpts: river.UniqueOpts{ByArgs: true}})
	return err
}

func (d *deviceJob) place(ctx context.Context, p command.Place) error {
	d.Retry = p.Again
	if p.Tune != nil {
		if err := d.Tune(ctx, *p.Tune); err != nil {
			return err
		}
	}
	if err := d.PlaceOn(ctx, p); err != nil || p.Replaces == uuid.Nil {
		return err
	}
	return d.env.store.Targets.Unwant(ctx, p.Replaces, p.Target)
}

// remove takes the device off a target. That it is wanted there is forgotten once it is gone from there.
func (d *deviceJob) remove(ctx context.Context, target uuid.UUID) error {
	if err := d.Remove(ctx, target); err != nil {
		return err
	}
	return d.env.store.Targets.Unwant(ctx, d.Device().ID, target)
}
