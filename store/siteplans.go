package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/siteplan"
)

// SitePlans are the pictures of a site's buildings with the cameras that are marked on them.
type SitePlans struct{ *database }

// A SitePlan is one of them, without its picture.
type SitePlan struct {
	ID      uuid.UUID       `db:"id" json:"id"`
	Name    string          `db:"name" json:"name"`
	Width   int             `db:"width" json:"width" doc:"of the picture, in pixels"`
	Height  int             `db:"height" json:"height"`
	Created time.Time       `db:"created_at" json:"created_at"`
	Marks   []siteplan.Mark `db:"-" json:"marks"`
}

// List returns the plans of a site with their marks, the oldest first.
func (s SitePlans) List(ctx context.Context, site uuid.UUID) ([]SitePlan, error) {
	out := []SitePlan{}
	if err := s.on(ctx).SelectContext(ctx, &out, "SELECT id, name, width, height, created_at FROM site_plans WHERE site_id = $1 "+
		"ORDER BY created_at, id", site); err != nil || len(out) == 0 {
		return out, err
	}
	at := map[uuid.UUID]*SitePlan{}
	for i := range out {
		out[i].Marks = []siteplan.Mark{}
		at[out[i].ID] = &out[i]
	}
	var marks []struct {
		Plan      uuid.UUID `db:"plan_id"`
		Device    uuid.UUID `db:"device_id"`
		X         float64   `db:"x"`
		Y         float64   `db:"y"`
		Direction *float64  `db:"direction"`
		View      float64   `db:"view"`
	}
	err := s.on(ctx).SelectContext(ctx, &marks, "SELECT m.plan_id, m.device_id, m.x, m.y, m.direction, m.view FROM site_plan_marks m "+
		"JOIN site_plans p ON p.id = m.plan_id WHERE p.site_id = $1 ORDER BY m.device_id", site)
	for _, m := range marks {
		if p := at[m.Plan]; p != nil {
			p.Marks = append(p.Marks, siteplan.Mark{Device: m.Device, X: m.X, Y: m.Y, Direction: m.Direction, View: m.View})
		}
	}
	return out, err
}

// Picture returns the picture of a plan of a site.
func (s SitePlans) Picture(ctx context.Context, site, plan uuid.UUID) (p siteplan.Picture, err error) {
	row := struct {
		Type    string `db:"type"`
		Picture []byte `db:"picture"`
	}{}
	err = notFoundIfNone(s.on(ctx).GetContext(ctx, &row, "SELECT type, picture FROM site_plans WHERE id = $1 AND site_id = $2", plan, site))
	return siteplan.Picture{Data: row.Picture, Type: row.Type}, err
}

// changed tells pages that the plans of a site have changed.
func (s SitePlans) changed(ctx context.Context, site uuid.UUID, change func(tx *sqlx.Tx) error) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := change(tx); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: site, What: "site-plan", ID: site})
	})
}

// Add keeps a new plan.
func (s SitePlans) Add(ctx context.Context, a act.AddSitePlan) error {
	return s.changed(ctx, a.Site, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO site_plans (id, site_id, name, type, picture, width, height) VALUES "+
			"($1, $2, $3, $4, $5, $6, $7)", a.ID, a.Site, a.Name, a.Picture.Type, a.Picture.Data, a.Picture.Width, a.Picture.Height)
		return err
	})
}

// Rename gives a plan another name.
func (s SitePlans) Rename(ctx context.Context, a act.RenameSitePlan) error {
	return s.changed(ctx, a.Site, func(tx *sqlx.Tx) error {
		return touchedOne(tx.ExecContext(ctx, "UPDATE site_plans SET name = $3 WHERE id = $1 AND site_id = $2", a.Plan, a.Site, a.Name))
	})
}

// Remove removes a plan with its marks.
func (s SitePlans) Remove(ctx context.Context, a act.RemoveSitePlan) error {
	return s.changed(ctx, a.Site, func(tx *sqlx.Tx) error {
		return touchedOne(tx.ExecContext(ctx, "DELETE FROM site_plans WHERE id = $1 AND site_id = $2", a.Plan, a.Site))
	})
}

// Mark puts cameras onto a plan, or moves them there.
func (s SitePlans) Mark(ctx context.Context, a act.MarkOnSitePlan) error {
	var devices []uuid.UUID
	var x, y, view []float64
	var direction []*float64
	for _, m := range a.Marks {
		devices, x, y, view, direction = append(devices, m.Device), append(x, m.X), append(y, m.Y), append(view, m.View),
			append(direction, m.Direction)
	}
	return s.changed(ctx, a.Site, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO site_plan_marks (plan_id, device_id, x, y, direction, view)
			SELECT DISTINCT ON (m.device) $1::uuid, m.device, m.x, m.y, m.direction, m.view
			FROM unnest($2::uuid[], $3::float8[], $4::float8[], $5::float8[], $6::float8[])
				WITH ORDINALITY AS m(device, x, y, direction, view, n)
			ORDER BY m.device, m.n DESC
			ON CONFLICT (plan_id, device_id) DO UPDATE
			SET x = excluded.x, y = excluded.y, direction = excluded.direction, view = excluded.view`, a.Plan, devices, x, y, direction, view)
		return err
	})
}

// TakeOff takes cameras off a plan.
func (s SitePlans) TakeOff(ctx context.Context, a act.TakeOffSitePlan) error {
	return s.changed(ctx, a.Site, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM site_plan_marks WHERE plan_id = $1 AND device_id = ANY($2)", a.Plan, a.Devices)
		return err
	})
}
