package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"unlatch/core/decide/keeping"
)

// Keeping returns how long the past is kept.
func (s Watched) Keeping(ctx context.Context) (r keeping.KeepingRule, err error) {
	var raw []byte
	err = s.on(ctx).GetContext(ctx, &raw, "SELECT form FROM keeping_rule")
	if errors.Is(err, sql.ErrNoRows) {
		return r, nil
	}
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(raw, &r)
}

// SetKeeping says how long the past is kept. What an older rule has let go is gone; what this one keeps longer is kept from now on.
func (s Watched) SetKeeping(ctx context.Context, r keeping.KeepingRule) error {
	_, err := s.on(ctx).ExecContext(ctx, "INSERT INTO keeping_rule (form) VALUES ($1) ON CONFLICT (one) DO UPDATE SET form = excluded.form",
		JSON(r))
	return err
}

// Forgotten is what was let go.
type Forgotten struct {
	Exchanges, Records, Partitions int64
}

// batch is how much is let go in one transaction, so that nobody waits for it.
const batch = 2000

// Forget lets go what a rule keeps no longer. What failed keeps its conversation. Of records that repeat the one before, the first, the
// last and those around a change stay; what a latch stands on is the last of its kind, so that it always stays.
func (s Watched) Forget(ctx context.Context, r keeping.KeepingRule, now time.Time) (f Forgotten, err error) {
	r = r.Whole()
	ago := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	if f.Exchanges, err = s.inBatches(ctx, `WITH gone AS (UPDATE evidence SET exchange = '' WHERE id IN (SELECT e.id FROM evidence e
		WHERE e.at < $1 AND e.exchange <> '' AND COALESCE(e.body->'diagnosis', 'null') = 'null'
		AND NOT EXISTS (SELECT 1 FROM latest_evidence l WHERE l.evidence_id = e.id) ORDER BY e.at LIMIT $2) RETURNING id)
		SELECT count(*) FROM gone`, ago(r.Exchanges)); err != nil {
		return f, err
	}
	if f.Records, err = s.inBatches(ctx, `WITH gone AS (DELETE FROM evidence WHERE id IN (SELECT x.id FROM (SELECT e.id, `+sameAs("lag")+
		` AND `+sameAs("lead")+` AS repeats FROM evidence e
			WHERE e.kind IN ('heard', 'reached', 'proof', 'picture', 'confirmed', 'signed_in') AND e.at < $1
			WINDOW w AS (PARTITION BY e.device_id, e.kind, e.subject ORDER BY e.at, e.id)) x
		WHERE x.repeats AND NOT EXISTS (SELECT 1 FROM latest_evidence l WHERE l.evidence_id = x.id) LIMIT $2)
		RETURNING id, body->>'still' AS still),
		pictures AS (DELETE FROM stills WHERE id IN (SELECT still::uuid FROM gone WHERE still IS NOT NULL))
		SELECT count(*) FROM gone`, ago(r.Repeats)); err != nil {
		return f, err
	}
	for res, days := range map[Resolution]int{Minutes: r.Minutes, Quarters: r.Quarters, Hours: r.Hours} {
		n, err := s.DropMeasures(ctx, res, ago(days))
		if err != nil {
			return f, err
		}
		f.Partitions += int64(n)
	}
	_, err = s.on(ctx).ExecContext(ctx, "DELETE FROM spans WHERE to_at < $1", ago(r.Hours))
	return f, err
}

// sameAs compares a record with the one before or after it by what it found: whether it failed and why, what was measured in size and
// codec, and what a target said.
func sameAs(neighbour string) string {
	out := "true"
	for _, field := range []string{"e.body->'diagnosis'->>'cause'", "e.body->'video'->>'codec'", "e.body->'video'->>'width'",
		"e.body->'video'->>'height'", "e.body->>'ok'", "e.body->>'match'", "e.body->>'says'", "e.body->'info'", "e.body->>'addr'"} {
		out += " AND " + field + " IS NOT DISTINCT FROM " + neighbour + "(" + field + ") OVER w"
	}
	return "(" + out + " AND " + neighbour + "(e.id) OVER w IS NOT NULL)"
}

// inBatches repeats a statement that deletes at most $2 rows and returns how many, until it deletes none. It returns how many were
// deleted in all.
func (s Watched) inBatches(ctx context.Context, query string, at time.Time) (all int64, err error) {
	for {
		var n int64
		if err := s.on(ctx).GetContext(ctx, &n, query, at, batch); err != nil {
			return all, err
		}
		if all += n; n < batch {
			return all, nil
		}
	}
}
