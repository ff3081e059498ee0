package jobs

import (
	"context"
	"database/sql"
	"log/slog"
	"slices"

	"github.com/google/uuid"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"

	"unlatch/core/decide/command"
	"unlatch/store"
)

// A Queue adds commands for workers and takes them out. Any process may hold one.
type Queue struct {
	store  *store.Store
	client *river.Client[*sql.Tx]
}

// NewQueue opens the queue.
func NewQueue(s *store.Store, log *slog.Logger) (*Queue, error) {
	c, err := river.NewClient(riverdatabasesql.New(s.SQL()), &river.Config{Logger: spare(log)})
	return &Queue{store: s, client: c}, err
}

// Begin starts a run on a site and queues its commands, in one transaction: that of ctx, where it carries one.
func (q *Queue) Begin(ctx context.Context, site uuid.UUID, w command.Work) (store.Run, error) {
	begun := store.Run{Site: site, Kind: w.Kind, Title: w.Title, Person: w.By, Total: w.Total()}
	run, err := q.store.Runs.Start(ctx, begun, func(tx *sql.Tx, run uuid.UUID) error {
		return q.insert(ctx, tx, site, run, w)
	})
	run.Left = int64(w.Len())
	return run, err
}

// mostAtOnce is how many commands to devices are queued within the request that gives them. Those of larger runs are queued as one job,
// whose worker spreads them: nobody waits for an answer until 2,000 are written.
const mostAtOnce = 100

// insert adds one job a command, or one for all of many.
func (q *Queue) insert(ctx context.Context, tx *sql.Tx, site, run uuid.UUID, w command.Work) error {
	asked := func(d command.OnDevice) bool { return d.Do.AskedAbout() }
	if len(w.Devices) > mostAtOnce && w.Site == nil && !slices.ContainsFunc(w.Devices, asked) {
		grouped, err := command.Grouped(w.Devices)
		if err != nil {
			return err
		}
		w = command.Work{Targets: w.Targets, Site: &command.OnSite{Spread: &command.Spread{Devices: grouped}}}
	}
	list := jobsOf(site, run, w)
	from := metadata(ctx)
	for i := range list {
		list[i].InsertOpts.Metadata = from
	}
	_, err := q.client.InsertManyTx(ctx, tx, list)
	return err
}

// jobsOf returns one job a command.
func jobsOf(site, run uuid.UUID, w command.Work) []river.InsertManyParams {
	params := make([]river.InsertManyParams, 0, w.Len())
	for _, d := range w.Devices {
		params = append(params, river.InsertManyParams{Args: deviceArgs{run, d}, InsertOpts: &river.InsertOpts{Queue: queueFor(site, d.Do)}})
	}
	for _, t := range w.Targets {
		params = append(params, river.InsertManyParams{Args: targetArgs{run, site, t}, InsertOpts: &river.InsertOpts{Queue: queueOf(site)}})
	}
	if w.Site != nil {
		queue := queueOf(site)
		if w.Site.Outside != nil {
			queue = outsideQueueOf(site)
		}
		if w.Site.Pack != nil {
			queue = river.QueueDefault
		}
		params = append(params, river.InsertManyParams{Args: siteArgs{run, site, *w.Site}, InsertOpts: &river.InsertOpts{Queue: queue}})
	}
	return params
}

// queueFor returns the queue of a command to a device. Commands that wait for restarts and for encoders to settle have a queue of their
// own, of which many more run at once.
func queueFor(site uuid.UUID, do command.Device) string {
	if do.Waits() {
		return moveQueueOf(site)
	}
	return queueOf(site)
}
