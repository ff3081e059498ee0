package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"database/sql"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/watchround"
	"unlatch/core/stream/picturematch"
)

// Watched is what is looked at in rounds: when next, what came of it, and the views that cameras are known by.
type Watched struct{ *database }

// A Turn is one look that is due.
type Turn struct {
	Thing  uuid.UUID `db:"thing"`
	Target bool      `db:"target"` // it is a target, and no device
	Site   uuid.UUID `db:"site_id"`
	RoundS int       `db:"round_s"`
	Full   bool      `db:"is_full"`
	// Looked is the last look, and Before the one before it; nil where there was none.
	Looked *time.Time `db:"looked_at"`
	Before *time.Time `db:"before_at"`
	Doubt  int        `db:"doubt"`
}

// Round returns how long a round of it takes.
func (t Turn) Round() time.Duration { return time.Duration(t.RoundS) * time.Second }

// A Looked is what came of a look.
type Looked struct {
	At time.Time
	// From is the first of several looks that found the same, of which At is the last; the zero time for one look.
	From     time.Time
	Full     bool
	State    watchround.State
	Doubt    int
	Requests int
	Bytes    int64
	Sessions int
	Took     time.Duration
}

// SetRounds keeps how a site is watched, and who has said so.
func (s Sites) SetRounds(ctx context.Context, by act.Person, site uuid.UUID, r watchround.WatchRule) error {
	if err := touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE sites SET rounds = $2, rounds_by = $3 WHERE id = $1", site, JSON(r),
		orNull(by.ID))); err != nil {
		return err
	}
	return s.notify(ctx, s.on(ctx), Event{Site: site, What: "site", ID: site})
}

// Rounds returns how a site is watched, and whose word that is; the zero rule where nobody has said, and the nil UUID where that person is
// no more.
func (s Sites) Rounds(ctx context.Context, site uuid.UUID) (r watchround.WatchRule, by uuid.UUID, err error) {
	var row struct {
		Rounds []byte        `db:"rounds"`
		By     uuid.NullUUID `db:"rounds_by"`
	}
	err = notFoundIfNone(s.on(ctx).GetContext(ctx, &row, "SELECT rounds, rounds_by FROM sites WHERE id = $1", site))
	if err != nil || row.Rounds == nil {
		return r, row.By.UUID, err
	}
	return r, row.By.UUID, json.Unmarshal(row.Rounds, &r)
}

// Enrol makes what is to be watched at a site the same as the lists: what is new is looked at first within a round, fully; what is no
// longer in them, or is not there any more, is not looked at. Another length of a round takes effect at once.
func (s Watched) Enrol(ctx context.Context, site uuid.UUID, r watchround.WatchRule, devices, targets []uuid.UUID, now time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, kind := range []struct {
			target bool
			table  string
			ids    []uuid.UUID
		}{{false, "devices", devices}, {true, "targets", targets}} {
			ids := []uuid.UUID{} // none is an empty list, and not NULL
			if err := tx.SelectContext(ctx, &ids, "SELECT id FROM "+kind.table+" WHERE id = ANY($1) AND site_id = $2 ORDER BY id", kind.ids,
				site); err != nil {
				return err
			}
			round := r.Round(kind.target)
			due := make([]time.Time, len(ids))
			for i, id := range ids {
				due[i] = watchround.First(id, now, round)
			}
			if _, err := tx.ExecContext(ctx, "DELETE FROM watched WHERE site_id = $1 AND target = $2 AND NOT thing = ANY($3)", site, kind.target,
				ids); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO watched AS w (thing, target, site_id, round_s, due, full_due)
				SELECT x.id, $2, $1, $3, x.due, x.due FROM unnest($4::uuid[], $5::timestamptz[]) x(id, due)
				ON CONFLICT (thing, target) DO UPDATE SET round_s = excluded.round_s, due = least(w.due, excluded.due), site_id = excluded.site_id
				WHERE w.round_s <> excluded.round_s OR w.site_id <> excluded.site_id`,
				site, kind.target, int(round/time.Second), ids, due); err != nil {
				return err
			}
		}
		return nil
	})
}

// Claim takes looks that are due at some sites, the longest due first, and plans the next ones: whoever claims a look and dies has missed
// it, and two workers never have the same. A look that is due more than a round ahead is of a clock that was set back.
func (s Watched) Claim(ctx context.Context, sites []uuid.UUID, now time.Time, most int) (out []Turn, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		var rows []struct {
			Turn
			Due time.Time `db:"due"`
		}
		if err := tx.SelectContext(ctx, &rows, `SELECT thing, target, site_id, round_s, full_due <= $2 AS is_full, looked_at,
			before_at, doubt, due
			FROM watched WHERE site_id = ANY($1) AND (due <= $2 OR due > $2 + 2 * make_interval(secs => round_s)) ORDER BY due LIMIT $3
			FOR UPDATE SKIP LOCKED`, sites, now, most); err != nil {
			return err
		}
		things, targets, next := make([]uuid.UUID, len(rows)), make([]bool, len(rows)), make([]time.Time, len(rows))
		for i, r := range rows {
			out = append(out, r.Turn)
			things[i], targets[i], next[i] = r.Thing, r.Target, watchround.Next(r.Due, now, r.Round())
		}
		_, err := tx.ExecContext(ctx, `UPDATE watched w SET due = x.due
			FROM unnest($1::uuid[], $2::boolean[], $3::timestamptz[]) x(thing, target, due)
			WHERE w.thing = x.thing AND w.target = x.target`, things, targets, next)
		return err
	})
	return out, err
}

// Again has something looked at sooner than in its round: it was busy, or an announcement speaks for a look.
func (s Watched) Again(ctx context.Context, thing uuid.UUID, at time.Time, full bool) error {
	_, err := s.on(ctx).ExecContext(ctx, `UPDATE watched SET due = least(due, $2), full_due = CASE WHEN $3 THEN least(full_due,
		$2) ELSE full_due END
		WHERE thing = $1`, thing, at, full)
	return err
}

// AgainByEndpoint has a device of a site looked at by a time, by its endpoint reference. One that is due soon anyway, or was looked at
// within the last minute, is left to its turn: a storm of goodbyes makes no storm of looks.
func (s Watched) AgainByEndpoint(ctx context.Context, site uuid.UUID, endpoint string, at time.Time) error {
	_, err := s.on(ctx).ExecContext(ctx, `UPDATE watched w SET due = least(w.due, $3::timestamptz) FROM devices d WHERE
		d.site_id = $1 AND d.endpoint = $2
		AND w.thing = d.id AND NOT w.target AND (w.looked_at IS NULL OR w.looked_at < $3::timestamptz - interval '2 minutes')`,
		site, endpoint, at)
	return err
}

// Hurry has all that is watched at a site looked at now, fully.
func (s Watched) Hurry(ctx context.Context, site uuid.UUID, now time.Time) error {
	_, err := s.on(ctx).ExecContext(ctx, "UPDATE watched SET due = $2, full_due = $2 WHERE site_id = $1", site, now)
	return err
}

// Remember keeps spans of a thing that were seen by another watch, or invented for a demonstration.
func (s Watched) Remember(ctx context.Context, site, thing uuid.UUID, spans []watchround.SeenSpan) error {
	states, from, to := make([]string, len(spans)), make([]time.Time, len(spans)), make([]time.Time, len(spans))
	for i, x := range spans {
		states[i], from[i], to[i] = string(x.State), x.From, x.To
	}
	_, err := s.on(ctx).ExecContext(ctx, `INSERT INTO spans (thing, site_id, state, from_at, to_at)
		SELECT $1, $2, x.* FROM unnest($3::text[], $4::timestamptz[], $5::timestamptz[]) x ON CONFLICT DO NOTHING`, thing, site, states, from, to)
	return err
}

// Done keeps what came of a look: the span that it belongs to, what it cost, and when the next full look is due.
func (s Watched) Done(ctx context.Context, t Turn, l Looked) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := fenced(ctx, tx); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE watched SET before_at = looked_at, looked_at = $3, state = $4, doubt = $5, requests = $6,
			bytes = $7, sessions = $8, took_ms = $9, full_at = CASE WHEN $10 THEN $3 ELSE full_at END,
			full_due = CASE WHEN $10 THEN $3 + $11 * interval '1 second' ELSE full_due END WHERE thing = $1 AND target = $2`,
			t.Thing, t.Target, l.At, l.State, l.Doubt, l.Requests, l.Bytes, l.Sessions, l.Took.Milliseconds(), l.Full,
			int(watchround.FullEvery/time.Second)); err != nil {
			return err
		}
		from := l.At
		if !l.From.IsZero() {
			from = l.From
		}
		var last watchround.SeenSpan
		err := tx.QueryRowContext(ctx, "SELECT state, from_at, to_at FROM spans WHERE thing = $1 ORDER BY from_at DESC LIMIT 1", t.Thing).Scan(
			&last.State, &last.From, &last.To)
		switch {
		case err != nil && !errors.Is(err, sql.ErrNoRows):
			return err
		case err == nil && last.Extends(l.State, from, t.Round()):
			_, err = tx.ExecContext(ctx, "UPDATE spans SET to_at = $3 WHERE thing = $1 AND from_at = $2", t.Thing, last.From, l.At)
		default:
			_, err = tx.ExecContext(ctx,
				"INSERT INTO spans (thing, site_id, state, from_at, to_at) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING",
				t.Thing, t.Site, l.State, from, l.At)
		}
		return err
	})
}

// Spans returns the spans of one thing, or of all of a site where thing is the nil UUID, that touch a time, in order.
func (s Watched) Spans(ctx context.Context, site, thing uuid.UUID, from, to time.Time) (map[uuid.UUID][]watchround.SeenSpan, error) {
	var rows []struct {
		Thing uuid.UUID        `db:"thing"`
		State watchround.State `db:"state"`
		From  time.Time        `db:"from_at"`
		To    time.Time        `db:"to_at"`
	}
	where, args := "site_id = $3", []any{from, to, site}
	if thing != uuid.Nil {
		where, args = "site_id = $3 AND thing = $4", append(args, thing)
	}
	if err := s.on(ctx).SelectContext(ctx, &rows, "SELECT thing, state, from_at, to_at FROM spans WHERE "+where+
		" AND to_at >= $1 AND from_at <= $2 ORDER BY thing, from_at", args...); err != nil {
		return nil, err
	}
	out := map[uuid.UUID][]watchround.SeenSpan{}
	for _, r := range rows {
		out[r.Thing] = append(out[r.Thing], watchround.SeenSpan{State: r.State, From: r.From, To: r.To})
	}
	return out, nil
}

// A Watch is how the watch of a site goes.
type Watch struct {
	Things   int        `db:"things" json:"things" doc:"how many cameras and targets are looked at"`
	Late     int        `db:"late" json:"late" doc:"of how many a round has passed, and another, without a look"`
	Never    int        `db:"never" json:"never" doc:"how many were not looked at yet"`
	Last     *time.Time `db:"last" json:"last,omitempty" doc:"the last look"`
	Requests int64      `db:"requests" json:"requests" doc:"that the last look at each has sent, all together"`
	Bytes    int64      `db:"bytes" json:"bytes"`
	Sessions int64      `db:"sessions" json:"sessions" doc:"connections that were opened for it"`
}

// How returns how the watch of a site goes.
func (s Watched) How(ctx context.Context, site uuid.UUID, now time.Time) (w Watch, err error) {
	return w, s.on(ctx).GetContext(ctx, &w, `SELECT count(*) AS things, count(*) FILTER (WHERE looked_at < $2::timestamptz -
		2.5 * make_interval(secs => round_s)) AS late, count(*) FILTER (WHERE looked_at IS NULL) AS never, max(looked_at) AS last,
		coalesce(sum(requests), 0) AS requests, coalesce(sum(bytes), 0) AS bytes, coalesce(sum(sessions), 0) AS sessions
		FROM watched WHERE site_id = $1`, site, now)
}

// Last returns when one thing was looked at last, nil where it was not looked at yet; ErrNotFound where it is not watched.
func (s Watched) Last(ctx context.Context, thing uuid.UUID) (t Turn, err error) {
	err = s.on(ctx).GetContext(ctx, &t, `SELECT thing, target, site_id, round_s, false AS is_full, looked_at, before_at, doubt FROM watched
		WHERE thing = $1 ORDER BY target LIMIT 1`, thing)
	return t, notFoundIfNone(err)
}

// Views returns the views that the cameras of a site are known by.
func (s Watched) Views(ctx context.Context, site uuid.UUID) (map[uuid.UUID]picturematch.Views, error) {
	return s.views(ctx, "JOIN devices d ON d.id = v.device_id WHERE d.site_id = $1", site)
}

// ViewsOf returns the views that a camera is known by.
func (s Watched) ViewsOf(ctx context.Context, device uuid.UUID) (picturematch.Views, error) {
	all, err := s.views(ctx, "WHERE device_id = $1", device)
	return all[device], err
}

func (s Watched) views(ctx context.Context, where string, id uuid.UUID) (map[uuid.UUID]picturematch.Views, error) {
	var rows []struct {
		Device uuid.UUID                `db:"device_id"`
		Part   int                      `db:"part"`
		Form   jsonb[picturematch.View] `db:"form"`
	}
	if err := s.on(ctx).SelectContext(ctx, &rows, "SELECT v.device_id, v.part, v.form FROM views v "+where, id); err != nil {
		return nil, fmt.Errorf("reading the views of cameras: %w", err)
	}
	out := map[uuid.UUID]picturematch.Views{}
	for _, r := range rows {
		if out[r.Device] == nil {
			out[r.Device] = picturematch.Views{}
		}
		out[r.Device][r.Part] = r.Form.V
	}
	return out, nil
}

// LearnView keeps the view of a part of the day.
func (s Watched) LearnView(ctx context.Context, device uuid.UUID, part int, v picturematch.View) error {
	_, err := s.on(ctx).ExecContext(ctx, `INSERT INTO views (device_id, part, form) VALUES ($1, $2, $3)
		ON CONFLICT (device_id, part) DO UPDATE SET form = excluded.form`, device, part, JSON(v))
	return err
}

// ForgetViews forgets the views that cameras are known by: what they show next is their view.
func (s Watched) ForgetViews(ctx context.Context, devices []uuid.UUID) error {
	_, err := s.on(ctx).ExecContext(ctx, "DELETE FROM views WHERE device_id = ANY($1)", devices)
	return err
}
