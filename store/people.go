package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"time"

	"unlatch/core/decide/act"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// People are those who may sign in here, with their sessions.
type People struct{ *database }

// ErrTaken means that there is an account already: the first, one of the same name, or one that is connected to the same person.
var ErrTaken = errors.New("there is an account already")

// An Account is a person who may sign in, with the hash of the password.
type Account struct {
	act.Person
	PasswordHash string
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
	var p personRow
	err := notFoundIfNone(s.on(ctx).GetContext(ctx, &p, personQuery+" WHERE p.name = $1", name))
	return Account{Person: p.person(), PasswordHash: p.PasswordHash}, err
}

// Get returns a person.
func (s People) Get(ctx context.Context, id uuid.UUID) (act.Person, error) {
	var p personRow
	err := s.on(ctx).GetContext(ctx, &p, personQuery+" WHERE p.id = $1", id)
	return p.person(), notFoundIfNone(err)
}

// OfRounds returns the person in whose name the watch mends at a site; ErrNotFound where nobody has said how the site is watched. A worker
// elsewhere sees no other person.
func (s People) OfRounds(ctx context.Context, site uuid.UUID) (act.Person, error) {
	var p personRow
	err := s.on(ctx).GetContext(ctx, &p, "SELECT id, name, role, sites, bare FROM rounds_person($1)", site)
	return p.person(), notFoundIfNone(err)
}

// A NewSession is a session that begins in a browser.
type NewSession struct {
	Person       uuid.UUID
	Token        string // that the browser shows for the session
	Until        time.Time
	Browser      string // the mark by which the browser is known when the session has ended
	BrowserUntil time.Time
	Calls        string // what the browser calls itself
}

// StartSession remembers the hashes of a session's token and of the mark of the browser that it begins in.
func (s People) StartSession(ctx context.Context, x NewSession) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO sessions (token_hash, person_id, expires_at, browser) VALUES ($1, $2, $3, $4)",
			hashOf(x.Token), x.Person, x.Until, noNUL(x.Calls)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM browsers WHERE expires_at < now()"); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO browsers (token_hash, person_id, expires_at) VALUES ($1, $2, $3)", hashOf(x.Browser),
			x.Person, x.BrowserUntil)
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

// OfSession returns who a token belongs to, or ErrNotFound, and notes about once a minute that the session was seen.
func (s People) OfSession(ctx context.Context, token string) (act.Person, error) {
	var p personRow
	err := s.on(ctx).GetContext(ctx, &p, "WITH seen AS (UPDATE sessions SET last_seen_at = now() WHERE token_hash = $1 "+
		"AND last_seen_at < now() - interval '1 minute') "+personQuery+
		" JOIN sessions s ON s.person_id = p.id WHERE s.token_hash = $1 AND s.expires_at > now()", hashOf(token))
	return p.person(), notFoundIfNone(err)
}

// hold returns who acts as they are now, and whether that person is an owner. It keeps their role, and the token by which they act, as
// they are for the rest of the transaction of ctx. A worker elsewhere acts in the name of whoever has said how its site is watched, and of
// nobody else.
func (s People) hold(ctx context.Context, by act.Person, site uuid.UUID) (now act.Person, owner bool, err error) {
	if s.far != nil {
		if now, err = s.OfRounds(ctx, site); err == nil && now.ID != by.ID {
			err = ErrNotFound
		}
		return now, now.Role == act.Owner, err
	}
	if by.TokenID == uuid.Nil {
		var p personRow
		err := s.on(ctx).GetContext(ctx, &p, personQuery+" WHERE p.id = $1 FOR SHARE OF p", by.ID)
		return p.person(), p.Role == act.Owner, notFoundIfNone(err)
	}
	var r tokenRow
	err = s.on(ctx).GetContext(ctx, &r, tokenQuery+" WHERE t.id = $1 AND t.person_id = $2 AND t.expires_at > now() FOR SHARE OF p, t",
		by.TokenID, by.ID)
	if err != nil {
		return act.Person{}, false, notFoundIfNone(err)
	}
	return r.person(), r.Role == act.Owner, nil
}

// personQuery reads people with the sites that they are given.
const personQuery = "SELECT p.id, p.name, p.role, p.password_hash, p.issuer IS NOT NULL AS connected, " +
	givenSites + `, p.issuer IS NULL AND EXISTS (SELECT 1 FROM strict_roles r WHERE r.role = p.role)
	AND NOT EXISTS (SELECT 1 FROM factors f WHERE f.person_id = p.id) AS bare
	FROM people p`

// givenSites is the column of the sites that a person p is given, in order.
const givenSites = `(SELECT COALESCE(to_json(array_agg(site_id ORDER BY site_id)), '[]') FROM person_sites g
	WHERE g.person_id = p.id) AS sites`

type personRow struct {
	ID           uuid.UUID `db:"id"`
	Name         string    `db:"name"`
	Role         act.Role  `db:"role"`
	PasswordHash string    `db:"password_hash"`
	Connected    bool      `db:"connected"`
	Sites        uuidList  `db:"sites"`
	Bare         bool      `db:"bare"`
}

func (r personRow) person() act.Person {
	return act.Person{ID: r.ID, Name: r.Name, Role: r.Role, Sites: r.Sites, Bare: r.Bare, Password: r.PasswordHash != "",
		Connected: r.Connected}
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
