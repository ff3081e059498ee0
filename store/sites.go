package store

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
)

// Sites are the networks to work on, with their address lists.
type Sites struct{ *database }

// A Site is one network to work on.
type Site struct {
	ID      uuid.UUID
	Name    string
	Ranges  address.Ranges
	Network address.Network // how its addresses are laid out
	Watch   bool            // whether what devices announce by themselves is listened to
	// Customer is whose site it is; empty where nobody has said.
	Customer string
	// LinkMbps is how much may flow at once while streams are measured, in Mbit/s; 0 for what the interface carries.
	LinkMbps int
	Created  time.Time
	Reached  bool    // whether a worker reaches it now
	Workers  int     // how many do, as far as whoever asks may know
	Far      bool    // whether it is a paired worker's: then no other takes its work but one that names it
	Storms   []Storm // what was heard and not filed, the largest first
}

// siteQuery reads sites with what lies beside them, in one go, and with more columns.
func siteQuery(more string) string {
	return `SELECT s.id, s.name, to_json(s.ranges) AS ranges, s.network, s.watch, s.customer, s.link_mbps, s.created_at,
		far_site(s.id) AS far, site_workers(s.id) AS workers,
		(SELECT COALESCE(json_agg(json_build_object('address', addr, 'first_at', first_at, 'last_at', last_at, 'dropped', dropped)
			ORDER BY dropped DESC, addr), '[]') FROM storms t WHERE t.site_id = s.id) AS storms` + more + ` FROM sites s`
}

type siteRow struct {
	ID      uuid.UUID `db:"id"`
	Name    string    `db:"name"`
	Ranges  []byte    `db:"ranges"`  // JSON
	Network []byte    `db:"network"` // JSON
	Watch   bool      `db:"watch"`
	Owner   string    `db:"customer"`
	Link    int       `db:"link_mbps"`
	Created time.Time `db:"created_at"`
	Far     bool      `db:"far"`
	Workers int       `db:"workers"`
	Storms  []byte    `db:"storms"` // JSON
}

func (r siteRow) site() (Site, error) {
	site := Site{ID: r.ID, Name: r.Name, Watch: r.Watch, Customer: r.Owner, LinkMbps: r.Link, Created: r.Created,
		Reached: r.Workers > 0, Far: r.Far, Workers: r.Workers}
	return site, errors.Join(json.Unmarshal(r.Ranges, &site.Ranges), json.Unmarshal(r.Network, &site.Network),
		json.Unmarshal(r.Storms, &site.Storms))
}

// Make makes a site.
func (s Sites) Make(ctx context.Context, x act.CreateSite) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO sites (id, name, ranges, link_mbps, customer) VALUES ($1, $2, $3, $4, $5)", x.ID, x.Name,
			x.Ranges.Strings(), x.LinkMbps, x.Customer); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: x.ID, What: "site", ID: x.ID})
	})
}

// Create makes a site of a name and ranges.
func (s Sites) Create(ctx context.Context, name string, ranges address.Ranges) (Site, error) {
	id := newID()
	if err := s.Make(ctx, act.CreateSite{ID: id, SiteForm: act.SiteForm{Name: name, Ranges: ranges}}); err != nil {
		return Site{}, err
	}
	return s.Get(ctx, id)
}

// Change gives a site another name and other ranges.
func (s Sites) Change(ctx context.Context, x act.ChangeSite) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE sites SET name = $2, ranges = $3, link_mbps = $4, customer = $5 WHERE id = $1",
			x.Site, x.Name, x.Ranges.Strings(), x.LinkMbps, x.Customer)); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, x.Site)
	})
}

// LayOut keeps how a site's addresses are laid out.
func (s Sites) LayOut(ctx context.Context, id uuid.UUID, n address.Network) error {
	raw, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE sites SET network = $2 WHERE id = $1", id, string(raw)))
}

// SetWatch turns listening between sweeps on or off.
func (s Sites) SetWatch(ctx context.Context, id uuid.UUID, on bool) error {
	if err := touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE sites SET watch = $2 WHERE id = $1", id, on)); err != nil {
		return err
	}
	return s.notify(ctx, s.on(ctx), Event{Site: id, What: "site", ID: id})
}

// SetCosts keeps what a site's costs are reckoned with, as the form has it.
func (s Sites) SetCosts(ctx context.Context, id uuid.UUID, form json.RawMessage) error {
	return touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE sites SET costs = $2 WHERE id = $1", id, string(form)))
}

// Costs returns what a site's costs are reckoned with; nil where nobody has said.
func (s Sites) Costs(ctx context.Context, id uuid.UUID) (form json.RawMessage, err error) {
	var raw []byte
	err = notFoundIfNone(s.on(ctx).GetContext(ctx, &raw, "SELECT costs FROM sites WHERE id = $1", id))
	return raw, err
}

// Delete removes a site with all its devices and evidence.
func (s Sites) Delete(ctx context.Context, id uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "DELETE FROM sites WHERE id = $1", id)); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: id, What: "site", ID: id})
	})
}

// Get returns one site.
func (s Sites) Get(ctx context.Context, id uuid.UUID) (Site, error) {
	var r siteRow
	if err := s.on(ctx).GetContext(ctx, &r, siteQuery("")+" WHERE s.id = $1", id); err != nil {
		return Site{}, notFoundIfNone(err)
	}
	return r.site()
}

// List returns all sites, oldest first.
func (s Sites) List(ctx context.Context) ([]Site, error) {
	var rows []siteRow
	if err := s.on(ctx).SelectContext(ctx, &rows, siteQuery("")+" ORDER BY s.created_at, s.id"); err != nil {
		return nil, err
	}
	var out []Site
	for _, r := range rows {
		site, err := r.site()
		if err != nil {
			return nil, err
		}
		out = append(out, site)
	}
	return out, nil
}

// A Thing is a kind of thing that is of a site.
type Thing string

// The kinds of things.
const (
	ThingSite   Thing = "site"
	ThingDevice Thing = "device"
	ThingTarget Thing = "target"
	ThingRun    Thing = "run"
	ThingStill  Thing = "still"
	ThingRecord Thing = "record" // of a device or a target
)

var siteOfThing = map[Thing]string{
	ThingSite:   "SELECT id FROM sites WHERE id = $1",
	ThingDevice: "SELECT site_id FROM devices WHERE id = $1",
	ThingTarget: "SELECT site_id FROM targets WHERE id = $1",
	ThingRun:    "SELECT site_id FROM runs WHERE id = $1",
	ThingStill:  "SELECT d.site_id FROM stills s JOIN devices d ON d.id = s.device_id WHERE s.id = $1",
	ThingRecord: `SELECT d.site_id FROM evidence e JOIN devices d ON d.id = e.device_id WHERE e.id = $1
		UNION ALL SELECT t.site_id FROM target_seen e JOIN targets t ON t.id = e.target_id WHERE e.id = $1`,
}

// Of returns the site that a thing is of, or ErrNotFound.
func (s Sites) Of(ctx context.Context, kind Thing, id uuid.UUID) (site uuid.UUID, err error) {
	return site, notFoundIfNone(s.on(ctx).GetContext(ctx, &site, siteOfThing[kind], id))
}

// Missing returns those of the devices and targets that a site does not have: they are another site's, or are gone. A target that another
// site shares is had.
func (s Sites) Missing(ctx context.Context, site uuid.UUID, devices, targets []uuid.UUID) (out []uuid.UUID, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out, `SELECT x.id FROM unnest($2::uuid[]) x(id) WHERE NOT EXISTS (SELECT 1 FROM devices d
		WHERE d.id = x.id AND d.site_id = $1) UNION SELECT x.id FROM unnest($3::uuid[]) x(id) WHERE NOT EXISTS (SELECT 1 FROM targets t
		WHERE t.id = x.id AND (t.site_id = $1 OR t.shared)) AND NOT EXISTS (SELECT 1 FROM devices d WHERE d.id = x.id AND d.site_id = $1)`, site,
		devices, targets)
}

// Elsewhere reports whether any of some IDs is that of a site other than the given one, or of something at another site that other sites
// may not use.
func (s Sites) Elsewhere(ctx context.Context, site uuid.UUID, ids []uuid.UUID) (yes bool, err error) {
	if len(ids) == 0 {
		return false, nil
	}
	parts := []string{"EXISTS (SELECT 1 FROM targets WHERE id = ANY($2) AND site_id <> $1 AND NOT shared)"}
	for _, table := range []string{"devices", "runs", "relays", "drifts", "plans", "site_plans", "sign_ins"} {
		parts = append(parts, "EXISTS (SELECT 1 FROM "+table+" WHERE id = ANY($2) AND site_id <> $1)")
	}
	return yes, s.on(ctx).GetContext(ctx, &yes, "SELECT EXISTS (SELECT 1 FROM sites WHERE id = ANY($2) AND id <> $1) OR "+
		strings.Join(parts, " OR "), site, ids)
}
