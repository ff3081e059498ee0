package jobs

import (
	"context"

	"github.com/google/uuid"

	"unlatch/core/wire/player"
	"unlatch/core/work/bringup"
	"unlatch/core/work/live"
)

// Watch begins to look at a stream of a device, live. The session with the device is one for all who look; it begins with the sign-in and
// the transport that the stream was proven with, and ends when nobody looks.
func (w *Workers) Watch(ctx context.Context, device uuid.UUID, role string, wish live.Wish) (*live.Viewer, error) {
	if _, err := w.env.store.Devices.Get(ctx, device); err != nil {
		return nil, err
	}
	return w.env.looks.Watch(device.String()+" "+role, wish, live.Play(func(ctx context.Context) (*player.Session, error) {
		ctx, end := w.env.leased(ctx)
		defer end()
		d, err := w.env.store.Devices.Get(ctx, device) // anew each time: it may have been given another address meanwhile
		if err != nil {
			return nil, err
		}
		job, err := w.env.deviceJob(ctx, uuid.Nil, d)
		if err != nil {
			return nil, err
		}
		defer job.Close()
		return job.Play(ctx, role)
	}, bringup.NotShown))
}
