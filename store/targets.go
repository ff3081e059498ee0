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
	ID      uuid.UUID   `db:"id"`
	Site    uuid.UUID   `db:"site_id"`
	Kind    target.Kind `db:"kind"`
	Name    string      `db:"name"`
	Device  *uuid.UUID  `db:"device_id"` // of one that a sweep has found; its ID is the target's
	Address string      `db:"address"`   // as the kind writes it; "" for a device
	Intake  string      `db:"intake"`    // the name of what it accepts; "" where nobody has said
	Created time.Time   `db:"created_at"`
}

const targetColumns = "id, site_id, kind, name, device_id, address, intake, created_at"

// Get returns one target.
func (s Targets) Get(ctx context.Context, id uuid.UUID) (t Target, err error) {
	return t, found(s.db.GetContext(ctx, &t, "SELECT "+targetColumns+" FROM targets WHERE id = $1", id))
}

// List lists the targets of a site, the oldest first.
func (s Targets) List(ctx context.Context, site uuid.UUID) (out []Target, err error) {
	return out, s.db.SelectContext(ctx, &out, "SELECT "+targetColumns+" FROM targets WHERE site_id = $1 ORDER BY created_at, id", site)
}

// Add adds a target that stands at an address of its own. reach are the places that it may be reached at, beyond the site's ranges.
func (s Targets) Add(ctx context.Context, by Person, t Target, reach []netip.AddrPort) (uuid.UUID, error) {
	t.ID = newID()
	places := make([]string, len(reach))
	for i, a := range reach {
		places[i] = a.String()
	}
	return t.ID, s.tx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO targets (id, site_id, kind, name, address, reach) VALUES ($1, $2, $3, $4, $5, $6)",
			t.ID, t.Site, t.Kind, t.Name, t.Address, places)
		if err != nil {
			return err
		}
		if err := audit(ctx, tx, Deed{Person: by, Action: "added the target", Subject: t.Name, Site: t.Site}); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: t.Site, What: "site", ID: t.Site})
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
	if err := s.db.SelectContext(ctx, &rows, "SELECT unnest(reach) FROM targets WHERE site_id = $1", site); err != nil {
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

// Want records that cameras shall stand on a target.
func (s Targets) Want(ctx context.Context, devices []uuid.UUID, target uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := asTarget(ctx, tx, target); err != nil {
			return err
		}
		for _, d := range devices {
			if _, err := tx.ExecContext(ctx,
				"INSERT INTO wanted_placements (device_id, target_id) VALUES ($1, $2) ON CONFLICT DO NOTHING", d,
				target); err != nil {
				return err
			}
			if err := s.deviceChanged(ctx, tx, d); err != nil {
				return err
			}
		}
		return nil
	})
}

// Unwant takes the wish back.
func (s Targets) Unwant(ctx context.Context, device, target uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM wanted_placements WHERE device_id = $1 AND target_id = $2", device,
			target); err != nil {
			return err
		}
		return s.deviceChanged(ctx, tx, device)
	})
}

// SetRoles keeps what a person uses a device's streams as, by the streams' tokens; none is the rule's own choice.
func (s Devices) SetRoles(ctx context.Context, by Person, d *Device, roles map[string]string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM stream_roles WHERE device_id = $1", d.ID); err != nil {
			return err
		}
		for token, role := range roles {
			if _, err := tx.ExecContext(ctx, "INSERT INTO stream_roles (device_id, token, role) VALUES ($1, $2, $3)", d.ID, token,
				role); err != nil {
				return err
			}
		}
		if err := audit(ctx, tx, Deed{Person: by, Action: "chose the roles of the streams of", Site: d.Site, Device: d.ID}); err != nil {
			return err
		}
		return s.deviceChanged(ctx, tx, d.ID)
	})
}

// roles are the roles that people gave to streams, by device and token.
func (s Devices) roles(ctx context.Context, where string, arg any) (map[uuid.UUID]map[string]string, error) {
	var rows []struct {
		Device uuid.UUID `db:"device_id"`
		Token  string    `db:"token"`
		Role   string    `db:"role"`
	}
	err := s.db.SelectContext(ctx, &rows, "SELECT r.device_id, r.token, r.role FROM stream_roles r JOIN devices d ON d.id = r.device_id "+
		"WHERE "+where, arg)
	out := map[uuid.UUID]map[string]string{}
	for _, r := range rows {
		if out[r.Device] == nil {
			out[r.Device] = map[string]string{}
		}
		out[r.Device][r.Token] = r.Role
	}
	return out, err
}
