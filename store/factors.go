package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
)

// A Factor is a second factor of a person.
type Factor struct {
	ID       uuid.UUID      `db:"id" json:"id"`
	Kind     act.FactorKind `db:"kind" json:"kind" enum:"code,passkey"`
	Name     string         `db:"name" json:"name"`
	Created  time.Time      `db:"created_at" json:"created_at"`
	LastUsed *time.Time     `db:"last_used_at" json:"last_used_at,omitempty"`

	Encrypted []byte `db:"secret" json:"-"`
	Step      int64  `db:"step" json:"-"`
	// Secret is the key of a code in base32, or the credential of a passkey as JSON.
	Secret string `db:"-" json:"-"`
}

// factorLabel binds an encrypted secret to its row.
func factorLabel(id uuid.UUID) string { return "factor " + id.String() }

// Factors returns the second factors of a person with their secrets, the oldest first.
func (s *Store) Factors(ctx context.Context, person uuid.UUID) ([]Factor, error) {
	out := []Factor{}
	if err := s.on(ctx).SelectContext(ctx, &out, "SELECT id, kind, name, created_at, last_used_at, secret, step FROM factors "+
		"WHERE person_id = $1 ORDER BY created_at, id", person); err != nil {
		return nil, err
	}
	for i := range out {
		secret, err := s.cipher.Decrypt(out[i].Encrypted, factorLabel(out[i].ID))
		if err != nil {
			return nil, err
		}
		out[i].Secret = secret
	}
	return out, nil
}

// RecoveryCodesLeft returns how many recovery codes of a person are good still.
func (s People) RecoveryCodesLeft(ctx context.Context, person uuid.UUID) (n int, err error) {
	return n, s.on(ctx).GetContext(ctx, &n, "SELECT count(*) FROM recovery_codes WHERE person_id = $1 AND used_at IS NULL", person)
}

// TakeStep uses up a time step of a code, so that the same code opens nothing twice. It reports false where that step, or a later one, was
// taken already.
func (s People) TakeStep(ctx context.Context, factor uuid.UUID, step int64) (bool, error) {
	res, err := s.on(ctx).ExecContext(ctx, "UPDATE factors SET step = $2, last_used_at = now() WHERE id = $1 AND step < $2", factor, step)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// TakeRecoveryCode uses up a recovery code, and reports whether it was one.
func (s People) TakeRecoveryCode(ctx context.Context, person uuid.UUID, code string) (bool, error) {
	res, err := s.on(ctx).ExecContext(ctx, "UPDATE recovery_codes SET used_at = now() WHERE person_id = $1 AND hash = $2 AND used_at IS NULL",
		person, hashOf(code))
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// UsePasskey keeps a passkey's credential as it is after it was used: its counter tells a copy from it (WebAuthn §6.1.1).
func (s *Store) UsePasskey(ctx context.Context, factor uuid.UUID, credential string) error {
	return touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE factors SET secret = $2, last_used_at = now() WHERE id = $1", factor,
		s.cipher.Encrypt(credential, factorLabel(factor))))
}

// StrictRoles returns the roles that must have a second factor.
func (s People) StrictRoles(ctx context.Context) ([]act.Role, error) {
	out := []act.Role{}
	return out, s.on(ctx).SelectContext(ctx, &out, "SELECT role FROM strict_roles ORDER BY role")
}

func (s *Store) addFactor(ctx context.Context, by act.Person, x act.AddFactor) error {
	if err := s.takeCeremony(ctx, by, x.Ceremony); err != nil {
		return err
	}
	_, err := s.on(ctx).ExecContext(ctx, "INSERT INTO factors (id, person_id, kind, name, secret, passkey, step) "+
		"VALUES ($1, $2, $3, $4, $5, $6, $7)", x.ID, by.ID, x.Kind, x.Name, s.cipher.Encrypt(x.Secret, factorLabel(x.ID)), x.Passkey, x.Step)
	return err
}

// takeCeremony uses up a ceremony of whoever acts, found by the hash of its token. ErrNotFound means that it was used up already.
func (s *Store) takeCeremony(ctx context.Context, by act.Person, hash []byte) error {
	return touchedOne(s.on(ctx).ExecContext(ctx, "DELETE FROM ceremonies WHERE hash = $1 AND person_id = $2", hash, by.ID))
}

// removeFactor takes a factor away; with the last one, the recovery codes go too: they would be all that is left of it.
func (s People) removeFactor(ctx context.Context, by act.Person, id uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "DELETE FROM factors WHERE id = $1 AND person_id = $2", id, by.ID)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM recovery_codes r WHERE person_id = $1 AND NOT EXISTS (SELECT 1 FROM factors f "+
			"WHERE f.person_id = r.person_id)", by.ID)
		return err
	})
}

// DropFactors takes all second factors and recovery codes of a person away.
func (s People) DropFactors(ctx context.Context, person uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM factors WHERE person_id = $1", person); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM recovery_codes WHERE person_id = $1", person)
		return err
	})
}

func (s People) newRecoveryCodes(ctx context.Context, by act.Person, hashes [][]byte) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM recovery_codes WHERE person_id = $1", by.ID); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO recovery_codes (person_id, hash) SELECT $1, unnest($2::bytea[])", by.ID, hashes)
		return err
	})
}

func (s People) requireFactors(ctx context.Context, roles []act.Role) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM strict_roles"); err != nil {
			return err
		}
		for _, r := range roles {
			if _, err := tx.ExecContext(ctx, "INSERT INTO strict_roles (role) VALUES ($1) ON CONFLICT DO NOTHING", r); err != nil {
				return err
			}
		}
		return s.notify(ctx, tx, Event{What: SessionEnded}) // open pages look what they may still be told
	})
}

// A Ceremony is something that was begun and waits for its second step.
type Ceremony struct {
	Purpose string
	Person  uuid.UUID // the nil UUID where nobody is known yet
	State   string    // what the second step needs; kept encrypted
	Until   time.Time
}

// mostTries is how often the second step of a ceremony may go wrong.
const mostTries = 5

// BeginCeremony keeps a ceremony under a token that the browser holds meanwhile.
func (s *Store) BeginCeremony(ctx context.Context, token string, c Ceremony) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM ceremonies WHERE expires_at < now()"); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO ceremonies (hash, purpose, person_id, state, expires_at) VALUES ($1, $2, $3, $4, $5)",
			hashOf(token), c.Purpose, orNull(c.Person), s.cipher.Encrypt(c.State, "ceremony "+c.Purpose), c.Until)
		return err
	})
}

// Ceremony returns a ceremony that somebody who is signed in has begun, or ErrNotFound.
func (s *Store) Ceremony(ctx context.Context, token, purpose string, person uuid.UUID) (c Ceremony, err error) {
	var row ceremonyRow
	if err := s.on(ctx).GetContext(ctx, &row, "SELECT person_id, state, expires_at FROM ceremonies WHERE hash = $1 AND purpose = $2 "+
		"AND person_id = $3 AND expires_at > now()", hashOf(token), purpose, person); err != nil {
		return c, notFoundIfNone(err)
	}
	return s.readCeremony(purpose, row)
}

type ceremonyRow struct {
	Person uuid.NullUUID `db:"person_id"`
	State  []byte        `db:"state"`
	Until  time.Time     `db:"expires_at"`
}

func (s *Store) readCeremony(purpose string, row ceremonyRow) (Ceremony, error) {
	state, err := s.cipher.Decrypt(row.State, "ceremony "+purpose)
	return Ceremony{Purpose: purpose, Person: row.Person.UUID, State: state, Until: row.Until}, err
}

// TryCeremony returns a ceremony for one try at its second step, or ErrNotFound where there is none, or too many tries went wrong.
func (s *Store) TryCeremony(ctx context.Context, token, purpose string) (c Ceremony, err error) {
	var row ceremonyRow
	if err := s.on(ctx).GetContext(ctx, &row, "UPDATE ceremonies SET tries = tries + 1 WHERE hash = $1 AND purpose = $2 "+
		"AND expires_at > now() AND tries < $3 RETURNING person_id, state, expires_at", hashOf(token), purpose, mostTries); err != nil {
		return c, notFoundIfNone(err)
	}
	return s.readCeremony(purpose, row)
}

// EndCeremony uses a ceremony up. It reports false where another has done so: what was shown once opens nothing twice.
func (s *Store) EndCeremony(ctx context.Context, token string) (bool, error) {
	res, err := s.on(ctx).ExecContext(ctx, "DELETE FROM ceremonies WHERE hash = $1", hashOf(token))
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}
