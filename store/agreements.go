package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
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
			if _, err := tx.ExecContext(ctx, "INSERT INTO agreements (id, site_id, device_id, model, person_id) VALUES ($1, $2, $3, $4, "+
				"NULLIF($5, '00000000-0000-0000-0000-000000000000'::uuid))",
				newID(), site, device, model, by.ID); err != nil {
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
}

// agreements returns those of a site that hold.
func (s Devices) agreements(ctx context.Context, site uuid.UUID) ([]agreement, error) {
	var out []agreement
	return out, s.db.SelectContext(ctx, &out, "SELECT device_id, model, given_at FROM agreements WHERE site_id = $1 AND ended_at IS "+
		"NULL", site)
}

// agreed is the newest agreement that covers a device; zero for none.
func agreed(list []agreement, device uuid.UUID, model string) (at time.Time) {
	for _, a := range list {
		covers := a.Device != nil && *a.Device == device || a.Device == nil && (a.Model == "" || a.Model == model)
		if covers && a.Given.After(at) {
			at = a.Given
		}
	}
	return at
}
