package store

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/stream/tuning"
)

// Plans are what people want of the streams of their cameras.
type Plans struct{ *database }

// A Plan is a plan of a site, of a model there, or of a selection.
type Plan struct {
	ID      uuid.UUID    `db:"id"`
	Site    uuid.UUID    `db:"site_id"`
	Owner   tuning.Owner `db:"owner"`
	Name    string       `db:"name"`
	Plan    tuning.Plan  `db:"-"`
	Devices []uuid.UUID  `db:"-"` // of a selection
	Parts   parts        `db:"parts"`
}

// parts are a plan's texts in the database.
type parts map[string]string

// Scan implements sql.Scanner.
func (p *parts) Scan(v any) error {
	switch v := v.(type) {
	case []byte:
		return json.Unmarshal(v, (*map[string]string)(p))
	case string:
		return json.Unmarshal([]byte(v), (*map[string]string)(p))
	}
	return fmt.Errorf("a plan cannot be read from %T", v)
}

func written(p tuning.Plan) string {
	raw, _ := json.Marshal(p.Texts()) // strings by string
	return string(raw)
}

const planColumns = "id, site_id, owner, name, parts"

// List lists the plans of a site.
func (s Plans) List(ctx context.Context, site uuid.UUID) (out []Plan, err error) {
	if err := s.on(ctx).SelectContext(ctx, &out, "SELECT "+planColumns+" FROM plans WHERE site_id = $1 ORDER BY created_at, id",
		site); err != nil {
		return nil, err
	}
	var members []struct {
		Device    uuid.UUID `db:"device_id"`
		Selection uuid.UUID `db:"selection"`
	}
	if err := s.on(ctx).SelectContext(ctx, &members, `SELECT p.device_id, p.selection FROM device_plans p JOIN plans o ON o.id = p.selection
		WHERE o.site_id = $1 ORDER BY p.device_id`, site); err != nil {
		return nil, err
	}
	for i := range out {
		if out[i].Plan, err = tuning.ParsePlan(out[i].Parts); err != nil {
			return nil, err
		}
		for _, m := range members {
			if m.Selection == out[i].ID {
				out[i].Devices = append(out[i].Devices, m.Device)
			}
		}
	}
	return out, nil
}

// Put keeps a plan in place of the one that its owner had. The devices of a selection leave the one that they were in.
func (s Plans) Put(ctx context.Context, site uuid.UUID, p Plan) (id uuid.UUID, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &id, `INSERT INTO plans (id, site_id, owner, name, parts) VALUES ($1, $2, $3, $4, $5)
			ON CONFLICT (site_id, owner, name) DO UPDATE SET parts = excluded.parts RETURNING id`, newID(), site, p.Owner, p.Name,
			written(p.Plan)); err != nil {
			return err
		}
		if p.Owner == tuning.Selection {
			if _, err := tx.ExecContext(ctx, "UPDATE device_plans SET selection = NULL WHERE selection = $1", id); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO device_plans (device_id, selection) SELECT d, $2 FROM unnest($1::uuid[]) d
				ON CONFLICT (device_id) DO UPDATE SET selection = excluded.selection`, p.Devices, id); err != nil {
				return err
			}
		}
		return s.siteChanged(ctx, tx, site)
	})
	return id, err
}

// Delete takes a plan of a site away. What is set on devices stays as it is.
func (s Plans) Delete(ctx context.Context, site, id uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "DELETE FROM plans WHERE id = $1 AND site_id = $2", id, site)); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// SetOwn adds parts to the own plans of a site's cameras, by device. A plan that is empty takes the camera's own plan away, and takes it
// out of its selection.
func (s Plans) SetOwn(ctx context.Context, own map[uuid.UUID]tuning.Plan) error {
	var ends, sets, all []uuid.UUID
	var parts []string
	for device, plan := range own {
		all = append(all, device)
		if plan.IsZero() {
			ends = append(ends, device)
		} else {
			sets, parts = append(sets, device), append(parts, written(plan))
		}
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM device_plans WHERE device_id = ANY($1)", ends); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO device_plans (device_id, parts) SELECT d, p::jsonb FROM unnest($1::uuid[], $2::text[]) x(d, p)
			ON CONFLICT (device_id) DO UPDATE SET parts = device_plans.parts || excluded.parts`, sets, parts); err != nil {
			return err
		}
		return s.devicesChanged(ctx, tx, all)
	})
}

// layers are the plans that devices fall under, those of their models among them: a model is known when the evidence has been read.
type layers struct {
	site   []planRow
	camera map[uuid.UUID]ownPlan
}

type ownPlan struct {
	plan      tuning.Plan
	selection *uuid.UUID
}

// A planRow is a plan of a site, of a model there, or of a selection.
type planRow struct {
	ID    uuid.UUID    `json:"id"`
	Owner tuning.Owner `json:"owner"`
	Name  string       `json:"name"`
	Parts parts        `json:"parts"`
	plan  tuning.Plan
}

func sitePlansQuery(site string) string {
	return "SELECT id, owner, name, parts FROM plans WHERE site_id = " + site
}

// An ownPlanRow is a camera's own plan, and the selection that it belongs to.
type ownPlanRow struct {
	Device    uuid.UUID  `json:"device_id"`
	Parts     parts      `json:"parts"`
	Selection *uuid.UUID `json:"selection"`
}

func ownPlansQuery(where string) string {
	return "SELECT p.device_id, p.parts, p.selection FROM device_plans p JOIN devices d ON d.id = p.device_id WHERE " + where
}

// readLayers reads the texts of plans.
func readLayers(site []planRow, own []ownPlanRow) (l layers, err error) {
	l = layers{site, map[uuid.UUID]ownPlan{}}
	for i := range site {
		if site[i].plan, err = tuning.ParsePlan(site[i].Parts); err != nil {
			return l, err
		}
	}
	for _, r := range own {
		plan, err := tuning.ParsePlan(r.Parts)
		if err != nil {
			return l, err
		}
		l.camera[r.Device] = ownPlan{plan, r.Selection}
	}
	return l, nil
}

// layersOf returns the layers that apply to one device of a model.
func (l layers) layersOf(device uuid.UUID, model string) (out []tuning.Layer) {
	own := l.camera[device]
	if !own.plan.IsZero() {
		out = append(out, tuning.Layer{Owner: tuning.Camera, Plan: own.plan})
	}
	for _, p := range l.site {
		if p.Owner == tuning.Site || p.Owner == tuning.Model && p.Name == model ||
			p.Owner == tuning.Selection && own.selection != nil && *own.selection == p.ID {
			out = append(out, tuning.Layer{Owner: p.Owner, Name: p.Name, Plan: p.plan})
		}
	}
	return out
}
