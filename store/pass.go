package store

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// passLife is how long a pass is good. The clocks of the two machines may differ by that much.
const passLife = 2 * time.Minute

// workerPass is what a worker shows the server to be let in.
type workerPass struct {
	Worker string    `json:"worker"`
	At     time.Time `json:"at"`
	ID     uuid.UUID `json:"id"` // by which it is known again: it is good once
}

const passOwner = "a worker's pass"

// Pass makes a pass for a worker. Only who holds the key file can: worker and server do.
func (s Workers) Pass(worker string, now time.Time) (string, error) {
	raw, err := json.Marshal(workerPass{worker, now, uuid.New()})
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(s.cipher.Encrypt(string(raw), passOwner)), nil
}

// Passed reads a pass and uses it up: it is good once, whichever server it is shown to and whenever that was started. ok is false for one
// that is not genuine, too old, used already, or of a worker that does not hold a lease.
func (s Workers) Passed(ctx context.Context, text string, now time.Time) (worker string, ok bool) {
	if len(text) > 1000 {
		return "", false
	}
	encrypted, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		return "", false
	}
	raw, err := s.cipher.Decrypt(encrypted, passOwner)
	var p workerPass
	if err != nil || json.Unmarshal([]byte(raw), &p) != nil || now.Sub(p.At).Abs() > passLife {
		return "", false
	}
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM used_passes WHERE until < now() - interval '1 hour'"); err != nil {
			return err
		}
		return touchedOne(tx.ExecContext(ctx, `
			INSERT INTO used_passes (id, until) SELECT $1, $2 WHERE EXISTS (SELECT 1 FROM workers WHERE name = $3)
			ON CONFLICT DO NOTHING`, p.ID, p.At.Add(passLife), p.Worker))
	})
	return p.Worker, err == nil
}

// Belongs reports whether a worker by the name in its lease is one that a paired machine has begun.
func (s Workers) Belongs(ctx context.Context, name string, to uuid.UUID) (yes bool, err error) {
	return yes, s.on(ctx).GetContext(ctx, &yes, `SELECT EXISTS (SELECT 1 FROM workers w JOIN paired_workers p ON p.role = w.role
		WHERE w.name = $1 AND p.id = $2 AND p.revoked_at IS NULL)`, name, to)
}

// Reaching lists the workers that reach a site, in no order.
func (s Workers) Reaching(ctx context.Context, site uuid.UUID) (names []string, err error) {
	err = s.on(ctx).SelectContext(ctx, &names, "SELECT worker FROM worker_sites WHERE site_id = $1", site)
	return names, err
}
