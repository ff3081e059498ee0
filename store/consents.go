package store

import (
	"context"
	"time"

	"unlatch/core/decide/act"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// Consents are what people agreed to: that a stray is connected to, that a sign-in is sent readable.
type Consents struct{ *database }

// ConsentTime is how long a consent to reach a stray lasts.
const ConsentTime = 30 * time.Minute

// Give opens the scope for one stray at its present address, and for nothing else. Who gave it, and why, is kept.
func (s Consents) Give(ctx context.Context, by act.Person, device uuid.UUID, addr, reason string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO consents (id, device_id, person_id, addr, reason, until) VALUES ($1, $2, $3, $4, $5, "+
			"now() + $6 * interval '1 second')", newID(), device, by.ID, addr, reason, ConsentTime.Seconds()); err != nil {
			return err
		}
		return s.deviceChanged(ctx, tx, device)
	})
}

// Withdraw ends a device's consents.
func (s Consents) Withdraw(ctx context.Context, device uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE consents SET until = now() WHERE device_id = $1 AND until > now()", device); err != nil {
			return err
		}
		return s.deviceChanged(ctx, tx, device)
	})
}

// A consentRow is until when a device may be reached at the address at which it is now.
type consentRow struct {
	Device uuid.UUID `json:"device_id"`
	Until  time.Time `json:"until"`
}

func consentsQuery(where string) string {
	return "SELECT c.device_id, max(c.until) AS until FROM consents c JOIN devices d ON d.id = c.device_id AND d.addr = c.addr " +
		"WHERE c.until > now() AND " + where + " GROUP BY c.device_id"
}
