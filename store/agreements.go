package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/evidence"
	"unlatch/core/signin"
)

// A Breadth says how far a person's agreement reaches.
type Breadth string

// ForDevices, ForModels and ForSite: the devices that were selected, all of their models on the site, or everything on the site.
const (
	ForDevices Breadth = "devices"
	ForModels  Breadth = "models"
	ForSite    Breadth = "site"
)

// Agree records that sign-ins may go out to devices so that they can be read, as wide as the person said.
func (s Consents) Agree(ctx context.Context, by Person, site uuid.UUID, devices []Device, wide Breadth) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		done := map[string]bool{}
		for _, d := range devices {
			var device *uuid.UUID
			model := ""
			switch wide {
			case ForDevices:
				device = &d.ID
			case ForModels:
				if model = d.Status.Device.Model(); model == "" {
					device = &d.ID // it tells no model: the device alone
				}
			}
			key := model
			if device != nil {
				key = device.String()
			}
			if done[key] {
				continue
			}
			done[key] = true
			to := d.Status.AgreesTo()
			if device == nil { // for all of a model or site: as far as the furthest of the selection
				for i := range devices {
					to = max(to, devices[i].Status.AgreesTo())
				}
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO agreements (id, site_id, device_id, model, person_id, in_clear)
				VALUES ($1, $2, $3, $4, NULLIF($5, '00000000-0000-0000-0000-000000000000'::uuid), $6)`,
				newID(), site, device, model, by.ID, to == signin.InClear); err != nil {
				return err
			}
		}
		for _, d := range devices {
			if err := audit(ctx, tx, Deed{Person: by, Action: "agreed that the sign-in may be sent readable",
				Subject: map[Breadth]string{ForDevices: "to this device", ForModels: "to its model on the site",
					ForSite: "on the site"}[wide], Site: site, Device: d.ID}); err != nil {
				return err
			}
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// Disagree ends every agreement that covers a device, also those for its model and its site.
func (s Consents) Disagree(ctx context.Context, by Person, d *Device) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`UPDATE agreements SET ended_at = now() WHERE ended_at IS NULL AND site_id = $1 AND (device_id = $2 OR device_id IS NULL AND model IN ('', $3))`,
			d.Site, d.ID, d.Status.Device.Model()); err != nil {
			return err
		}
		// Who has read the password already is asked about again, too.
		for key := range d.Status.OpenedUnder {
			if err := Devices(s).record(ctx, tx, nil, d.ID, key, evidence.OpenedUnder{}, "", time.Time{}); err != nil {
				return err
			}
		}
		if err := audit(ctx, tx, Deed{Person: by, Action: "withdrew the agreement to send the sign-in readable", Site: d.Site,
			Device: d.ID}); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, d.Site)
	})
}

// An agreement is one that holds.
type agreement struct {
	Device *uuid.UUID `db:"device_id"`
	Model  string     `db:"model"`
	Given  time.Time  `db:"given_at"`
	Clear  bool       `db:"in_clear"` // it covers what goes out without TLS too
}

// agreements returns those of a site that hold.
func (s Devices) agreements(ctx context.Context, site uuid.UUID) ([]agreement, error) {
	var out []agreement
	return out, s.db.SelectContext(ctx, &out, "SELECT device_id, model, given_at, in_clear FROM agreements WHERE site_id = $1 AND ended_at IS "+
		"NULL", site)
}

// agreed is when the newest agreement that covers a device was given, and how far all of them go; zero for none.
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
