package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// SetRoles keeps what a person uses a device's streams as, by the streams' tokens; none is the rule's own choice.
func (s Devices) SetRoles(ctx context.Context, device uuid.UUID, roles map[string]string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM stream_roles WHERE device_id = $1", device); err != nil {
			return err
		}
		for token, role := range roles {
			if _, err := tx.ExecContext(ctx, "INSERT INTO stream_roles (device_id, token, role) VALUES ($1, $2, $3)", device, token,
				role); err != nil {
				return err
			}
		}
		return s.deviceChanged(ctx, tx, device)
	})
}

// A roleRow is the role that a person gave to a stream.
type roleRow struct {
	Device uuid.UUID `json:"device_id"`
	Token  string    `json:"token"`
	Role   string    `json:"role"`
}

func rolesQuery(where string) string {
	return "SELECT r.device_id, r.token, r.role FROM stream_roles r JOIN devices d ON d.id = r.device_id WHERE " + where
}

// rolesByDevice returns the roles that people gave to streams, by device and token.
func rolesByDevice(rows []roleRow) map[uuid.UUID]map[string]string {
	out := map[uuid.UUID]map[string]string{}
	for _, r := range rows {
		if out[r.Device] == nil {
			out[r.Device] = map[string]string{}
		}
		out[r.Device][r.Token] = r.Role
	}
	return out
}
