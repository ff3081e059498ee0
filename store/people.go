package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// ErrTaken means that the first account exists already.
var ErrTaken = errors.New("there is an account already")

// A Person may sign in.
type Person struct {
	ID           uuid.UUID `db:"id"`
	Name         string    `db:"name"`
	PasswordHash string    `db:"password_hash"`
}

// HasPeople reports whether the first account was made.
func (s *Store) HasPeople(ctx context.Context) (bool, error) {
	var yes bool
	return yes, s.db.GetContext(ctx, &yes, "SELECT EXISTS (SELECT 1 FROM people)")
}

// CreateFirstPerson makes the first account, and only the first: ErrTaken otherwise.
func (s *Store) CreateFirstPerson(ctx context.Context, name, hash string) (Person, error) {
	p := Person{ID: newID(), Name: name, PasswordHash: hash}
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

// PersonByName finds an account.
func (s *Store) PersonByName(ctx context.Context, name string) (Person, error) {
	var p Person
	return p, found(s.db.GetContext(ctx, &p, "SELECT id, name, password_hash FROM people WHERE name = $1", name))
}

// StartSession remembers a session token's hash.
func (s *Store) StartSession(ctx context.Context, person uuid.UUID, token string, until time.Time) error {
	sum := sha256.Sum256([]byte(token))
	_, err := s.db.ExecContext(ctx, "INSERT INTO sessions (token_hash, person_id, expires_at) VALUES ($1, $2, $3)", sum[:], person, until)
	return err
}

// SessionPerson returns who a token belongs to, or ErrNotFound.
func (s *Store) SessionPerson(ctx context.Context, token string) (Person, error) {
	sum := sha256.Sum256([]byte(token))
	var p Person
	err := s.db.GetContext(ctx, &p, "SELECT p.id, p.name, '' AS password_hash FROM sessions s JOIN people p ON p.id = s.person_id WHERE s.token_hash = $1 AND s.expires_at > now()", sum[:])
	if errors.Is(err, sql.ErrNoRows) {
		return p, ErrNotFound
	}
	return p, err
}

// EndSession forgets a token.
func (s *Store) EndSession(ctx context.Context, token string) error {
	sum := sha256.Sum256([]byte(token))
	_, err := s.db.ExecContext(ctx, "DELETE FROM sessions WHERE token_hash = $1 OR expires_at < now()", sum[:])
	return err
}
