package jobs

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"unlatch/store"
)

// A site has queues of its own: a worker takes the jobs of the sites that it reaches, and of no other. Address changes have one apart,
// since they wait for restarts and must hold up none that plays streams.
func queueOf(site uuid.UUID) string { return queuePrefix + site.String() }

const queuePrefix = "site-"

func moveQueueOf(site uuid.UUID) string { return queueOf(site) + "-moves" }

// attendEvery is how often a worker reads the list of sites when no event says that it has changed.
const attendEvery = 2 * time.Second

// A reach says which sites a worker reaches: those of these names or IDs, or all where there are none.
type reach []string

func (r reach) includes(s store.Site) bool {
	named := func(name string) bool { return strings.EqualFold(name, s.Name) || name == s.ID.String() }
	return len(r) == 0 && !s.Far || slices.ContainsFunc(r, named)
}

// attendant keeps the queues of a worker in step with the sites that it reaches.
type attendant struct {
	env    *env
	client *river.Client[pgx.Tx]
	reach  reach
	// outside says that this machine is elsewhere: it takes what is to be proven from outside, and nothing else.
	outside bool
	queues  map[uuid.UUID]bool
	names   atomic.Pointer[[]string] // of the sites that it reaches, in order
}

// Reached returns the names of the sites that the workers reach, in order.
func (w *Workers) Reached() []string {
	if names := w.attendant.names.Load(); names != nil {
		return *names
	}
	return nil
}

// look adds the queues of sites that are new, leaves those of sites that have gone, and says which sites are reached.
func (a *attendant) look(ctx context.Context) error {
	sites, err := a.env.store.Sites.List(ctx)
	if err != nil {
		return err
	}
	wanted := map[uuid.UUID]bool{}
	var ids []uuid.UUID
	var names []string
	defer func() { slices.Sort(names); a.names.Store(&names) }()
	for _, s := range sites {
		if !a.reach.includes(s) {
			continue
		}
		wanted[s.ID] = true
		names = append(names, s.Name)
		ids = append(ids, s.ID)
		if a.queues[s.ID] {
			continue
		}
		for name, most := range a.queuesOf(s.ID) {
			if err := a.client.Queues().Add(name, river.QueueConfig{MaxWorkers: most}); err != nil {
				return err
			}
		}
		a.queues[s.ID] = true
	}
	for id := range a.queues {
		if wanted[id] {
			continue
		}
		for name := range a.queuesOf(id) {
			if err := a.client.Queues().Remove(ctx, name); err != nil {
				return err
			}
		}
		delete(a.queues, id)
	}
	if lease, ok := a.env.held(); ok && !a.outside {
		return a.env.store.Workers.Reach(ctx, lease, ids)
	}
	return nil
}

// queuesOf returns the queues of a site that the worker takes, each with how many jobs at once.
func (a *attendant) queuesOf(site uuid.UUID) map[string]int {
	if a.outside {
		return map[string]int{outsideQueueOf(site): 1}
	}
	return map[string]int{queueOf(site): parallel, moveQueueOf(site): moving}
}

// attend looks again when a site comes or goes, and every few seconds, until ctx ends.
func (a *attendant) attend(ctx context.Context, log *slog.Logger) {
	told := make(chan struct{}, 1)
	tell := func() {
		select {
		case told <- struct{}{}:
		default:
		}
	}
	go a.env.store.Listen(ctx, func(e store.Event) {
		if e.What == "site" {
			tell()
		}
	}, tell)
	for {
		if err := a.look(ctx); err != nil && ctx.Err() == nil {
			log.Debug("the sites that this worker reaches cannot be kept", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-told:
		case <-time.After(attendEvery):
		}
	}
}
