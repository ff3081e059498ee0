package jobs

import (
	"context"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/store"
)

// How often the watch looks which sites want it, and how many newcomers are asked for their ports at once.
const (
	watchEvery = 2 * time.Second
	newcomers  = 4
	// mostWaiting announcements wait to be filed by so many filers.
	mostWaiting = 1024
	filers      = 8
)

// watch hears, for each site that wants it, what devices announce by themselves: a camera that is plugged in shows up without a sweep. It
// runs in every worker, since each hears other wires; a word that two of them hear is filed twice and harms nothing.
func (e *env) watch(ctx context.Context, sites reach) {
	type watching struct {
		ranges string
		stop   context.CancelFunc
		done   chan struct{}
	}
	running := map[uuid.UUID]watching{}
	asking := make(chan struct{}, newcomers)
	for {
		all, err := e.store.Sites.List(ctx)
		wanted := map[uuid.UUID]store.Site{}
		for _, s := range all {
			if s.Watch && sites.includes(s) {
				wanted[s.ID] = s
			}
		}
		for id, w := range running {
			s, ok := wanted[id]
			ended := false
			select {
			case <-w.done:
				ended = true // no interface could be heard on; one may have come up since
			default:
			}
			if err == nil && (!ok || s.Ranges.String() != w.ranges) || ended {
				w.stop()
				delete(running, id)
			}
		}
		for id, s := range wanted {
			if _, ok := running[id]; ok {
				continue
			}
			wctx, stop := context.WithCancel(ctx)
			w := watching{ranges: s.Ranges.String(), stop: stop, done: make(chan struct{})}
			running[id] = w
			go func() {
				defer close(w.done)
				e.hear(wctx, s, asking)
			}()
		}
		select {
		case <-ctx.Done():
			for _, w := range running {
				<-w.done
			}
			return
		case <-time.After(watchEvery):
		}
	}
}

// hear listens for one site. A newcomer inside the ranges is asked which of the usual ports answer, as a sweep would ask.
func (e *env) hear(ctx context.Context, site store.Site, asking chan struct{}) {
	m := newMover(e, site)
	sight := func(x sighting.Sighting) error {
		_, err := m.file(ctx, nil, x)
		return err
	}
	// What is heard is filed behind the listening: a claim asks the network before it is believed. What does not fit is made good by the next
	// sweep, as a lost datagram is.
	heard := make(chan sighting.Sighting, mostWaiting)
	var filing sync.WaitGroup
	defer filing.Wait()
	for range filers {
		filing.Go(func() {
			for {
				select {
				case <-ctx.Done():
					return
				case x := <-heard:
					e.fileHeard(ctx, site, x, sight, asking)
				}
			}
		})
	}
	w := discovery.Watch{Ranges: site.Ranges,
		Found: func(x sighting.Sighting) {
			select {
			case heard <- x:
			default:
			}
		},
		Left: func(endpoint string) { e.left(ctx, site.ID, endpoint) },
	}
	if err := w.Run(ctx); err != nil && ctx.Err() == nil {
		e.log.Debug("a site cannot be watched", "site", site.Name, "err", err)
	}
}

// left files a goodbye, and has the device looked at soon where it is watched: the word of a stranger is no more than a reason to look.
func (e *env) left(ctx context.Context, site uuid.UUID, endpoint string) {
	known, err := e.store.Devices.Left(ctx, site, endpoint)
	if err != nil || !known {
		return
	}
	e.store.Watched.AgainByEndpoint(ctx, site, endpoint, time.Now().Add(afterGoodbye))
}

// afterGoodbye is how long after its goodbye a device is looked at: one that only restarts is back by then.
const afterGoodbye = time.Minute

// fileHeard files one announcement, and asks a newcomer inside the ranges for its ports.
func (e *env) fileHeard(ctx context.Context, site store.Site, x sighting.Sighting, sight func(sighting.Sighting) error,
	asking chan struct{}) {
	elsewhere, err := e.otherRanges(ctx, site)
	if err != nil || x.Stray && elsewhere.Contains(x.Addr) {
		return // an announcement that cannot be filed now is made good by the next sweep
	}
	if face, err := e.store.Relays.IsFace(ctx, x.Endpoint); face || err != nil {
		return // it is Unlatch itself
	}
	if err := sight(x); err != nil || x.Stray {
		return
	}
	select {
	case asking <- struct{}{}:
	default:
		return // a whole network is coming up: the next sweep asks
	}
	defer func() { <-asking }()
	own, err := e.ownRelays(ctx)
	if err != nil {
		return
	}
	ports := discovery.Sweep{Ranges: address.MustParse(x.Addr.String()), Interfaces: []string{}, Own: own}
	ports.Run(ctx, func(x sighting.Sighting) { sight(x) })
}
