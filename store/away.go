package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
)

// A HeldDevice is a device with what its status is derived from, for whoever goes on looking at it while the database is away.
type HeldDevice struct {
	Device
	records []evidence.Record
	intent  latch.Intent
}

// Hold returns a device to be held.
func (s Devices) Hold(ctx context.Context, id uuid.UUID) (*HeldDevice, error) {
	g, err := s.getting(ctx, id)
	if err != nil {
		return nil, err
	}
	in, err := s.intent(ctx, &g.intentReading)
	if err != nil {
		return nil, err
	}
	h := &HeldDevice{Device: g.row.Device, records: g.records, intent: in.of(&g.row.Device)}
	h.Status = latch.Derive(h.records, h.intent)
	return h, nil
}

// Add has the device stand as it does with a finding that was made at a time.
func (h *HeldDevice) Add(f Finding, at time.Time) error {
	raw, err := evidence.Encode(f.Body)
	if err != nil {
		return err
	}
	h.records = append(h.records, evidence.Record{ID: newID(), Device: h.ID, At: at, Kind: evidence.KindOf(f.Body), Subject: f.Subject,
		Body: raw, HasExchange: f.Exchange != ""})
	h.Status = latch.Derive(h.records, h.intent)
	return nil
}

// ErrLookedSince means that somebody has looked at a thing since, so that an older look is not filed.
var ErrLookedSince = errors.New("it was looked at since")

// FileLook files a look that was made while the database was away, with what it has found, all of it or nothing. It returns
// ErrLookedSince where the thing was looked at at that time or later, by whomever: the look itself was filed already, or another worker has
// taken the site over.
func (s Watched) FileLook(ctx context.Context, t Turn, found []Finding, measures map[string]float64, l Looked) error {
	return s.together(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := fenced(ctx, tx); err != nil {
			return err
		}
		var last *time.Time
		err := tx.GetContext(ctx, &last, "SELECT looked_at FROM watched WHERE thing = $1 AND target = $2 FOR UPDATE", t.Thing, t.Target)
		switch {
		case errors.Is(err, sql.ErrNoRows): // it is watched no more
			return ErrLookedSince
		case err != nil:
			return err
		case last != nil && !last.Before(l.At.Truncate(time.Microsecond)):
			return ErrLookedSince
		}
		for _, f := range found {
			if err := Devices(s).Record(ctx, &Device{ID: t.Thing, Site: t.Site}, nil, f); err != nil {
				return err
			}
		}
		if err := s.Measure(ctx, t.Thing, measures, l.At); err != nil {
			return err
		}
		return s.Done(ctx, t, l)
	})
}

// Now returns what time it is by the clock of the database.
func (s *Store) Now(ctx context.Context) (now time.Time, err error) {
	return now, s.on(ctx).GetContext(ctx, &now, "SELECT clock_timestamp()")
}
