package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// Runs are the long works, with how far each has come.
type Runs struct{ *database }

// A Run is one piece of long work as people see it. What is left of it is counted from its River jobs.
type Run struct {
	ID      uuid.UUID    `db:"id"`
	Site    uuid.UUID    `db:"site_id"`
	Kind    string       `db:"kind"`
	Title   string       `db:"title"`
	Person  string       `db:"person"` // who began it; empty for the program itself
	Created time.Time    `db:"created_at"`
	Stopped sql.NullTime `db:"stopped_at"`
	Doing   string       `db:"doing"`
	Done    int64        `db:"done"`
	Total   int64        `db:"total"`
	Problem string       `db:"problem"`
	Left    int64        `db:"jobs_left"`
	Planned string       `db:"planned"` // of an address plan: the addresses that are still to be given, parted by blanks
}

// Running reports whether some of it is still to be done.
func (r Run) Running() bool { return r.Left > 0 }

const runColumns = `r.id, r.site_id, r.kind, r.title, r.person, r.created_at, r.stopped_at, r.doing, r.done, r.total, r.problem,
	(SELECT count(*) FROM river_job j WHERE j.args->>'run' = r.id::text
		AND j.state IN ` + stillToDo + `) AS jobs_left,
	COALESCE((SELECT string_agg(DISTINCT j.args->'do'->'address'->>'addr', ' ') FROM river_job j WHERE j.args->'do' ? 'address'
		AND j.args->>'run' = r.id::text
		AND j.state IN ` + stillToDo + `), '') AS planned`

// Start begins a run, of which the site, the kind, the title, the person and the total are given; enqueue adds its jobs in the same
// transaction, so that there is never the one without the other.
func (s Runs) Start(ctx context.Context, r Run, enqueue func(tx *sql.Tx, run uuid.UUID) error) (Run, error) {
	r.ID = newID()
	event, err := json.Marshal(Event{Site: r.Site, What: "run", ID: r.ID})
	if err != nil {
		return r, err
	}
	return r, s.tx(ctx, func(tx *sqlx.Tx) error {
		var row struct {
			Created time.Time `db:"created_at"`
			Told    any       `db:"told"`
		}
		if err := tx.GetContext(ctx, &row, `WITH r AS (INSERT INTO runs (id, site_id, kind, title, total, person)
				VALUES ($1, $2, $3, $4, $5, $6) RETURNING created_at)
			SELECT created_at, pg_notify($7, $8)::text AS told FROM r`,
			r.ID, r.Site, r.Kind, r.Title, r.Total, r.Person, channel, string(event)); err != nil {
			return err
		}
		r.Created = row.Created
		return enqueue(tx.Tx, r.ID)
	})
}

// stillToDo are the states of a job that is still to be done, or is being done.
const stillToDo = "('available','pending','retryable','running','scheduled')"

// Get returns one run.
func (s Runs) Get(ctx context.Context, id uuid.UUID) (Run, error) {
	var r Run
	return r, notFoundIfNone(s.on(ctx).GetContext(ctx, &r, "SELECT "+runColumns+" FROM runs r WHERE r.id = $1", id))
}

// List returns the newest runs of a site, newest first.
func (s Runs) List(ctx context.Context, site uuid.UUID, limit int) ([]Run, error) {
	var out []Run
	return out, s.on(ctx).SelectContext(ctx, &out, "SELECT "+runColumns+" FROM runs r WHERE r.site_id = $1 ORDER BY r.created_at DESC LIMIT "+
		"$2", site, limit)
}

// Progress says what a run does now. done below zero leaves the count as it is.
func (s Runs) Progress(ctx context.Context, run uuid.UUID, doing string, done int64) error {
	return s.step(ctx, "doing = $3, done = CASE WHEN $4 < 0 THEN done ELSE $4 END", run, doing, done)
}

// step changes a run and tells readers of it, in one statement. It waits for no disk, since every step
// of every device does it.
func (s Runs) step(ctx context.Context, set string, run uuid.UUID, args ...any) error {
	var told int
	err := s.on(ctx).GetContext(ctx, &told, `WITH stepped AS (UPDATE runs SET `+set+` WHERE id = $1 RETURNING site_id),
		told AS (`+tellOf("run", "$1", "stepped", "$2")+`) SELECT 1 FROM told, `+lazily+` AS lazy`, append([]any{run, channel}, args...)...)
	return notFoundIfNone(err)
}

// StepDone counts one finished part of a run.
func (s Runs) StepDone(ctx context.Context, run uuid.UUID) error {
	return s.step(ctx, "done = LEAST(done + 1, total)", run)
}

// Cursor reads how far a run's job has come into v; false where it has just begun.
func (s Runs) Cursor(ctx context.Context, run uuid.UUID, v any) (bool, error) {
	var raw []byte
	if err := s.on(ctx).GetContext(ctx, &raw, "SELECT cursor FROM runs WHERE id = $1", run); err != nil {
		return false, notFoundIfNone(err)
	}
	if string(raw) == "null" {
		return false, nil
	}
	return true, json.Unmarshal(raw, v)
}

// SetCursor keeps how far a run's job has come.
func (s Runs) SetCursor(ctx context.Context, run uuid.UUID, cursor any) error {
	raw, err := json.Marshal(cursor)
	if err != nil {
		return err
	}
	return touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE runs SET cursor = $2 WHERE id = $1", run, string(raw)))
}

// StepTo counts one finished part of a run and keeps where the next begins, both or neither.
func (s Runs) StepTo(ctx context.Context, run uuid.UUID, cursor any) error {
	raw, err := json.Marshal(cursor)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := fenced(ctx, tx); err != nil {
			return err
		}
		var site uuid.UUID
		if err := tx.GetContext(ctx, &site, "UPDATE runs SET done = LEAST(done + 1, total), cursor = $2 WHERE id = $1 RETURNING site_id",
			run, string(raw)); err != nil {
			return notFoundIfNone(err)
		}
		return s.notify(ctx, tx, Event{Site: site, What: "run", ID: run})
	})
}

// Problem notes what went wrong with a run as a whole.
func (s Runs) Problem(ctx context.Context, run uuid.UUID, problem string) error {
	_, err := s.on(ctx).ExecContext(ctx, "UPDATE runs SET problem = $2 WHERE id = $1", run, problem)
	return err
}

// Stop marks a run as stopped by a person.
func (s Runs) Stop(ctx context.Context, run uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var site uuid.UUID
		if err := tx.GetContext(ctx, &site, "UPDATE runs SET stopped_at = COALESCE(stopped_at, now()) WHERE id = $1 RETURNING site_id",
			run); err != nil {
			return notFoundIfNone(err)
		}
		return s.notify(ctx, tx, Event{Site: site, What: "run", ID: run})
	})
}

// Announce tells readers that a run changed; the end of a job changes what is left of it.
func (s Runs) Announce(ctx context.Context, site, run uuid.UUID) error {
	return s.notify(ctx, s.on(ctx), Event{Site: site, What: "run", ID: run})
}
