package jobs

import (
	"context"
	"errors"
	"sync"

	"github.com/google/uuid"

	"unlatch/core/stream/sighting"
	"unlatch/store"
)

// mostHeard bounds what is filed together, and what waits for that: a wire that says more is listened to no faster than it is filed.
const mostHeard = 256

// A filer files what a sweep hears while the sweep goes on: what comes while some is being filed is filed together afterwards.
type filer struct {
	*mover
	run uuid.UUID

	lock    sync.Mutex // the mover has another
	room    *sync.Cond // something was filed
	waiting []sighting.Sighting
	going   bool
	devices map[uuid.UUID]bool
	failed  error // the first that was not the fault of a sighting
}

func newFiler(m *mover, run uuid.UUID) *filer {
	f := &filer{mover: m, run: run, devices: map[uuid.UUID]bool{}}
	f.room = sync.NewCond(&f.lock)
	return f
}

// put has a sighting filed soon.
func (f *filer) put(ctx context.Context, x sighting.Sighting) {
	f.lock.Lock()
	defer f.lock.Unlock()
	for len(f.waiting) >= mostHeard {
		f.room.Wait()
	}
	f.waiting = append(f.waiting, x)
	if !f.going {
		f.going = true
		go f.keep(ctx)
	}
}

// wait waits until everything is filed, and returns what kept that from being so.
func (f *filer) wait() error {
	f.lock.Lock()
	defer f.lock.Unlock()
	for f.going {
		f.room.Wait()
	}
	return f.failed
}

// count returns how many devices were heard.
func (f *filer) count() int {
	f.lock.Lock()
	defer f.lock.Unlock()
	return len(f.devices)
}

// keep files what waits until nothing does.
func (f *filer) keep(ctx context.Context) {
	f.lock.Lock()
	defer f.lock.Unlock()
	for len(f.waiting) > 0 {
		list := f.waiting
		f.waiting = nil
		f.room.Broadcast()
		f.lock.Unlock()
		filed, err := f.fileAll(ctx, list)
		f.lock.Lock()
		for _, x := range filed {
			if x.Device != uuid.Nil {
				f.devices[x.Device] = true
			}
		}
		if f.failed == nil {
			f.failed = err
		}
	}
	f.going = false
	f.room.Broadcast()
}

// fileAll files sightings in order. One that cannot be filed spoils nothing but itself; the error is for what will be no better with
// another one.
func (f *filer) fileAll(ctx context.Context, list []sighting.Sighting) (all []store.Filed, err error) {
	for len(list) > 0 {
		var filed []store.Filed
		err := f.env.store.Keep(ctx, "what was heard", func(ctx context.Context) (err error) {
			filed, err = f.env.store.Devices.SightAll(ctx, f.site.ID, f.run, list)
			return err
		})
		if hopeless(ctx, err) {
			return all, err
		}
		all, list = append(all, filed...), list[len(filed):]
		if len(list) == 0 {
			break
		}
		// The next one would move a device, or one of them cannot be filed with others.
		device, err := f.file(ctx, &f.run, list[0])
		if hopeless(ctx, err) {
			return all, err
		}
		if err != nil {
			f.env.log.WarnContext(ctx, "a sighting could not be filed", "address", list[0].Addr, "err", err)
		}
		all, list = append(all, store.Filed{Device: device}), list[1:]
	}
	return all, nil
}

// hopeless reports whether an error has nothing to do with what was to be filed.
func hopeless(ctx context.Context, err error) bool {
	return err != nil && (store.Away(err) || errors.Is(err, store.ErrFenced) || ctx.Err() != nil)
}
