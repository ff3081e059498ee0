package store

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
)

// A Token is an API token as its maker and owners see it. The token itself is shown once, when it is made.
type Token struct {
	ID       uuid.UUID  `db:"id" json:"id"`
	Person   uuid.UUID  `db:"person_id" json:"person"`
	Of       string     `db:"of" json:"of" doc:"the name of whom it acts for"`
	Name     string     `db:"name" json:"name"`
	Start    string     `db:"start" json:"start" doc:"its first characters"`
	Role     act.Role   `db:"role" json:"role" enum:"owner,engineer,technician,viewer,customer" doc:"never more than its maker may do"`
	Sites    *uuidList  `db:"sites" json:"sites,omitempty" doc:"missing for all that its maker is given"`
	Created  time.Time  `db:"created_at" json:"created_at"`
	Expires  time.Time  `db:"expires_at" json:"expires_at"`
	LastUsed *time.Time `db:"last_used_at" json:"last_used_at,omitempty"`
}

// Tokens lists the tokens that are good still, of one person or of all for the nil UUID, the newest first.
func (s People) Tokens(ctx context.Context, of uuid.UUID) ([]Token, error) {
	out := []Token{}
	return out, s.on(ctx).SelectContext(ctx, &out, `SELECT t.id, t.person_id, p.name AS of, t.name, t.start, t.role, to_json(t.sites) AS sites,
		t.created_at, t.expires_at, t.last_used_at FROM tokens t JOIN people p ON p.id = t.person_id
		WHERE t.expires_at > now() AND ($1 = '00000000-0000-0000-0000-000000000000'::uuid OR t.person_id = $1)
		ORDER BY t.created_at DESC, t.id`, of)
}

// tokenRow is a person with the token by which a program acts for them.
type tokenRow struct {
	personRow
	TokenID    uuid.UUID `db:"token_id"`
	Token      string    `db:"token"`
	TokenRole  act.Role  `db:"token_role"`
	TokenSites *uuidList `db:"token_sites"`
}

const tokenQuery = "SELECT p.id, p.name, p.role, p.password_hash, " + givenSites + `, false AS bare, t.id AS token_id,
	t.name AS token, t.role AS token_role, to_json(t.sites) AS token_sites FROM tokens t JOIN people p ON p.id = t.person_id`

// person returns the person with no more than both they and the token may do.
func (r tokenRow) person() act.Person {
	p := r.personRow.person()
	p.Token, p.TokenID, p.All = r.Token, r.TokenID, p.Role == act.Owner
	p.Role = p.Role.Narrower(r.TokenRole)
	if r.TokenSites == nil {
		return p
	}
	sites := slices.Clone(*r.TokenSites)
	if !p.All {
		sites = slices.DeleteFunc(sites, func(id uuid.UUID) bool { return !slices.Contains(p.Sites, id) })
	}
	p.All, p.Sites, p.Role = false, sites, p.Role.Narrower(act.Engineer) // an owner has every site
	return p
}

// OfToken returns whom a token acts for, with no more than both may do, or ErrNotFound. It notes about once a minute that it was used.
func (s People) OfToken(ctx context.Context, token string) (act.Person, error) {
	var r tokenRow
	if err := s.on(ctx).GetContext(ctx, &r, "WITH used AS (UPDATE tokens SET last_used_at = now() WHERE hash = $1 "+
		"AND COALESCE(last_used_at, '-infinity') < now() - interval '1 minute') "+tokenQuery+" WHERE t.hash = $1 AND t.expires_at > now()",
		hashOf(token)); err != nil {
		return act.Person{}, notFoundIfNone(err)
	}
	return r.person(), nil
}

func (s People) makeToken(ctx context.Context, by act.Person, x act.MakeToken) error {
	_, err := s.on(ctx).ExecContext(ctx, "INSERT INTO tokens (id, person_id, hash, name, start, role, sites, expires_at) "+
		"VALUES ($1, $2, $3, $4, $5, $6, $7, $8)", x.ID, by.ID, x.Hash, x.Name, x.Start, x.Role, x.Sites, x.Until)
	return err
}

func (s People) revokeToken(ctx context.Context, id uuid.UUID) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "DELETE FROM tokens WHERE id = $1", id)); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{What: SessionEnded}) // what hangs on the token ends with it, on every server
	})
}

// tokenFacts reads tokens with whom they act for.
func (s Acts) tokenFacts(ctx context.Context, a act.About, f *act.Facts, had map[uuid.UUID]bool) error {
	if len(a.Tokens) == 0 {
		return nil
	}
	var rows []struct {
		ID     uuid.UUID `db:"id"`
		Name   string    `db:"name"`
		Person uuid.UUID `db:"person_id"`
		Of     string    `db:"of"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT t.id, t.name, t.person_id, p.name AS of FROM tokens t JOIN people p "+
		"ON p.id = t.person_id WHERE t.id = ANY($1)", a.Tokens)
	f.Tokens = map[uuid.UUID]act.Token{}
	for _, r := range rows {
		f.Tokens[r.ID], had[r.ID] = act.Token{Name: r.Name, Person: r.Person, Of: r.Of}, true
	}
	return err
}
