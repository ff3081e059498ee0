package jobs

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/store"
)

type siteWorker struct {
	river.WorkerDefaults[siteArgs]
	env *env
}

func (w *siteWorker) Timeout(job *river.Job[siteArgs]) time.Duration {
	if job.Args.Do.Sweep != nil {
		return sweepTimeout
	}
	if job.Args.Do.Pack != nil {
		return packTimeout
	}
	return jobTimeout
}

func (w *siteWorker) Work(ctx context.Context, job *river.Job[siteArgs]) error {
	a := job.Args
	defer w.env.announce(a.Site, a.Run)
	switch {
	case a.Do.Spread != nil:
		return w.env.spread(ctx, job)
	case a.Do.Pack != nil:
		return w.env.makePack(ctx, a.Run, a.Site, a.Do.Pack.Version)
	case a.Do.Outside != nil:
		return w.env.proveOutside(ctx, a.Run, a.Site)
	case a.Do.Paste != nil:
		return w.env.paste(ctx, a.Run, a.Site, *a.Do.Paste)
	}
	site, err := w.env.store.Sites.Get(ctx, a.Site)
	if err == nil {
		err = w.env.sweep(ctx, site, a.Run)
	}
	if err == nil && a.Do.Sweep != nil && a.Do.Sweep.Open {
		err = w.env.openHeard(ctx, a.Run, site.ID)
	}
	return w.env.finish(ctx, a.Run, err)
}

// sweep carries out command.Sweep.
func (e *env) sweep(ctx context.Context, site store.Site, run uuid.UUID) error {
	elsewhere, err := e.otherRanges(ctx, site)
	if err != nil {
		return err
	}
	own, err := e.ownRelays(ctx)
	if err != nil {
		return err
	}
	heard := newFiler(newMover(e, site), run)
	total := int64(discovery.Total(site.Ranges, len(discovery.DefaultPorts)))
	var asked atomic.Int64
	told := e.tellOften(ctx, run, func() (string, int64) {
		n := asked.Load()
		doing := fmt.Sprintf("%d devices heard", heard.count())
		if n == total {
			doing += ", listening for more"
		}
		return doing, n
	})
	s := discovery.Sweep{Ranges: site.Ranges, Own: own, Progress: func(p discovery.Progress) { asked.Store(int64(p.Asked)) }}
	err = s.Run(ctx, func(x sighting.Sighting) {
		if x.Stray && elsewhere.Contains(x.Addr) {
			return // it is another site's, not lost
		}
		heard.put(ctx, x)
	})
	err = errors.Join(err, heard.wait())
	told()
	if err == nil {
		e.store.Runs.Progress(ctx, run, fmt.Sprintf("%d devices heard", heard.count()), total)
	}
	return err
}

// sayEvery is how often a sweep tells how far it is.
const sayEvery = 250 * time.Millisecond

// tellOften tells what a run does now, where that has changed, until end is called: then nothing of it is told any more.
func (e *env) tellOften(ctx context.Context, run uuid.UUID, now func() (doing string, done int64)) (end func()) {
	ended := make(chan struct{})
	var telling sync.WaitGroup
	telling.Go(func() {
		var last string
		var at int64
		for {
			select {
			case <-ended:
				return
			case <-time.After(sayEvery):
			}
			if doing, done := now(); doing != last || done != at {
				e.store.Runs.Progress(ctx, run, doing, done)
				last, at = doing, done
			}
		}
	})
	return func() {
		close(ended)
		telling.Wait()
	}
}

// ownRelays returns where this worker and the others serve streams on, whichever site they are of.
func (e *env) ownRelays(ctx context.Context) (out []netip.AddrPort, err error) {
	for _, at := range e.relaysAt { // the others tell it themselves, a moment after they have started
		if a, err := netip.ParseAddrPort(at); err == nil && !a.Addr().IsUnspecified() {
			out = append(out, a)
		} else if err == nil {
			for _, own := range machineAddresses() {
				out = append(out, netip.AddrPortFrom(own, a.Port()))
			}
		}
	}
	list, err := e.store.Upkeep.Processes(ctx)
	for i := range list {
		out = append(out, list[i].Serves()...)
	}
	return out, err
}

// machineAddresses are the addresses of this machine.
func machineAddresses() (out []netip.Addr) {
	list, _ := net.InterfaceAddrs()
	for _, own := range list {
		if p, err := netip.ParsePrefix(own.String()); err == nil {
			out = append(out, p.Addr().Unmap())
		}
	}
	return out
}

// openHeard begins to open the latches of all cameras and recorders of a site that were heard and may be connected to.
func (e *env) openHeard(ctx context.Context, run, site uuid.UUID) error {
	list, err := e.store.Devices.List(ctx, site)
	if err != nil {
		return err
	}
	var ids []uuid.UUID
	for i := range list {
		st := &list[i].Status
		if st.Device.Kind != sighting.Other && st.InScope() && st.Latch(latch.Heard).State == latch.Open && st.At() != "" {
			ids = append(ids, list[i].ID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	of, err := e.store.Runs.Get(ctx, run)
	if err != nil {
		return err
	}
	_, err = e.queue.Begin(ctx, site, command.Work{Kind: "open", Title: "Open latches of " + command.Cameras(len(ids)), By: of.Person,
		Devices: command.Each(ids, command.Device{Open: &command.Open{}})})
	return err
}

// otherRanges returns the ranges of the other sites. Sites may share a wire: what is heard from another's range belongs there.
func (e *env) otherRanges(ctx context.Context, site store.Site) (address.Ranges, error) {
	sites, err := e.store.Sites.List(ctx)
	if err != nil {
		return address.Ranges{}, err
	}
	var all []string
	for _, other := range sites {
		if other.ID != site.ID {
			all = append(all, other.Ranges.Strings()...)
		}
	}
	return address.Parse(all...)
}
