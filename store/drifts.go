package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/drift"
)

// Drifts are how sites differ from what was agreed on, each with its time.
type Drifts struct{ *database }

type driftRow struct {
	ID       uuid.UUID          `db:"id"`
	Site     uuid.UUID          `db:"site_id"`
	Body     jsonb[drift.Drift] `db:"body"`
	After    *time.Time         `db:"after_at"`
	Before   time.Time          `db:"before_at"`
	Ended    *time.Time         `db:"ended_at"`
	Flaps    int                `db:"flaps"`
	PutOff   *time.Time         `db:"put_off"`
	PutOffBy string             `db:"put_off_by"`
	Told     *time.Time         `db:"told_at"`
}

const driftColumns = "id, site_id, body, after_at, before_at, ended_at, flaps, put_off, put_off_by, told_at"

func (r driftRow) episode() drift.Episode {
	e := drift.Episode{ID: r.ID, Drift: r.Body.V, Before: r.Before.UTC(), Flaps: r.Flaps, PutOffBy: r.PutOffBy}
	for to, from := range map[*time.Time]*time.Time{&e.After: r.After, &e.Ended: r.Ended, &e.PutOff: r.PutOff, &e.Told: r.Told} {
		if from != nil {
			*to = from.UTC()
		}
	}
	return e
}

func episodes(rows []driftRow) []drift.Episode {
	out := make([]drift.Episode, len(rows))
	for i, r := range rows {
		out[i] = r.episode()
	}
	return out
}

// Open returns the drifts of a site that last, the oldest first.
func (s Drifts) Open(ctx context.Context, site uuid.UUID) ([]drift.Episode, error) {
	var rows []driftRow
	err := s.on(ctx).SelectContext(ctx, &rows,
		"SELECT "+driftColumns+" FROM drifts WHERE site_id = $1 AND ended_at IS NULL ORDER BY before_at, id",
		site)
	return episodes(rows), err
}

// Between returns the drifts of a site, or of one of its devices, that lasted at some time between two, the newest first.
func (s Drifts) Between(ctx context.Context, site, device uuid.UUID, from, to time.Time) ([]drift.Episode, error) {
	var rows []driftRow
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT "+driftColumns+` FROM drifts WHERE site_id = $1
		AND ($2::uuid = '00000000-0000-0000-0000-000000000000'::uuid OR device_id = $2) AND before_at <= $4 AND (ended_at IS NULL
		OR ended_at >= $3)
		ORDER BY before_at DESC, id DESC LIMIT 1000`, site, device, from, to)
	return episodes(rows), err
}

// Some returns drifts of a site by their IDs. It is an error of ErrNotFound where one is not there.
func (s Drifts) Some(ctx context.Context, site uuid.UUID, ids []uuid.UUID) ([]drift.Episode, error) {
	var rows []driftRow
	err := s.on(ctx).SelectContext(ctx, &rows,
		"SELECT "+driftColumns+" FROM drifts WHERE site_id = $1 AND id = ANY($2) ORDER BY before_at, id", site,
		ids)
	if err == nil && len(rows) < len(ids) {
		err = ErrNotFound
	}
	return episodes(rows), err
}

// FoundDrifts are what a look has found of one device or target.
type FoundDrifts struct {
	Site   uuid.UUID
	Of     uuid.UUID // the device, or the target where Target is set
	Target bool
	Drifts []drift.Drift
	// After is the look before, the zero time for none, and At this one.
	After, At time.Time
}

// Settle keeps what a look has found, as drift.Settle says.
func (s Drifts) Settle(ctx context.Context, x FoundDrifts) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := fenced(ctx, tx); err != nil {
			return err
		}
		column := "device_id"
		if x.Target {
			column = "target_id"
		}
		// Two that settle one device at once, after a look at it and after one at its target, would both begin the same drift.
		if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 27))", x.Of.String()); err != nil {
			return err
		}
		var rows []driftRow
		if err := tx.SelectContext(ctx, &rows, "SELECT "+driftColumns+" FROM drifts WHERE "+column+
			" = $1 AND (ended_at IS NULL OR ended_at > $2)", x.Of, x.At.Add(-drift.FlapsWithin)); err != nil {
			return err
		}
		put := drift.Settle(episodes(rows), x.Drifts, x.After, x.At)
		for _, e := range put {
			if err := s.put(ctx, tx, x, column, e); err != nil {
				return err
			}
		}
		if len(put) == 0 {
			return nil
		}
		return s.notify(ctx, tx, Event{Site: x.Site, What: "drift", ID: x.Of})
	})
}

func (s Drifts) put(ctx context.Context, tx *sqlx.Tx, x FoundDrifts, column string, e drift.Episode) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO drifts (id, site_id, "+column+`, cause, subject, body, after_at, before_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (id) DO UPDATE SET body = excluded.body, ended_at = $9, flaps = $10,
		put_off = CASE WHEN $9::timestamptz IS NULL THEN drifts.put_off END`,
		e.ID, x.Site, x.Of, e.Cause, e.Subject, JSON(e.Drift), timeOrNull(e.After), e.Before, timeOrNull(e.Ended), e.Flaps)
	return err
}

func timeOrNull(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// End ends drifts of a site that were agreed on: the next look would find them gone.
func (s Drifts) End(ctx context.Context, site uuid.UUID, ids []uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE drifts SET ended_at = now() WHERE site_id = $1 AND id = ANY($2) AND ended_at IS NULL", site,
			ids); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: site, What: "drift", ID: site})
	})
}

// PutOff has drifts of a site told no more until a time; the zero time takes that back.
func (s Drifts) PutOff(ctx context.Context, site uuid.UUID, ids []uuid.UUID, until time.Time, by string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			"UPDATE drifts SET put_off = $3, put_off_by = $4 WHERE site_id = $1 AND id = ANY($2) AND ended_at IS NULL",
			site, ids, timeOrNull(until), by); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: site, What: "drift", ID: site})
	})
}

// Mend notes that the watch begins a repair of a drift by itself. It reports false, and notes nothing, where it has begun most of them at
// the site since a time, or one of the same drift within the last hour.
func (s Drifts) Mend(ctx context.Context, site, id uuid.UUID, repair drift.Repair, since time.Time, most int) (may bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 26))", site.String()); err != nil {
			return err
		}
		var n struct {
			All  int `db:"all_of"`
			Same int `db:"same"`
		}
		if err := tx.GetContext(ctx, &n, `SELECT count(*) AS all_of, count(*) FILTER (WHERE drift_id = $2 AND at > $3::timestamptz
			+ interval '23 hours')
			AS same FROM mends WHERE site_id = $1 AND at > $3`, site, id, since); err != nil {
			return err
		}
		if may = n.All < most && n.Same == 0; !may {
			return nil
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO mends (drift_id, site_id, repair) VALUES ($1, $2, $3)", id, site, repair)
		return err
	})
	return may, err
}
