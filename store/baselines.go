package store

import (
	"context"
	"encoding/json"
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
	raw, err := json.Marshal(b.State)
	if err != nil {
		return err
	}
	_, err = s.on(ctx).ExecContext(ctx, "INSERT INTO baselines (id, site_id, name, reason, taken_by, devices, unfinished, state) "+
		"VALUES ($1, $2, $3, $4, $5, $6, $7, $8)", b.ID, b.Site, noNUL(b.Name), noNUL(b.Reason), by.Name, len(b.State.Devices),
		b.State.Unfinished(), string(raw))
	return err
}
