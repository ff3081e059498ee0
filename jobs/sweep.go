package jobs

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"unlatch/core/address"
	"unlatch/core/discovery"
	"unlatch/store"
)

type pgxTx = pgx.Tx

// SweepArgs is one discovery run over a site.
type SweepArgs struct {
	Run  uuid.UUID `json:"run"`
	Site uuid.UUID `json:"site"`
}

// Kind implements river.JobArgs.
func (SweepArgs) Kind() string { return "sweep" }

// Sweep begins a discovery run. Ranges over address.LargestUnasked are a *address.TooManyError unless confirmed.
func (q *Queue) Sweep(ctx context.Context, site store.Site, confirmed bool) (store.Run, error) {
	if err := site.Ranges.Check(); err != nil && !confirmed {
		return store.Run{}, err
	}
	if site.Ranges.Empty() {
		return store.Run{}, &address.RangeError{Input: "", Problem: "is missing", Fix: "give the site a range first"}
	}
	total := int64(discovery.Total(site.Ranges, len(discovery.DefaultPorts)))
	return begin(ctx, q, site.ID, "sweep", "Sweep of "+site.Ranges.String(), total, []uuid.UUID{site.ID},
		func(run, site uuid.UUID) river.JobArgs {
			return SweepArgs{Run: run, Site: site}
		})
}

type sweepWorker struct {
	river.WorkerDefaults[SweepArgs]
	env *env
}

// Timeout gives large ranges the time that they need at the pace that switches bear.
func (w *sweepWorker) Timeout(*river.Job[SweepArgs]) time.Duration { return 12 * time.Hour }

func (w *sweepWorker) Work(ctx context.Context, job *river.Job[SweepArgs]) error {
	defer w.env.announce(job.Args.Site, job.Args.Run)
	site, err := w.env.store.Sites.Get(ctx, job.Args.Site)
	if err != nil {
		return w.env.finish(ctx, job.Args.Run, err)
	}
	return w.env.finish(ctx, job.Args.Run, w.sweep(ctx, site, job.Args.Run))
}

func (w *sweepWorker) sweep(ctx context.Context, site store.Site, run uuid.UUID) error {
	elsewhere, err := w.env.otherRanges(ctx, site)
	if err != nil {
		return err
	}
	m := newMover(w.env, site)
	var mu sync.Mutex
	heard := map[uuid.UUID]bool{}
	var failed error
	var asked int64
	total := int64(discovery.Total(site.Ranges, len(discovery.DefaultPorts)))
	var said time.Time
	progress := func(force bool) {
		if force || time.Since(said) > 250*time.Millisecond {
			said = time.Now()
			doing := fmt.Sprintf("%d devices heard", len(heard))
			if asked == total && !force {
				doing += ", listening for more"
			}
			w.env.store.Runs.Progress(ctx, run, doing, asked)
		}
	}
	s := discovery.Sweep{Ranges: site.Ranges, Progress: func(p discovery.Progress) {
		mu.Lock()
		defer mu.Unlock()
		if asked = int64(p.Asked); asked == total {
			said = time.Time{}
		}
		progress(false)
	}}
	err = s.Run(ctx, func(x discovery.Sighting) {
		if x.Stray && elsewhere.Contains(x.Addr) {
			return // it is another site's, not lost
		}
		id, err := m.file(ctx, &run, x)
		mu.Lock()
		defer mu.Unlock()
		switch {
		case err == nil && id != uuid.Nil:
			heard[id] = true
		case err != nil && (store.Away(err) || errors.Is(err, store.ErrFenced) || ctx.Err() != nil):
			if failed == nil {
				failed = err
			}
		case err != nil: // one bad sighting spoils nothing but itself
			w.env.log.Warn("a sighting could not be filed", "address", x.Addr, "err", err)
		}
		progress(false)
	})
	if err == nil {
		mu.Lock()
		defer mu.Unlock()
		asked = total
		progress(true)
	}
	return errors.Join(err, failed)
}

// otherRanges are the ranges of the other sites. Sites may share a wire: what is heard from another's range belongs there.
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
