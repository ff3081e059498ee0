package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
)

// A Member is a person as owners see one.
type Member struct {
	ID       uuid.UUID  `db:"id" json:"id"`
	Name     string     `db:"name" json:"name"`
	Role     act.Role   `db:"role" json:"role" enum:"owner,engineer,technician,viewer,customer"`
	Sites    uuidList   `db:"sites" json:"sites" doc:"that the person is given; an owner has all"`
	Created  time.Time  `db:"created_at" json:"created_at"`
	LastSeen *time.Time `db:"last_seen" json:"last_seen_at,omitempty"`
	Sessions int        `db:"sessions" json:"sessions" doc:"browsers in which the person is signed in"`
	Factors  int        `db:"factors" json:"factors" doc:"second factors that the person has"`
	Provider string     `db:"provider" json:"provider,omitempty" doc:"of single sign-on, by which the person signs in"`
}

// List lists the people by name.
func (s People) List(ctx context.Context) ([]Member, error) {
	out := []Member{}
	return out, s.on(ctx).SelectContext(ctx, &out, `SELECT p.id, p.name, p.role, p.created_at,
		`+givenSites+`, (SELECT count(*) FROM factors f WHERE f.person_id = p.id) AS factors, COALESCE(p.issuer, '') AS provider,
		(SELECT max(last_seen_at) FROM sessions s WHERE s.person_id = p.id) AS last_seen,
		(SELECT count(*) FROM sessions s WHERE s.person_id = p.id AND s.expires_at > now()) AS sessions FROM people p ORDER BY lower(p.name)`)
}

// giveSite gives a site to the person who has made it. An owner has it anyway.
func (s People) giveSite(ctx context.Context, to act.Person, site uuid.UUID) error {
	if to.EverySite() {
		return nil
	}
	_, err := s.on(ctx).ExecContext(ctx, "INSERT INTO person_sites (person_id, site_id) VALUES ($1, $2)", to.ID, site)
	return err
}

// change gives a person a role and sites. The table of people is locked by the caller.
func (s People) change(ctx context.Context, id uuid.UUID, to act.Standing) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE people SET role = $2 WHERE id = $1", id, to.Role)); err != nil {
			return err
		}
		if err := s.setSites(ctx, tx, id, to); err != nil {
			return err
		}
		return s.ownersLeft(ctx, tx)
	})
}

func (s People) setSites(ctx context.Context, tx *sqlx.Tx, id uuid.UUID, to act.Standing) error {
	if _, err := tx.ExecContext(ctx, "DELETE FROM person_sites WHERE person_id = $1", id); err != nil {
		return err
	}
	if to.Role == act.Owner {
		return nil
	}
	// A site that was removed since is not given.
	_, err := tx.ExecContext(ctx, "INSERT INTO person_sites (person_id, site_id) SELECT $1, id FROM sites WHERE id = ANY($2)", id, to.Sites)
	return err
}

// remove ends an account. The table of people is locked by the caller.
func (s People) remove(ctx context.Context, id uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "DELETE FROM people WHERE id = $1", id)); err != nil {
			return err
		}
		return s.ownersLeft(ctx, tx)
	})
}

// ownersLeft makes sure that an owner with a password is left, and has every page look whether it may still be told anything.
func (s People) ownersLeft(ctx context.Context, tx *sqlx.Tx) error {
	var owners int
	if err := tx.GetContext(ctx, &owners, "SELECT count(*) FROM people WHERE role = 'owner' AND password_hash <> ''"); err != nil {
		return err
	}
	if owners == 0 {
		return act.LastOwner() // others were demoted since it was decided
	}
	return s.notify(ctx, tx, Event{What: SessionEnded})
}

// setPassword sets a password and ends all sessions of the person but one.
func (s People) setPassword(ctx context.Context, id uuid.UUID, hash string, keep []byte) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE people SET password_hash = $2 WHERE id = $1", id, hash)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM sessions WHERE person_id = $1 AND token_hash IS DISTINCT FROM $2", id, keep); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM browsers WHERE person_id = $1", id); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{What: SessionEnded})
	})
}

// A Session is one browser in which a person is signed in.
type Session struct {
	ID       uuid.UUID `db:"id" json:"id"`
	Begun    time.Time `db:"created_at" json:"begun_at"`
	LastSeen time.Time `db:"last_seen_at" json:"last_seen_at"`
	Ends     time.Time `db:"expires_at" json:"ends_at"`
	Browser  string    `db:"browser" json:"browser" doc:"what the browser calls itself"`
	Own      bool      `db:"own" json:"own,omitempty" doc:"the one that asks"`
}

// Sessions lists the sessions of a person, the one last seen first. token is that of the session which asks.
func (s People) Sessions(ctx context.Context, person uuid.UUID, token string) ([]Session, error) {
	out := []Session{}
	return out, s.on(ctx).SelectContext(ctx, &out, `SELECT id, created_at, last_seen_at, expires_at, browser, token_hash = $2 AS own
		FROM sessions WHERE person_id = $1 AND expires_at > now() ORDER BY last_seen_at DESC, id`, person, hashOf(token))
}

func (s People) endSession(ctx context.Context, person, session uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "DELETE FROM sessions WHERE person_id = $1 AND id = $2", person, session)); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{What: SessionEnded})
	})
}
