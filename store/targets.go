package store

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/evidence"
	"unlatch/core/target"
	"unlatch/core/target/onvifrecorder"
)

// Targets are what cameras are put onto, and which cameras shall be.
type Targets struct{ *database }

// A Target is something that cameras are put onto.
type Target struct {
	ID       uuid.UUID                `db:"id"`
	Site     uuid.UUID                `db:"site_id"`
	Kind     target.Kind              `db:"kind"`
	Name     string                   `db:"name"`
	Device   *uuid.UUID               `db:"device_id"` // of one that a sweep has found; its ID is the target's
	Address  string                   `db:"address"`   // as the kind writes it; "" for a device
	Intake   string                   `db:"intake"`    // the name of what it accepts; "" where nobody has said
	SignIn   *uuid.UUID               `db:"sign_in_id"`
	Settings jsonb[map[string]string] `db:"settings"`
	Via      *uuid.UUID               `db:"via_id"` // the target that it is reached by way of
	Shared   bool                     `db:"shared"` // other sites may use it
	Takes    string                   `db:"takes"`  // the scheme in which it has taken its sign-in last
	Refused  *uuid.UUID               `db:"refused_id"`
	Pin      string                   `db:"pin"`
	PinTaken bool                     `db:"pin_taken"` // a person has looked at that certificate
	// OpenedUnder is the certificate under which the sign-in OpenedWith has opened it so that it could be read.
	OpenedUnder string     `db:"opened_under"`
	OpenedWith  *uuid.UUID `db:"opened_with"`

	About   *jsonb[target.About]  `db:"about"` // what it last said of itself
	Layout  *jsonb[target.Layout] `db:"layout"`
	Seen    *time.Time            `db:"seen_at"`
	Listed  time.Time             `db:"listed_at"` // when what stands on it last changed
	Created time.Time             `db:"created_at"`
}

const targetColumns = "id, site_id, kind, name, device_id, address, intake, sign_in_id, settings, via_id, shared, takes, refused_id, pin, pin_taken, opened_under, opened_with, " +
	"about, layout, seen_at, listed_at, created_at"

// Get returns one target.
func (s Targets) Get(ctx context.Context, id uuid.UUID) (t Target, err error) {
	return t, found(s.db.GetContext(ctx, &t, "SELECT "+targetColumns+" FROM targets WHERE id = $1", id))
}

// List lists the targets that a site has, and those of other sites that are shared, the oldest first.
func (s Targets) List(ctx context.Context, site uuid.UUID) (out []Target, err error) {
	return out, s.db.SelectContext(ctx, &out, "SELECT "+targetColumns+" FROM targets WHERE site_id = $1 OR shared ORDER BY created_at, id", site)
}

func placesOf(reach []netip.AddrPort) []string {
	out := make([]string, len(reach))
	for i, a := range reach {
		out[i] = a.String()
	}
	return out
}

// Add adds a target that stands at an address of its own. reach are the places that it may be reached at, beyond the site's ranges.
func (s Targets) Add(ctx context.Context, by Person, t Target, reach []netip.AddrPort) (uuid.UUID, error) {
	t.ID = newID()
	return t.ID, s.tx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO targets (id, site_id, kind, name, address, reach, intake, sign_in_id, settings, via_id, shared)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`, t.ID, t.Site, t.Kind, t.Name, t.Address, placesOf(reach), t.Intake, t.SignIn,
			t.Settings, t.Via, t.Shared)
		if err != nil {
			return err
		}
		return s.changed(ctx, tx, by, "added the target", t, reach)
	})
}

// Set changes a target; its kind stays. An empty pin takes the next certificate that it shows for its own. Another sign-in is another
// chance: what was refused before is forgotten. At another address, or with another certificate, it is a stranger: what was agreed ends.
func (s Targets) Set(ctx context.Context, by Person, t Target, reach []netip.AddrPort) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		err := one(tx.ExecContext(ctx, `UPDATE targets SET name = $3, address = $4, reach = $5, intake = $6, sign_in_id = $7, settings = $8, via_id = $9,
			shared = $10, refused_id = CASE WHEN sign_in_id IS DISTINCT FROM $7 THEN NULL ELSE refused_id END,
			takes = CASE WHEN address = $4 THEN takes ELSE '' END, pin_taken = pin_taken AND address = $4 AND pin = $11,
			pin = CASE WHEN address = $4 THEN $11 ELSE '' END WHERE id = $1 AND site_id = $2`, t.ID, t.Site, t.Name, t.Address, placesOf(reach), t.Intake,
			t.SignIn, t.Settings, t.Via, t.Shared, t.Pin))
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE target_agreements a SET ended_at = now(), ended_why = 'the target was changed' FROM targets t
			WHERE t.id = $1 AND a.target_id = t.id AND a.ended_at IS NULL AND t.takes = '' AND t.pin = '' AND a.identity IS NOT NULL`, t.ID); err != nil {
			return err
		}
		return s.changed(ctx, tx, by, "changed the target", t, reach)
	})
}

// changed records who changed a target, with the places beyond the ranges that it opens, and tells readers.
func (s Targets) changed(ctx context.Context, tx *sqlx.Tx, by Person, action string, t Target, reach []netip.AddrPort) error {
	subject := t.Name
	if len(reach) > 0 {
		subject += ", reached at"
		for _, a := range reach {
			subject += " " + a.String()
		}
	}
	if err := audit(ctx, tx, Deed{Person: by, Action: action, Subject: subject, Site: t.Site}); err != nil {
		return err
	}
	return s.siteChanged(ctx, tx, t.Site)
}

// Delete removes a target that is no device. What was recorded of placements on it stays with the cameras.
func (s Targets) Delete(ctx context.Context, by Person, site, id uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var name string
		err := tx.GetContext(ctx, &name, "DELETE FROM targets WHERE id = $1 AND site_id = $2 AND device_id IS NULL RETURNING name", id, site)
		if err != nil {
			return found(err)
		}
		return s.changed(ctx, tx, by, "removed the target", Target{Site: site, Name: name}, nil)
	})
}

// SetIntake says what a target accepts, by the name of an intake; "" takes that back.
func (s Targets) SetIntake(ctx context.Context, site, id uuid.UUID, name string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := one(tx.ExecContext(ctx, "UPDATE targets SET intake = $3 WHERE id = $1 AND site_id = $2", id, site, name)); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// Addresses are the places beyond a site's ranges that its targets may be reached at.
func (s Targets) Addresses(ctx context.Context, site uuid.UUID) (out []netip.AddrPort, err error) {
	var rows []string
	if err := s.db.SelectContext(ctx, &rows, "SELECT unnest(reach) FROM targets WHERE site_id = $1 OR shared", site); err != nil {
		return nil, err
	}
	for _, r := range rows {
		a, err := netip.ParseAddrPort(r)
		if err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, nil
}

// asTarget makes a device that takes cameras a target, where it is none yet.
func asTarget(ctx context.Context, tx *sqlx.Tx, device uuid.UUID) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO targets (id, site_id, kind, device_id) SELECT id, site_id, $2, id FROM devices WHERE id = $1
		ON CONFLICT DO NOTHING`, device, onvifrecorder.Kind)
	return err
}

// takesCameras reports whether a finding shows that a device is a target.
func takesCameras(b evidence.Body) bool {
	in, ok := b.(evidence.SignedIn)
	return ok && in.Recorder
}

// A Wish is that cameras shall stand on a target.
type Wish struct {
	Device uuid.UUID
	Slot   string // the target's own name of it; "" for the first free one
	Role   string // the stream; "" for the rule's own choice
}

// Want records that cameras shall stand on a target, in any slot and in this order.
func (s Targets) Want(ctx context.Context, devices []uuid.UUID, target uuid.UUID) error {
	list := make([]Wish, len(devices))
	for i, d := range devices {
		list[i].Device = d
	}
	return s.Wish(ctx, list, target)
}

// Wish records where exactly cameras shall stand on a target. A camera that is wanted there already keeps its place in the order.
func (s Targets) Wish(ctx context.Context, list []Wish, target uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := asTarget(ctx, tx, target); err != nil {
			return err
		}
		for _, x := range list {
			if _, err := tx.ExecContext(ctx, `INSERT INTO wanted_placements (device_id, target_id, slot, role, place)
				VALUES ($1, $2, $3, $4, 1 + (SELECT COALESCE(max(place), 0) FROM wanted_placements WHERE target_id = $2))
				ON CONFLICT (device_id, target_id) DO UPDATE SET slot = $3, role = $4`, x.Device, target, x.Slot, x.Role); err != nil {
				return err
			}
			if err := s.deviceChanged(ctx, tx, x.Device); err != nil {
				return err
			}
		}
		return s.relisted(ctx, tx, target)
	})
}

// relisted notes that what stands on a target has changed: screens that fetched its list before have an old one.
func (s Targets) relisted(ctx context.Context, tx *sqlx.Tx, target uuid.UUID) error {
	if _, err := tx.ExecContext(ctx, "UPDATE targets SET listed_at = now() WHERE id = $1", target); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE feed_screens SET showing = '[]' WHERE target_id = $1", target)
	return err
}

// Order puts the cameras on a target into an order; those that are not named come behind.
func (s Targets) Order(ctx context.Context, target uuid.UUID, devices []uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE wanted_placements w SET place = COALESCE(array_position($2::uuid[], w.device_id), 100000 + place)
			WHERE target_id = $1`, target, devices)
		if err != nil {
			return err
		}
		return s.relisted(ctx, tx, target)
	})
}

// On lists the cameras that are wanted on a target, in their order there.
func (s Targets) On(ctx context.Context, target uuid.UUID) (out []uuid.UUID, err error) {
	return out, s.db.SelectContext(ctx, &out, "SELECT device_id FROM wanted_placements WHERE target_id = $1 ORDER BY place, created_at", target)
}

// Unwant takes the wish back.
func (s Targets) Unwant(ctx context.Context, device, target uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM wanted_placements WHERE device_id = $1 AND target_id = $2", device,
			target); err != nil {
			return err
		}
		if err := s.relisted(ctx, tx, target); err != nil {
			return err
		}
		return s.deviceChanged(ctx, tx, device)
	})
}
