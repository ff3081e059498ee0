package store

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
)

// Replace has a new device take over from an old one of its site what people have said of it: its name, the roles of its streams, its
// plan, its placements and its place on site plans. The old one keeps its record, and a name that says what became of it.
func (s Devices) Replace(ctx context.Context, site, old, now uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var name string
		if err := tx.GetContext(ctx, &name, "SELECT COALESCE(name, '') FROM devices WHERE id = $1 AND site_id = $2", old, site); err != nil {
			return notFoundIfNone(err)
		}
		for _, query := range []string{
			"UPDATE devices SET name = NULLIF($3, '') WHERE id = $2 AND $1::uuid IS NOT NULL",
			"UPDATE devices SET name = left($3, 180) || ' (replaced)' WHERE id = $1 AND $3 <> '' AND $2::uuid IS NOT NULL",
		} {
			if _, err := tx.ExecContext(ctx, query, old, now, name); err != nil {
				return err
			}
		}
		for _, table := range []string{"stream_roles", "device_plans", "wanted_placements", "site_plan_marks"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE device_id = $1", now); err != nil {
				return fmt.Errorf("replacing in %s: %w", table, err)
			}
			if _, err := tx.ExecContext(ctx, "UPDATE "+table+" SET device_id = $2 WHERE device_id = $1", old, now); err != nil {
				return fmt.Errorf("replacing in %s: %w", table, err)
			}
		}
		if _, err := tx.ExecContext(ctx, "UPDATE drifts SET ended_at = now() WHERE device_id = $1 AND ended_at IS NULL", old); err != nil {
			return err
		}
		if err := s.notify(ctx, tx, Event{Site: site, What: "drift", ID: old}); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// replaceAgreed moves the agreed state of the old device to the new one, except for what identifies a device.
func (s Acts) replaceAgreed(ctx context.Context, by act.Person, x act.ReplaceDevice) error {
	was, over, err := s.Baselines.Agreed(ctx, x.Site)
	if err != nil || over == uuid.Nil {
		return err
	}
	return s.Baselines.keep(ctx, by, act.TakeBaseline{ID: newID(), Site: x.Site, Name: "Replaced", State: was.Replace(x.Old, x.New)}, true)
}

// agreeOnViews forgets the views that cameras were known by: what they show next is their view.
func (s Acts) agreeOnViews(ctx context.Context, site uuid.UUID, devices []uuid.UUID) error {
	if err := s.Watched.ForgetViews(ctx, devices); err != nil {
		return err
	}
	for _, id := range devices {
		if err := s.Devices.Record(ctx, &Device{ID: id, Site: site}, nil, Finding{Body: evidence.View{Agreed: true}}); err != nil {
			return err
		}
	}
	return nil
}
