package store

import (
	"context"
	"net/netip"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
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
	Reach    jsonb[[]netip.AddrPort]  `db:"reach"`     // the places that it is reached at beyond the site's ranges
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
	Silent  *time.Time            `db:"silent_since"` // since when it cannot be asked
	Listed  time.Time             `db:"listed_at"`    // when what stands on it last changed
	Created time.Time             `db:"created_at"`
}

const targetColumns = "id, site_id, kind, name, device_id, address, to_jsonb(reach) AS reach, intake, sign_in_id, settings, " +
	"via_id, shared, takes, refused_id, pin, pin_taken, opened_under, opened_with, " +
	"about, layout, seen_at, silent_since, listed_at, created_at"

// Get returns one target.
func (s Targets) Get(ctx context.Context, id uuid.UUID) (t Target, err error) {
	return t, notFoundIfNone(s.on(ctx).GetContext(ctx, &t, "SELECT "+targetColumns+" FROM targets WHERE id = $1", id))
}

// List lists the targets that a site has, and those of other sites that are shared, the oldest first.
func (s Targets) List(ctx context.Context, site uuid.UUID) (out []Target, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out,
		"SELECT "+targetColumns+" FROM targets WHERE site_id = $1 OR shared ORDER BY created_at, id", site)
}

// Put keeps a target that stands by itself: a new one, or an old one with what was changed. An empty pin takes the next certificate that
// it shows for its own. Another sign-in is another chance: what was refused before is forgotten. At another address, or with another
// certificate, it is a stranger: what was agreed ends.
func (s Targets) Put(ctx context.Context, site uuid.UUID, t act.PutTarget) error {
	reach := []string{}
	for _, a := range t.Reach {
		reach = append(reach, a.String())
	}
	settings := t.Settings
	if settings == nil {
		settings = map[string]string{}
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if t.New {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO targets (id, site_id, kind, name, address, reach, intake, sign_in_id, settings, via_id, shared)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`, t.ID, site, t.Kind, t.Name, t.Address, reach, t.Intake, t.SignIn,
				JSON(settings), t.Via, t.Shared); err != nil {
				return err
			}
			return s.siteChanged(ctx, tx, site)
		}
		if err := touchedOne(tx.ExecContext(ctx,
			`UPDATE targets SET name = $3, address = $4, reach = $5, intake = $6, sign_in_id = $7, settings = $8, via_id = $9,
			shared = $10, refused_id = CASE WHEN sign_in_id IS DISTINCT FROM $7 THEN NULL ELSE refused_id END,
			takes = CASE WHEN address = $4 AND reach = $5 THEN takes ELSE '' END,
			pin_taken = pin_taken AND address = $4 AND reach = $5 AND NOT $11,
			pin = CASE WHEN address = $4 AND reach = $5 AND NOT $11 THEN pin ELSE '' END WHERE id = $1 AND site_id = $2`,
			t.ID, site, t.Name, t.Address, reach, t.Intake, t.SignIn, JSON(settings), t.Via, t.Shared, t.Renewed)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE target_agreements a SET ended_at = now(), ended_why = 'the target was changed' FROM targets t
			WHERE t.id = $1 AND a.target_id = t.id AND a.ended_at IS NULL AND t.takes = '' AND t.pin = '' AND a.identity IS NOT NULL`,
			t.ID); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// Delete removes a target that is no device. What was recorded of placements on it stays with the cameras.
func (s Targets) Delete(ctx context.Context, site, id uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx,
			"DELETE FROM targets WHERE id = $1 AND site_id = $2 AND device_id IS NULL", id, site)); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// SetIntake says what a target accepts, by the name of an intake; "" takes that back.
func (s Targets) SetIntake(ctx context.Context, site, id uuid.UUID, name string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE targets SET intake = $3 WHERE id = $1 AND site_id = $2", id, site, name)); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// asTargets makes devices that take cameras targets, where they are none yet. What is no device is left alone.
func asTargets(ctx context.Context, tx *sqlx.Tx, devices []uuid.UUID) error {
	_, err := tx.ExecContext(ctx, asTargetsQuery+onceOnly, devices, onvifrecorder.Kind)
	return err
}

// asTargetsQuery makes the devices $1 targets of the kind $2.
const asTargetsQuery = `INSERT INTO targets (id, site_id, kind, device_id) SELECT id, site_id, $2, id FROM devices
	WHERE id = ANY($1)`

const onceOnly = " ON CONFLICT DO NOTHING"

// takesCameras reports whether a finding shows that a device is a target.
func takesCameras(b evidence.Body) bool {
	in, ok := b.(evidence.SignedIn)
	return ok && in.Recorder
}

// Wish records where exactly cameras shall stand on targets. A camera that is wanted there already keeps its place in the order.
func (s Targets) Wish(ctx context.Context, wishes act.Wishes) error {
	type placement struct{ device, target uuid.UUID }
	var devices, on []uuid.UUID
	var slots, roles []string
	at := map[placement]int{}
	for _, x := range wishes {
		key := placement{x.Device, x.Target}
		if i, twice := at[key]; twice {
			slots[i], roles[i] = x.Slot, x.Role
			continue
		}
		at[key] = len(devices)
		devices, on, slots, roles = append(devices, x.Device), append(on, x.Target), append(slots, x.Slot), append(roles, x.Role)
	}
	targets := act.Distinct(on)
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := asTargets(ctx, tx, targets); err != nil {
			return err
		}
		var changed []uuid.UUID
		if err := tx.SelectContext(ctx, &changed, `WITH wished AS (
			INSERT INTO wanted_placements AS w (device_id, target_id, slot, role, place)
			SELECT x.device, x.target, x.slot, x.role, x.n + COALESCE(m.place, 0)
			FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[]) WITH ORDINALITY x(device, target, slot, role, n)
			LEFT JOIN (SELECT target_id, max(place) AS place FROM wanted_placements WHERE target_id = ANY($5)
				GROUP BY target_id) m ON m.target_id = x.target
			ON CONFLICT (device_id, target_id) DO UPDATE SET slot = excluded.slot, role = excluded.role
				WHERE w.slot <> excluded.slot OR w.role <> excluded.role
			RETURNING device_id) SELECT DISTINCT device_id FROM wished`, devices, on, slots, roles, targets); err != nil {
			return err
		}
		if err := s.devicesChanged(ctx, tx, changed); err != nil {
			return err
		}
		return s.relisted(ctx, tx, targets...)
	})
}

// relisted notes that what stands on targets has changed: screens that fetched their lists before have old ones.
func (s Targets) relisted(ctx context.Context, tx *sqlx.Tx, targets ...uuid.UUID) error {
	if _, err := tx.ExecContext(ctx, "UPDATE targets SET listed_at = now() WHERE id = ANY($1)", targets); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE feed_screens SET showing = '[]' WHERE target_id = ANY($1)", targets)
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
	return out, s.on(ctx).SelectContext(ctx, &out,
		"SELECT device_id FROM wanted_placements WHERE target_id = $1 ORDER BY place, created_at", target)
}

// Unwant takes the wish back, and with it a stream that was served on for the target.
func (s Targets) Unwant(ctx context.Context, device, target uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM wanted_placements WHERE device_id = $1 AND target_id = $2", device,
			target); err != nil {
			return err
		}
		if err := Relays(s).removeOn(ctx, tx, device, target); err != nil {
			return err
		}
		if err := s.relisted(ctx, tx, target); err != nil {
			return err
		}
		return s.deviceChanged(ctx, tx, device)
	})
}
