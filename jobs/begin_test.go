package jobs_test

import (
	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/store"
)

// run begins work on the bench's site.
func (b *bench) run(w command.Work) (store.Run, error) { return b.q.Begin(ctx, b.site.ID, w) }

// begin begins one command on each of some devices.
func (b *bench) begin(do command.Device, devices []uuid.UUID) (store.Run, error) {
	return b.run(command.Work{Kind: do.Name(), Devices: command.Each(devices, do)})
}

// open opens latches of devices.
func (b *bench) open(devices []uuid.UUID) (store.Run, error) {
	return b.begin(command.Device{Open: &command.Open{}}, devices)
}

// openAgain opens latches of devices and plays again what is proven.
func (b *bench) openAgain(devices []uuid.UUID) (store.Run, error) {
	return b.begin(command.Device{Open: &command.Open{Again: true}}, devices)
}

// sweepOf sweeps a site.
func (b *bench) sweepOf(site store.Site) (store.Run, error) {
	return b.q.Begin(ctx, site.ID, command.Work{Kind: "sweep", Site: &command.OnSite{Sweep: &command.Sweep{}}})
}

// paste takes a pasted URL.
func (b *bench) paste(p command.Paste) (store.Run, error) {
	return b.run(command.Work{Kind: "paste", Steps: int64(p.Channels) + 1, Site: &command.OnSite{Paste: &p}})
}

// openRetry is the run that opens a device again, sending what it has refused once more.
func openRetry(device uuid.UUID) command.Work {
	return command.Work{Kind: "open", Title: "again", Devices: command.Each([]uuid.UUID{device},
		command.Device{Open: &command.Open{Retry: true}})}
}
