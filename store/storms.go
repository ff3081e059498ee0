package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
)

// storming returns a *discovery.StormError where one new device more would be too many. Channels of a recorder are known by their
// numbers, which are bounded elsewhere.
func (s Devices) storming(ctx context.Context, tx *sqlx.Tx, site uuid.UUID, run *uuid.UUID, x sighting.Sighting) error {
	if x.Via != nil {
		return nil
	}
	var here, lately int
	if err := tx.GetContext(ctx, &here, "SELECT count(*) FROM (SELECT 1 FROM devices WHERE site_id = $1 AND addr = $2 AND via IS NULL "+
		"LIMIT $3) d", site, x.Addr.String(), discovery.MostAtAddress); err != nil {
		return err
	}
	most := discovery.MostNew(run != nil)
	if err := tx.GetContext(ctx, &lately, "SELECT count(*) FROM (SELECT 1 FROM devices WHERE site_id = $1 AND created_at > now() - "+
		"interval '1 minute' LIMIT $2) d", site, most); err != nil {
		return err
	}
	return discovery.Storming(x.Addr, here, lately, run != nil)
}

// toldEnough returns a *discovery.StormError where a device has announced itself so often that no more of it is filed for now.
func (s Devices) toldEnough(ctx context.Context, tx *sqlx.Tx, device uuid.UUID, addr string) error {
	var n struct {
		Minute int `db:"minute"`
		Hour   int `db:"hour"`
	}
	if err := tx.GetContext(ctx, &n, `SELECT count(*) AS hour, count(*) FILTER (WHERE at > now() - interval '1 minute') AS minute FROM evidence
		WHERE device_id = $1 AND kind IN ('heard', 'left') AND run_id IS NULL AND at > now() - interval '1 hour'`, device); err != nil {
		return err
	}
	return discovery.ToldEnough(addr, n.Minute, n.Hour)
}

func (s Devices) countStorm(ctx context.Context, tx *sqlx.Tx, site uuid.UUID, addr string) error {
	var known int
	if err := tx.GetContext(ctx, &known, "SELECT count(*) FROM storms WHERE site_id = $1 AND addr <> $2", site, addr); err != nil {
		return err
	}
	if known >= mostStorms {
		addr = "" // many addresses: told together
	}
	var dropped int64
	if err := tx.GetContext(ctx, &dropped, `INSERT INTO storms (site_id, addr) VALUES ($1, $2)
		ON CONFLICT (site_id, addr) DO UPDATE SET dropped = storms.dropped + 1, last_at = now() RETURNING dropped`, site, addr); err != nil {
		return err
	}
	if dropped == 1 {
		return s.notify(ctx, tx, Event{Site: site, What: "site", ID: site})
	}
	return nil
}

// mostStorms is how many addresses are told one by one.
const mostStorms = 20

// A Storm is what was heard from an address and not filed; Addr is "" for many addresses.
type Storm struct {
	Addr    string    `db:"addr" json:"address"`
	First   time.Time `db:"first_at" json:"first_at"`
	Last    time.Time `db:"last_at" json:"last_at"`
	Dropped int64     `db:"dropped" json:"dropped" doc:"announcements that were not filed"`
}

// EndStorms forgets the storms of a site once a person has seen them.
func (s Sites) EndStorms(ctx context.Context, site uuid.UUID) error {
	if _, err := s.on(ctx).ExecContext(ctx, "DELETE FROM storms WHERE site_id = $1", site); err != nil {
		return err
	}
	return s.notify(ctx, s.on(ctx), Event{Site: site, What: "site", ID: site})
}
