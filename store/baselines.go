package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/baseline"
)

// Baselines are the states of a site's devices that people agreed on.
type Baselines struct{ *database }

// A Baseline is one of them, without the state itself.
type Baseline struct {
	ID         uuid.UUID `db:"id" json:"id"`
	Name       string    `db:"name" json:"name"`
	Reason     string    `db:"reason" json:"reason,omitempty" doc:"why, as whoever took it said"`
	By         string    `db:"taken_by" json:"by"`
	At         time.Time `db:"taken_at" json:"at"`
	Devices    int       `db:"devices" json:"devices"`
	Unfinished int       `db:"unfinished" json:"unfinished" doc:"how many of the devices had latches that were not open"`
}

// List returns the baselines of a site, the newest first.
func (s Baselines) List(ctx context.Context, site uuid.UUID) ([]Baseline, error) {
	out := []Baseline{}
	err := s.on(ctx).SelectContext(ctx, &out, "SELECT id, name, reason, taken_by, taken_at, devices, unfinished FROM baselines "+
		"WHERE site_id = $1 ORDER BY taken_at DESC, id DESC", site)
	return out, err
}

// State returns the state that one of a site's baselines holds. Its error is a *baseline.VersionError where a newer Unlatch took it.
func (s Baselines) State(ctx context.Context, site, id uuid.UUID) (baseline.State, error) {
	var raw []byte
	if err := notFoundIfNone(s.on(ctx).GetContext(ctx, &raw, "SELECT state FROM baselines WHERE id = $1 AND site_id = $2", id,
		site)); err != nil {
		return baseline.State{}, err
	}
	return baseline.Read(raw)
}

// Take keeps a baseline.
func (s Baselines) Take(ctx context.Context, by act.Person, b act.TakeBaseline) error {
	if err := s.keep(ctx, by, b, b.Whole); err != nil {
		return err
	}
	// What had drifted from an older state is agreed on now.
	if _, err := s.on(ctx).ExecContext(ctx, "UPDATE drifts SET ended_at = now() WHERE site_id = $1 AND ended_at IS NULL AND ($2 OR "+
		"device_id = ANY($3))", b.Site, b.Whole, b.Devices); err != nil {
		return err
	}
	return s.notify(ctx, s.on(ctx), Event{Site: b.Site, What: "drift", ID: b.Site})
}

func (s Baselines) keep(ctx context.Context, by act.Person, b act.TakeBaseline, whole bool) error {
	raw, err := json.Marshal(b.State)
	if err != nil {
		return err
	}
	_, err = s.on(ctx).ExecContext(ctx, "INSERT INTO baselines (id, site_id, name, reason, taken_by, devices, unfinished, state, whole) "+
		"VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)", b.ID, b.Site, noNUL(b.Name), noNUL(b.Reason), by.Name, len(b.State.Devices),
		b.State.Unfinished(), string(raw), whole)
	return err
}

// Newest returns the ID of a site's newest baseline; the nil UUID where none was taken.
func (s Baselines) Newest(ctx context.Context, site uuid.UUID) (id uuid.UUID, err error) {
	err = s.on(ctx).GetContext(ctx, &id, "SELECT id FROM baselines WHERE site_id = $1 ORDER BY taken_at DESC, id DESC LIMIT 1", site)
	if errors.Is(err, sql.ErrNoRows) {
		return uuid.Nil, nil
	}
	return id, err
}

// Agreed returns what is agreed on of each device and target of a site now: by the newest baseline that has it, back to the last one of the
// whole site. over is the newest; the nil UUID where none was taken.
func (s Baselines) Agreed(ctx context.Context, site uuid.UUID) (out baseline.State, over uuid.UUID, err error) {
	var rows []struct {
		ID    uuid.UUID `db:"id"`
		State []byte    `db:"state"`
	}
	if err := s.on(ctx).SelectContext(ctx, &rows, `SELECT id, state FROM baselines WHERE site_id = $1 AND (taken_at, id) >= COALESCE(
		(SELECT (taken_at, id) FROM baselines WHERE site_id = $1 AND whole ORDER BY taken_at DESC, id DESC LIMIT 1),
		('-infinity'::timestamptz, '00000000-0000-0000-0000-000000000000'::uuid)) ORDER BY taken_at DESC, id DESC`, site); err != nil {
		return out, over, err
	}
	out.Version = baseline.Version
	for i, r := range rows {
		if i == 0 {
			over = r.ID
		}
		state, err := baseline.Read(r.State)
		if err != nil {
			return out, over, err
		}
		out = out.Under(state)
	}
	return out, over, nil
}

// Accept keeps what was agreed on with what has changed since. Its error is an *act.Refusal where somebody else was faster.
func (s Baselines) Accept(ctx context.Context, by act.Person, a act.AcceptDrifts) error {
	newest, err := s.Newest(ctx, a.Site)
	if err != nil {
		return err
	}
	if newest != a.Over {
		return &act.Refusal{Cause: "agreed_anew", Detail: "Another state was agreed on in the meantime.",
			Fix: "Look at what differs from it, then decide."}
	}
	return s.keep(ctx, by, act.TakeBaseline{ID: a.ID, Site: a.Site, Name: "Accepted", Reason: a.Reason, State: a.State}, true)
}
