package jobs

import (
	"context"
	"database/sql"
	"log/slog"

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
	c, err := river.NewClient(riverdatabasesql.New(s.SQL()), &river.Config{Logger: quiet(log)})
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

// insert adds one job a command.
func (q *Queue) insert(ctx context.Context, tx *sql.Tx, site, run uuid.UUID, w command.Work) error {
	params := make([]river.InsertManyParams, 0, w.Len())
	for _, d := range w.Devices {
		params = append(params, river.InsertManyParams{Args: deviceArgs{run, d}, InsertOpts: &river.InsertOpts{Queue: queueFor(site, d.Do)}})
	}
	for _, t := range w.Targets {
		params = append(params, river.InsertManyParams{Args: targetArgs{run, site, t}, InsertOpts: &river.InsertOpts{Queue: queueOf(site)}})
	}
	if w.Site != nil {
		params = append(params, river.InsertManyParams{Args: siteArgs{run, site, *w.Site}, InsertOpts: &river.InsertOpts{Queue: queueOf(site)}})
	}
	_, err := q.client.InsertManyTx(ctx, tx, params)
	return err
}

// queueFor returns the queue of a command to a device. Commands that wait for restarts and for encoders to settle have a queue of their
// own, of which many more run at once.
func queueFor(site uuid.UUID, do command.Device) string {
	if do.Waits() {
		return moveQueueOf(site)
	}
	return queueOf(site)
}
