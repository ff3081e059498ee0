package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
)

// BySignOn returns the account that is connected to somebody at a provider of single sign-on, or ErrNotFound.
func (s People) BySignOn(ctx context.Context, who act.SignOn) (act.Person, error) {
	var p personRow
	err := s.on(ctx).GetContext(ctx, &p, personQuery+" WHERE p.issuer = $1 AND p.issuer_subject = $2", who.Issuer, who.Subject)
	return p.person(), notFoundIfNone(err)
}

// AddBySignOn makes an account for somebody who comes by single sign-on: without a password, without a site, under the first of their names
// that nobody has. ErrTaken means that all are taken, or that the account was made meanwhile.
func (s People) AddBySignOn(ctx context.Context, who act.SignOn, role act.Role) (act.Person, error) {
	for _, name := range who.Names {
		p := act.Person{ID: newID(), Name: name, Role: role, Connected: true}
		res, err := s.on(ctx).ExecContext(ctx, "INSERT INTO people (id, name, role, password_hash, issuer, issuer_subject) "+
			"VALUES ($1, $2, $3, '', $4, $5) ON CONFLICT DO NOTHING", p.ID, name, role, who.Issuer, who.Subject)
		if err != nil {
			return p, err
		}
		if n, err := res.RowsAffected(); err != nil || n == 1 {
			return p, err
		}
	}
	return act.Person{}, ErrTaken
}

// SetRole gives a person the role that a provider has told. The sites stay.
func (s People) SetRole(ctx context.Context, p act.Person, role act.Role) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "LOCK TABLE people IN SHARE ROW EXCLUSIVE MODE"); err != nil {
			return err
		}
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE people SET role = $2 WHERE id = $1", p.ID, role)); err != nil {
			return err
		}
		return s.ownersLeft(ctx, tx)
	})
}

// connect notes who a person is at a provider. ErrTaken means that another account is connected to them.
func (s *Store) connect(ctx context.Context, by act.Person, x act.ConnectSignOn) error {
	if err := s.takeCeremony(ctx, by, x.Ceremony); err != nil {
		return err
	}
	return takenIfDouble(touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE people SET issuer = $2, issuer_subject = $3 WHERE id = $1", by.ID,
		x.Issuer, x.Subject)))
}

// disconnect forgets who a person is at a provider. ErrNotFound means that there was nothing to forget.
func (s People) disconnect(ctx context.Context, by act.Person) error {
	return touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE people SET issuer = NULL, issuer_subject = NULL WHERE id = $1 AND issuer IS NOT NULL",
		by.ID))
}
