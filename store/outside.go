package store

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/outside"
)

// SetOutside keeps how a site is seen from outside. What targets elsewhere are given depends on it.
func (s Sites) SetOutside(ctx context.Context, id uuid.UUID, f outside.Form) error {
	raw, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE sites SET outside = $2 WHERE id = $1", id, string(raw))); err != nil {
			return err
		}
		return s.siteChanged(ctx, tx, id)
	})
}

// Outside returns how a site is seen from outside; the zero Form where nobody has said.
func (s Sites) Outside(ctx context.Context, id uuid.UUID) (f outside.Form, err error) {
	var raw []byte
	if err := notFoundIfNone(s.on(ctx).GetContext(ctx, &raw, "SELECT outside FROM sites WHERE id = $1", id)); err != nil || raw == nil {
		return f, err
	}
	return f, json.Unmarshal(raw, &f)
}

// An outsideRow is how the site is seen from outside.
type outsideRow struct {
	Outside outside.Form `json:"outside"`
}

func outsideQuery(site string) string {
	return "SELECT outside FROM sites WHERE id = " + site + " AND outside IS NOT NULL"
}
