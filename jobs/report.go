package jobs

import (
	"context"
	"log/slog"
	"time"

	"unlatch/core/decide/doctor"
	"unlatch/core/ground/address"
	"unlatch/core/ground/machine"
	"unlatch/core/wire/discovery"
	"unlatch/store"
)

// reportEvery is how often a process tells of itself.
const reportEvery = time.Minute

// Report keeps in the store what a process is and what its machine has, every minute and whenever something comes over again, until ctx
// ends. look is called each time.
func Report(ctx context.Context, s *store.Store, log *slog.Logger, again <-chan struct{},
	look func(context.Context) doctor.Process) {
	name := ""
	for {
		p := look(ctx)
		name = p.Name
		if err := s.Upkeep.ReportProcess(ctx, p); err != nil && ctx.Err() == nil {
			log.Debug("what this process is could not be kept", "err", err)
		}
		select {
		case <-ctx.Done():
			bye, done := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
			defer done()
			s.Upkeep.ForgetProcess(bye, name) // one that cannot is told of as silent
			return
		case <-again:
		case <-time.After(reportEvery):
		}
	}
}

// process returns what this worker is, and what its machine has for the sites that it reaches.
func (a *attendant) process(ctx context.Context, since time.Time, of Options) doctor.Process {
	o := machine.Options{Folder: of.Folder, Ports: announcements}
	if sites, err := a.env.store.Sites.List(ctx); err == nil && !a.outside {
		o.Ranges = rangesOf(sites, a.reach)
	}
	lease, _ := a.env.held()
	p := doctor.Process{Name: lease.Worker, Kind: doctor.Worker, Since: since, Machine: machine.Look(ctx, o),
		Relay: of.Relay, RelayTLS: of.RelayTLS, Faces: of.Faces, Pages: of.Pages}
	if a.env.measured.Load() {
		rates := a.env.converting.Rates()
		p.Converting = &rates
	}
	return p
}

// announcements are the ports that cameras announce themselves on.
var announcements = []int{discovery.Port3702, int(discovery.GroupMDNS.Port()), int(discovery.GroupSSDP.Port())}

// rangesOf returns the ranges of the sites that a worker reaches.
func rangesOf(sites []store.Site, reached reach) address.Ranges {
	var items []string
	for _, s := range sites {
		if reached.includes(s) {
			items = append(items, s.Ranges.Strings()...)
		}
	}
	all, err := address.Parse(items...)
	if err != nil {
		return address.Ranges{}
	}
	return all
}
