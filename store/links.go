package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
)

// A Link is a one-time link: an invitation, or leave to set a new password. It is found by the hash of its token, and never shown again.
type Link struct {
	ID      uuid.UUID  `db:"id" json:"id"`
	Person  *uuid.UUID `db:"person_id" json:"person,omitempty" doc:"whose password it sets; missing in an invitation"`
	Name    string     `db:"name" json:"name"`
	Role    act.Role   `db:"role" json:"role" enum:"owner,engineer,technician,viewer,customer"`
	Sites   uuidList   `db:"sites" json:"sites"`
	By      string     `db:"made_by" json:"made_by"`
	Made    time.Time  `db:"made_at" json:"made_at"`
	Expires time.Time  `db:"expires_at" json:"expires_at"`
}

const linkColumns = "id, person_id, name, role, to_json(sites) AS sites, made_by, made_at, expires_at"

// Links lists the links that are good still, the newest first.
func (s People) Links(ctx context.Context) ([]Link, error) {
	out := []Link{}
	return out, s.on(ctx).SelectContext(ctx, &out, "SELECT "+linkColumns+" FROM links WHERE used_at IS NULL AND "+
		"expires_at > now() ORDER BY made_at DESC")
}

// LinkOf returns the link that a token opens, or ErrNotFound: it may have been used, withdrawn, or be too old.
func (s People) LinkOf(ctx context.Context, token string) (Link, error) {
	var l Link
	return l, notFoundIfNone(s.on(ctx).GetContext(ctx, &l, "SELECT "+linkColumns+" FROM links WHERE token_hash = $1 AND used_at IS NULL AND "+
		"expires_at > now()", hashOf(token)))
}

// HashOfToken returns what a link or a session is found by.
func HashOfToken(token string) []byte { return hashOf(token) }

func (s People) invite(ctx context.Context, by act.Person, x act.Invite) error {
	_, err := s.on(ctx).ExecContext(ctx, "INSERT INTO links (id, token_hash, name, role, sites, made_by, expires_at) "+
		"VALUES ($1, $2, $3, $4, $5, $6, $7)", x.ID, x.Hash, x.Name, x.Role, notNil(x.Sites), by.Name, x.Until)
	return err
}

func (s People) reset(ctx context.Context, by act.Person, x act.ResetPerson) error {
	_, err := s.on(ctx).ExecContext(ctx, "INSERT INTO links (id, token_hash, person_id, name, role, made_by, expires_at) "+
		"SELECT $1, $2, id, name, role, $4, $5 FROM people WHERE id = $3", x.ID, x.Hash, x.Person, by.Name, x.Until)
	return err
}

func (s People) withdraw(ctx context.Context, link uuid.UUID) error {
	return touchedOne(s.on(ctx).ExecContext(ctx, "DELETE FROM links WHERE id = $1 AND used_at IS NULL", link))
}

func notNil(ids []uuid.UUID) []uuid.UUID {
	if ids == nil {
		return []uuid.UUID{}
	}
	return ids
}

// A Taking is how somebody takes a one-time link: by a password, or as who they are to a provider of single sign-on.
type Taking struct {
	PasswordHash string
	SignOn       act.SignOn
}

// TakeLink uses a link up: it makes the account that the link invites to, or sets the password that it is for and ends the person's
// sessions. It returns ErrNotFound for a link that is not good any more, or not for this way, and ErrTaken where somebody has the name by
// now, or another account is theirs at the provider.
func (s People) TakeLink(ctx context.Context, token string, by Taking) (act.Person, error) {
	var p act.Person
	return p, s.together(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		var l Link
		err := notFoundIfNone(tx.GetContext(ctx, &l, "SELECT "+linkColumns+" FROM links WHERE token_hash = $1 AND used_at IS NULL AND "+
			"expires_at > now() FOR UPDATE", hashOf(token)))
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE links SET used_at = now() WHERE id = $1", l.ID); err != nil {
			return err
		}
		if l.Person != nil {
			if by.PasswordHash == "" {
				return ErrNotFound
			}
			if err := s.setPassword(ctx, *l.Person, by.PasswordHash, nil); err != nil {
				return err
			}
			p, _, err = s.hold(ctx, act.Person{ID: *l.Person}, uuid.Nil)
			return err
		}
		p = act.Person{ID: newID(), Name: l.Name, Role: l.Role, Sites: l.Sites, Password: by.PasswordHash != "",
			Connected: by.SignOn.Issuer != ""}
		if _, err := tx.ExecContext(ctx, "INSERT INTO people (id, name, role, password_hash, issuer, issuer_subject) "+
			"VALUES ($1, $2, $3, $4, NULLIF($5, ''), NULLIF($6, ''))", p.ID, p.Name, p.Role, by.PasswordHash, by.SignOn.Issuer,
			by.SignOn.Subject); err != nil {
			return takenIfDouble(err)
		}
		return s.setSites(ctx, tx, p.ID, act.Standing{Role: p.Role, Sites: p.Sites})
	})
}
