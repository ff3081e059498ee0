package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/addresslist"
)

// Expect keeps a site's address list in place of the one before; an empty list removes it.
func (s Sites) Expect(ctx context.Context, site uuid.UUID, rows []addresslist.Row) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM expected WHERE site_id = $1", site); err != nil {
			return err
		}
		for len(rows) > 0 {
			part := rows[:min(len(rows), 1000)]
			rows = rows[len(part):]
			values := make([]map[string]any, len(part))
			for i, r := range part {
				values[i] = map[string]any{"site": site, "line": r.Line, "name": r.Name, "addr": r.Addr, "mac": r.MAC, "serial": r.Serial,
					"note": r.Note}
			}
			if _, err := tx.NamedExecContext(ctx,
				"INSERT INTO expected (site_id, line, name, addr, mac, serial, note) VALUES (:site, :line, "+
					":name, :addr, :mac, :serial, :note)", values); err != nil {
				return err
			}
		}
		return s.notify(ctx, tx, Event{Site: site, What: "site", ID: site})
	})
}

// Expected returns a site's address list.
func (s Sites) Expected(ctx context.Context, site uuid.UUID) ([]addresslist.Row, error) {
	out := []addresslist.Row{}
	return out, s.on(ctx).SelectContext(ctx, &out, "SELECT line, name, addr, mac, serial, note FROM expected WHERE site_id = $1 ORDER BY "+
		"line", site)
}
