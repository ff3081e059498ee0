package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/discovery"
)

// Bounds on devices that were never heard before. A wire on which somebody invents devices brings more than any real one has.
const (
	// MostAtAddress is how many may be known at one address; a real one has two at most, by mistake.
	MostAtAddress = 8
	// MostAnnounced is how many a site may gain within a minute by announcements that nobody asked for.
	MostAnnounced = 300
	// MostSwept is how many a site may gain within a minute by a sweep.
	MostSwept = 6000
	// MostTold is how often within a minute, and MostToldHourly within an hour, what a device announces of itself is filed: one that comes and
	// goes, or changes its name, without end fills no table.
	MostTold       = 20
	MostToldHourly = 120
)

// A StormError means that a sighting was not filed: it would have been one new device too many.
type StormError struct {
	Addr string // where they come from; "" for a whole site
	Most int
	Told bool // what one device announces of itself, and not new devices
}

func (e *StormError) Error() string {
	if e.Told {
		return fmt.Sprintf("a device at %s announces itself more than %d times within a minute or an hour", e.Addr, e.Most)
	}
	if e.Addr == "" {
		return fmt.Sprintf("more than %d devices within a minute that were never heard before", e.Most)
	}
	return fmt.Sprintf("more than %d devices at %s", e.Most, e.Addr)
}

// storming returns a *StormError where one new device more would be too many. Channels of a recorder are known by their numbers, which are
// bounded elsewhere.
func (s Devices) storming(ctx context.Context, tx *sqlx.Tx, site uuid.UUID, run *uuid.UUID, x discovery.Sighting) error {
	if x.Via != nil {
		return nil
	}
	var here, lately int
	if err := tx.GetContext(ctx, &here, "SELECT count(*) FROM (SELECT 1 FROM devices WHERE site_id = $1 AND addr = $2 AND via IS NULL "+
		"LIMIT $3) d", site, x.Addr.String(), MostAtAddress); err != nil {
		return err
	}
	if here >= MostAtAddress {
		return &StormError{Addr: x.Addr.String(), Most: MostAtAddress}
	}
	most := MostAnnounced
	if run != nil {
		most = MostSwept
	}
	if err := tx.GetContext(ctx, &lately, "SELECT count(*) FROM (SELECT 1 FROM devices WHERE site_id = $1 AND created_at > now() - "+
		"interval '1 minute' LIMIT $2) d", site, most); err != nil {
		return err
	}
	if lately >= most {
		return &StormError{Most: most}
	}
	return nil
}

// toldEnough returns a *StormError where a device has announced itself so often that no more of it is filed for now.
func (s Devices) toldEnough(ctx context.Context, tx *sqlx.Tx, device uuid.UUID, addr string) error {
	var n struct {
		Minute int `db:"minute"`
		Hour   int `db:"hour"`
	}
	if err := tx.GetContext(ctx, &n, `SELECT count(*) AS hour, count(*) FILTER (WHERE at > now() - interval '1 minute') AS minute FROM evidence
		WHERE device_id = $1 AND kind IN ('heard', 'left') AND run_id IS NULL AND at > now() - interval '1 hour'`, device); err != nil {
		return err
	}
	switch {
	case n.Minute >= MostTold:
		return &StormError{Addr: addr, Most: MostTold, Told: true}
	case n.Hour >= MostToldHourly:
		return &StormError{Addr: addr, Most: MostToldHourly, Told: true}
	}
	return nil
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
	if _, err := s.db.ExecContext(ctx, "DELETE FROM storms WHERE site_id = $1", site); err != nil {
		return err
	}
	return s.notify(ctx, s.db, Event{Site: site, What: "site", ID: site})
}
