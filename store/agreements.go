package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/signin"
)

// Agree records that sign-ins may go out so that they can be read: to a device, to a model of a site, or to everything on it.
func (s Consents) Agree(ctx context.Context, by act.Person, site uuid.UUID, r act.Readable) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var device *uuid.UUID
		if r.Device != uuid.Nil {
			device = &r.Device
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO agreements (id, site_id, device_id, model, person_id, in_clear)
			VALUES ($1, $2, $3, $4, NULLIF($5, '00000000-0000-0000-0000-000000000000'::uuid), $6)`,
			newID(), site, device, r.Model, by.ID, r.Clear); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// Disagree ends every agreement that covers a device, also those for its model and its site.
func (s Consents) Disagree(ctx context.Context, site uuid.UUID, x act.NoReadable) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE agreements SET ended_at = now() WHERE ended_at IS NULL AND site_id = $1
			AND (device_id = $2 OR device_id IS NULL AND model IN ('', $3))`, site, x.Device, x.Model); err != nil {
			return err
		}
		// A device that has read the password already is asked about again, too.
		for _, key := range x.OpenedUnder {
			if err := Devices(s).record(ctx, tx, nil, x.Device, Finding{Subject: key, Body: evidence.OpenedUnder{}}, time.Time{}); err != nil {
				return err
			}
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// An agreement is one that holds.
type agreement struct {
	Device *uuid.UUID `json:"device_id"`
	Model  string     `json:"model"`
	Given  time.Time  `json:"given_at"`
	Clear  bool       `json:"in_clear"` // it covers what goes out without TLS too
}

func agreementsQuery(site string) string {
	return "SELECT device_id, model, given_at, in_clear FROM agreements WHERE site_id = " + site + " AND ended_at IS NULL"
}

// agreed returns when the newest agreement that covers a device was given, and how far all of them go; zero for none.
func agreed(list []agreement, device uuid.UUID, model string) (at time.Time, to signin.Agreement) {
	for _, a := range list {
		covers := a.Device != nil && *a.Device == device || a.Device == nil && (a.Model == "" || a.Model == model)
		if !covers {
			continue
		}
		if a.Given.After(at) {
			at = a.Given
		}
		to = max(to, signin.OverTLS)
		if a.Clear {
			to = signin.InClear
		}
	}
	return at, to
}
