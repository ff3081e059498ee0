package jobs

import (
	"context"

	"github.com/google/uuid"

	"unlatch/core/stream/conversion"
	"unlatch/core/wire/player"
	"unlatch/core/work/bringup"
	"unlatch/core/work/fanout"
	"unlatch/core/work/live"
)

// Watch begins to look at a stream of a device, live. The session with the device is one for all who look; it begins with the sign-in and
// the transport that the stream was proven with, and ends when nobody looks.
func (w *Workers) Watch(ctx context.Context, device uuid.UUID, role string, wish live.Wish) (*live.Viewer, error) {
	if _, err := w.env.store.Devices.Get(ctx, device); err != nil {
		return nil, err
	}
	return w.env.looks.Watch(device.String()+" "+role, wish, live.Play(func(ctx context.Context) (*fanout.Consumer, error) {
		return w.env.take(ctx, device, role)
	}, bringup.NotShown))
}

// streamKey names a stream among those that are taken.
func streamKey(device uuid.UUID, role string) string { return device.String() + " " + role }

// take begins to take the packets of a device's stream. The session with the device is one for all who take them.
func (e *env) take(ctx context.Context, device uuid.UUID, role string) (*fanout.Consumer, error) {
	return e.streams.Join(ctx, streamKey(device, role), func(ctx context.Context) (*player.Session, error) {
		ctx, end := e.leased(ctx)
		defer end()
		d, err := e.store.Devices.Get(ctx, device) // anew each time: it may have been given another address meanwhile
		if err != nil {
			return nil, err
		}
		job, err := e.deviceJob(ctx, uuid.Nil, d)
		if err != nil {
			return nil, err
		}
		defer job.Close()
		return job.Play(ctx, role)
	})
}

// takeAs begins to take a device's stream in a form, which is made once for all who take it so.
func (e *env) takeAs(ctx context.Context, device uuid.UUID, role string, form conversion.Shape) (*fanout.Consumer, error) {
	if form.IsZero() {
		return e.take(ctx, device, role)
	}
	return e.streams.Join(ctx, streamKey(device, role)+" as "+form.Key(), func(ctx context.Context) (*player.Session, error) {
		d, err := e.store.Devices.Get(ctx, device)
		if err != nil {
			return nil, err
		}
		from, err := e.take(ctx, device, role)
		if err != nil {
			return nil, err
		}
		return e.converting.Open(ctx, from, d.Status.FitStreams()[role].Source(), form)
	})
}
