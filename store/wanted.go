package store

import (
	"context"
	"database/sql"

	"github.com/google/uuid"

	"unlatch/core/decide/latch"
	"unlatch/core/stream/intake"
	"unlatch/core/wire/target"
)

// latchTarget is a target as what fits on it is judged by.
func latchTarget(t Target, books []*intake.Book) latch.Target {
	out := latch.Target{ID: t.ID, Kind: t.Kind, Name: t.Name}
	for _, b := range books {
		if x, ok := b.Find(t.Intake); ok && out.Intake == nil && t.Intake != "" {
			out.Intake = &x
		}
	}
	heard(&out, t.About)
	return out
}

// Latch is the target as what fits on it is judged by.
func (s Targets) Latch(ctx context.Context, t Target) (latch.Target, error) {
	books, err := Shelf(s).Intakes(ctx)
	return latchTarget(t, books), err
}

// wanted reads where devices shall stand. What a target takes is what a person has said of it, else what it says itself.
func (s Devices) wanted(ctx context.Context, where string, arg any) (map[uuid.UUID]latch.Intent, error) {
	var rows []struct {
		Device uuid.UUID            `db:"device_id"`
		Target uuid.UUID            `db:"target_id"`
		Kind   target.Kind          `db:"kind"`
		Name   sql.NullString       `db:"name"`
		Addr   string               `db:"addr"`
		Intake string               `db:"intake"`
		About  *jsonb[target.About] `db:"about"`
		Slot   string               `db:"slot"`
		Role   string               `db:"role"`
	}
	if err := s.on(ctx).SelectContext(ctx, &rows, `SELECT w.device_id, w.target_id, t.kind, COALESCE(NULLIF(t.name, ''), v.name) AS name,
		COALESCE(v.addr, t.address) AS addr, t.intake, t.about, w.slot, w.role
		FROM wanted_placements w JOIN devices d ON d.id = w.device_id JOIN targets t ON t.id = w.target_id LEFT
			JOIN devices v ON v.id = t.device_id
		WHERE `+where+` ORDER BY w.created_at`, arg); err != nil {
		return nil, err
	}
	out := map[uuid.UUID]latch.Intent{}
	named := map[string]*intake.Intake{"": nil}
	for _, w := range rows {
		if _, known := named[w.Intake]; !known {
			x, err := Shelf(s).Intake(ctx, w.Intake)
			if err != nil {
				return nil, err
			}
			named[w.Intake] = x
		}
		t := latch.Target{ID: w.Target, Kind: w.Kind, Name: w.Name.String, Intake: named[w.Intake], Role: w.Role, Slot: w.Slot}
		if t.Name == "" {
			t.Name = "the recorder at " + w.Addr
		}
		heard(&t, w.About)
		in := out[w.Device]
		in.Targets = append(in.Targets, t)
		out[w.Device] = in
	}
	return out, nil
}

// heard adds to a target what it says of itself; what a person has said of what it takes goes before its own word.
func heard(t *latch.Target, about *jsonb[target.About]) {
	if about == nil {
		return
	}
	t.Through, t.Both = about.V.Through, about.V.Both
	if t.Intake == nil {
		t.Intake = about.V.Intake
	}
}
