package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"time"

	"unlatch/core/decide/act"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// People are those who may sign in here, with their sessions.
type People struct{ *database }

// ErrTaken means that the first account exists already.
var ErrTaken = errors.New("there is an account already")

// An Account is a person who may sign in, with the hash of the password.
type Account struct {
	act.Person
	PasswordHash string `db:"password_hash"`
}

// Any reports whether the first account was made.
func (s People) Any(ctx context.Context) (bool, error) {
	var yes bool
	return yes, s.on(ctx).GetContext(ctx, &yes, "SELECT EXISTS (SELECT 1 FROM people)")
}

// CreateFirst makes the first account, and only the first: ErrTaken otherwise.
func (s People) CreateFirst(ctx context.Context, name, hash string) (act.Person, error) {
	p := act.Person{ID: newID(), Name: name, Role: act.Owner}
	return p, s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "LOCK TABLE people"); err != nil {
			return err
		}
		var yes bool
		if err := tx.GetContext(ctx, &yes, "SELECT EXISTS (SELECT 1 FROM people)"); err != nil {
			return err
		}
		if yes {
			return ErrTaken
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO people (id, name, password_hash) VALUES ($1, $2, $3)", p.ID, name, hash)
		return err
	})
}

// ByName finds an account.
func (s People) ByName(ctx context.Context, name string) (Account, error) {
	var p Account
	return p, notFoundIfNone(s.on(ctx).GetContext(ctx, &p, "SELECT id, name, role, password_hash FROM people WHERE name = $1", name))
}

// StartSession remembers the hashes of a session's token and of the mark of the browser that it begins in.
func (s People) StartSession(ctx context.Context, person uuid.UUID, token, browser string, until, browserUntil time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO sessions (token_hash, person_id, expires_at) VALUES ($1, $2, $3)", hashOf(token),
			person, until); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM browsers WHERE expires_at < now()"); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO browsers (token_hash, person_id, expires_at) VALUES ($1, $2, $3)", hashOf(browser),
			person, browserUntil)
		return err
	})
}

func hashOf(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// KnownBrowser reports whether a person of a name has signed in from the browser with a mark.
func (s People) KnownBrowser(ctx context.Context, mark, name string) (bool, error) {
	if mark == "" {
		return false, nil
	}
	var yes bool
	return yes, s.on(ctx).GetContext(ctx, &yes, "SELECT EXISTS (SELECT 1 FROM browsers b JOIN people p ON p.id = b.person_id WHERE "+
		"b.token_hash = $1 AND b.expires_at > now() AND p.name = $2)", hashOf(mark), name)
}

// OfSession returns who a token belongs to, or ErrNotFound.
func (s People) OfSession(ctx context.Context, token string) (act.Person, error) {
	var p act.Person
	err := s.on(ctx).GetContext(ctx, &p, "SELECT p.id, p.name, p.role FROM sessions s JOIN people p ON p.id = s.person_id WHERE "+
		"s.token_hash = $1 AND s.expires_at > now()", hashOf(token))
	if errors.Is(err, sql.ErrNoRows) {
		return p, ErrNotFound
	}
	return p, err
}

// EndSession forgets a token.
func (s People) EndSession(ctx context.Context, token string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE token_hash = $1 OR expires_at < now()", hashOf(token)); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{What: SessionEnded}) // what hangs on the session ends with it, on every server
	})
}
