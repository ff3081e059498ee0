package jobs

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
)

// wake carries out command.Wake: it begins a run, where the device waits still. Somebody may have opened it meanwhile.
func (e *env) wake(ctx context.Context, device uuid.UUID) error {
	d, err := e.store.Devices.Get(ctx, device)
	if err != nil {
		return e.finish(ctx, uuid.Nil, err)
	}
	at := d.Status.At()
	if at == "" || at == latch.Heard {
		return nil
	}
	if why := d.Status.Latch(at).Diagnosis; why == nil || why.Until == nil || why.Until.After(time.Now()) {
		return nil
	}
	_, err = e.queue.Begin(ctx, d.Site, command.Work{Kind: "open", Title: fmt.Sprintf("Try %s again: its wait is over", d.Title()),
		Devices: command.Each([]uuid.UUID{d.ID}, command.Device{Open: &command.Open{Unattended: true}})})
	return err
}
