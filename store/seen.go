package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/diagnose"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/feed"
)

// A Seen is what a target has said, or why it did not.
type Seen struct {
	About   *target.About
	Layout  *target.Layout
	What    string
	Refused uuid.UUID
	Pin     string // of the certificate that it showed; the first one is kept
	Takes   string // the scheme in which it has taken its sign-in
	// OpenedUnder is the certificate under which SignIn has opened it so that it could be read.
	OpenedUnder string
	SignIn      uuid.UUID
	Diagnosis   *diagnose.Diagnosis
	Exchange    string
	Silent      bool // it was looked at, and could not be asked
}

// Saw appends to the record of a target what it has said, and keeps its last word of itself where pages find it.
func (s Targets) Saw(ctx context.Context, id uuid.UUID, run *uuid.UUID, x Seen) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var diagnosis any
		if x.Diagnosis != nil {
			diagnosis = JSON(*x.Diagnosis)
		}
		if x.What == "" { // slots that were asked for beside other work are no news of their own
			diagnosis = nil
		} else if _, err := tx.ExecContext(ctx, "INSERT INTO target_seen (id, target_id, run_id, what, diagnosis, exchange) VALUES "+
			"($1, $2, $3, $4, $5, $6)", newID(),
			id, run, x.What, diagnosis, x.Exchange); err != nil {
			return err
		}
		var site uuid.UUID
		if err := tx.GetContext(ctx, &site, "UPDATE targets SET seen_at = now() WHERE id = $1 RETURNING site_id", id); err != nil {
			return notFoundIfNone(err)
		}
		before, err := s.aboutOf(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := s.silent(ctx, tx, id, x); err != nil {
			return err
		}
		if x.Takes != "" {
			if _, err := tx.ExecContext(ctx, "UPDATE targets SET takes = $2 WHERE id = $1", id, x.Takes); err != nil {
				return err
			}
		}
		if x.OpenedUnder != "" {
			if _, err := tx.ExecContext(ctx, "UPDATE targets SET opened_under = $2, opened_with = $3 WHERE id = $1", id, x.OpenedUnder,
				x.SignIn); err != nil {
				return err
			}
		}
		if x.About != nil {
			if before.About != nil {
				if err := s.anotherOne(ctx, tx, id, before.About.V, *x.About); err != nil {
					return err
				}
			}
			if _, err := tx.ExecContext(ctx,
				"UPDATE targets SET about = $2, refused_id = NULL, name = COALESCE(NULLIF(name, ''), $3) WHERE id = $1", id,
				JSON(*x.About), x.About.Name); err != nil {
				return err
			}
		}
		if x.Layout != nil {
			if _, err := tx.ExecContext(ctx, "UPDATE targets SET layout = $2 WHERE id = $1", id, JSON(*x.Layout)); err != nil {
				return err
			}
		}
		if x.Pin != "" {
			if _, err := tx.ExecContext(ctx, "UPDATE targets SET pin = $2 WHERE id = $1 AND pin = ''", id, x.Pin); err != nil {
				return err
			}
		}
		if x.Refused != uuid.Nil {
			if _, err := tx.ExecContext(ctx, "UPDATE targets SET refused_id = $2 WHERE id = $1", id, x.Refused); err != nil {
				return err
			}
		}
		if after, err := s.aboutOf(ctx, tx, id); err != nil || after.Text != before.Text {
			if err == nil {
				err = s.siteChanged(ctx, tx, site) // what it takes has changed, and with it what fits
			}
			return err
		}
		return s.notify(ctx, tx, Event{Site: site, What: "target", ID: id})
	})
}

// silent notes since when a target does not answer, or that it does again. What its cameras are confirmed by is old meanwhile.
func (s Targets) silent(ctx context.Context, tx *sqlx.Tx, id uuid.UUID, x Seen) error {
	var devices []uuid.UUID
	query := ""
	switch {
	case x.About != nil || x.Layout != nil:
		query = "UPDATE targets SET silent_since = NULL WHERE id = $1 AND silent_since IS NOT NULL RETURNING id"
	case x.Silent:
		query = "UPDATE targets SET silent_since = now() WHERE id = $1 AND silent_since IS NULL RETURNING id"
	default:
		return nil
	}
	if err := tx.SelectContext(ctx, &devices, "WITH turned AS ("+query+
		") SELECT device_id FROM wanted_placements WHERE target_id IN (SELECT id FROM turned)", id); err != nil || len(devices) == 0 {
		return err
	}
	return s.devicesChanged(ctx, tx, devices)
}

// aboutRow is what a target has said of itself, as text to compare and as it reads; nil where it has said nothing.
type aboutRow struct {
	Text  string               `db:"text"`
	About *jsonb[target.About] `db:"about"`
}

func (s Targets) aboutOf(ctx context.Context, tx *sqlx.Tx, id uuid.UUID) (row aboutRow, err error) {
	return row, tx.GetContext(ctx, &row, "SELECT COALESCE(about::text, '') AS text, about FROM targets WHERE id = $1", id)
}

// A SeenRecord is one entry of that record.
type SeenRecord struct {
	ID        uuid.UUID                  `db:"id"`
	At        time.Time                  `db:"at"`
	What      string                     `db:"what"`
	Diagnosis *jsonb[diagnose.Diagnosis] `db:"diagnosis"`
	Exchange  bool                       `db:"exchange"`
}

// History lists the newest entries of a target's record.
func (s Targets) History(ctx context.Context, id uuid.UUID, limit int) (out []SeenRecord, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out,
		"SELECT id, at, what, diagnosis, exchange <> '' AS exchange FROM target_seen WHERE target_id = $1 "+
			"ORDER BY at DESC, id DESC LIMIT $2", id, limit)
}

// LongestWait returns how long a target has taken at most for the last pictures that came; 0 where none has.
func (s Targets) LongestWait(ctx context.Context, id uuid.UUID) (time.Duration, error) {
	var ms int64
	err := s.on(ctx).GetContext(ctx, &ms, `SELECT coalesce(max((body->>'waited_ms')::bigint), 0) FROM (SELECT body FROM evidence
		WHERE kind = 'confirmed' AND subject = $1 ORDER BY at DESC LIMIT 100) AS last`, id.String())
	return time.Duration(ms) * time.Millisecond, err
}

// OneSeen returns one entry of a target's record, with the target.
func (s Targets) OneSeen(ctx context.Context, record uuid.UUID) (x SeenRecord, target uuid.UUID, err error) {
	var row struct {
		SeenRecord
		Target uuid.UUID `db:"target_id"`
	}
	err = notFoundIfNone(s.on(ctx).GetContext(ctx, &row,
		"SELECT id, target_id, at, what, diagnosis, exchange <> '' AS exchange FROM target_seen WHERE id = $1", record))
	return row.SeenRecord, row.Target, err
}

// Exchange returns the conversation of one entry.
func (s Targets) Exchange(ctx context.Context, record uuid.UUID) (text string, err error) {
	return text, notFoundIfNone(s.on(ctx).GetContext(ctx, &text, "SELECT exchange FROM target_seen WHERE id = $1", record))
}

// feedHash returns what a feed's token, 32 random bytes, is found by. The token itself is kept encrypted, so that it can be shown again.
func feedHash(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// OpenFeed gives a feed a new token; the one before opens nothing from then on.
func (s Targets) OpenFeed(ctx context.Context, site, id uuid.UUID) error {
	raw := make([]byte, 32)
	rand.Read(raw)
	token := base64.RawURLEncoding.EncodeToString(raw)
	return s.setFeed(ctx, site, id, feedHash(token), s.cipher.Encrypt(token, "feed "+id.String()))
}

// CloseFeed withdraws a feed's address.
func (s Targets) CloseFeed(ctx context.Context, site, id uuid.UUID) error {
	return s.setFeed(ctx, site, id, nil, nil)
}

func (s Targets) setFeed(ctx context.Context, site, id uuid.UUID, hash, sealed []byte) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO past_feeds (feed_hash, target_id) SELECT feed_hash, id FROM targets
			WHERE id = $1 AND site_id = $2 AND feed_hash IS NOT NULL ON CONFLICT DO NOTHING`, id, site); err != nil {
			return err
		}
		if err := touchedOne(tx.ExecContext(ctx,
			"UPDATE targets SET feed_hash = $3, feed_sealed = $4 WHERE id = $1 AND site_id = $2 AND kind = 'feed'",
			id, site, hash, sealed)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM feed_screens WHERE target_id = $1", id); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: site, What: "target", ID: id})
	})
}

// FeedToken returns the token of a feed; "" where it has none.
func (s Targets) FeedToken(ctx context.Context, id uuid.UUID) (string, error) {
	var sealed []byte
	if err := s.on(ctx).GetContext(ctx, &sealed, "SELECT feed_sealed FROM targets WHERE id = $1", id); err != nil || sealed == nil {
		return "", notFoundIfNone(err)
	}
	return s.cipher.Decrypt(sealed, "feed "+id.String())
}

// ErrWithdrawn means that a token opened a feed once and does no longer.
var ErrWithdrawn = errors.New("the address of the feed was withdrawn")

// ByFeed finds the feed that a token opens. Its error is ErrWithdrawn for one that did, and ErrNotFound for one that never has.
func (s Targets) ByFeed(ctx context.Context, token string) (t Target, err error) {
	err = notFoundIfNone(s.on(ctx).GetContext(ctx, &t, "SELECT "+targetColumns+" FROM targets WHERE feed_hash = $1", feedHash(token)))
	if !errors.Is(err, ErrNotFound) {
		return t, err
	}
	var once bool
	if err := s.on(ctx).GetContext(ctx, &once, "SELECT EXISTS (SELECT 1 FROM past_feeds WHERE feed_hash = $1)", feedHash(token)); err != nil {
		return t, err
	}
	if once {
		return t, ErrWithdrawn
	}
	return t, ErrNotFound
}

// maxScreens bounds the screens that a feed keeps.
const maxScreens = 200

// Fetched notes that a screen has fetched a feed by its token. One that was replaced meanwhile counts for nothing.
func (s Targets) Fetched(ctx context.Context, t Target, token, name, address, format string) error {
	return s.screen(ctx, t, `INSERT INTO feed_screens (target_id, name, address, format, times) SELECT $1, $2, $3, $4, 1
		FROM (SELECT 1 FROM targets WHERE id = $1 AND feed_hash = $6 FOR SHARE) AS present
		WHERE ((SELECT count(*) FROM feed_screens WHERE target_id = $1) < $5 OR EXISTS (SELECT 1 FROM feed_screens
			WHERE target_id = $1 AND name = $2 AND address = $3))
		ON CONFLICT (target_id, name, address) DO UPDATE SET fetched = now(), times = feed_screens.times + 1, format = $4, old = false`,
		name, address, format, maxScreens, feedHash(token))
}

// AskedAtOldAddress notes that a screen has asked at an address that a feed had before. One of the same name that has taken the present
// one within a minute does not count: screens of one kind behind one router are called alike.
func (s Targets) AskedAtOldAddress(ctx context.Context, token, name, address string) error {
	var t Target
	err := s.on(ctx).GetContext(ctx, &t, "SELECT "+targetColumns+
		" FROM targets WHERE id = (SELECT target_id FROM past_feeds WHERE feed_hash = $1)", feedHash(token))
	if err != nil {
		return notFoundIfNone(err)
	}
	return s.screen(ctx, t, `INSERT INTO feed_screens (target_id, name, address, times, old) SELECT $1, $2, $3, 0, true
		WHERE (SELECT count(*) FROM feed_screens WHERE target_id = $1) < $4 ON CONFLICT (target_id, name, address)
		DO UPDATE SET fetched = now(), old = true WHERE feed_screens.old OR feed_screens.fetched < now() - interval '1 minute'`,
		name, address, maxScreens)
}

// Showing notes what a screen says that it shows, by the cameras' identities.
func (s Targets) Showing(ctx context.Context, t Target, name, address string, identities []string) error {
	raw, err := json.Marshal(identities)
	if err != nil {
		return err
	}
	return s.screen(ctx, t, "UPDATE feed_screens SET showing = $4 WHERE target_id = $1 AND name = $2 AND address = $3", name, address,
		string(raw))
}

func (s Targets) screen(ctx context.Context, t Target, query string, args ...any) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, query, append([]any{t.ID}, args...)...); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: t.Site, What: "target", ID: t.ID})
	})
}

// Screens lists who takes the list of a feed.
func (s Targets) Screens(ctx context.Context, id uuid.UUID) (out []feed.Screen, err error) {
	var rows []struct {
		Name    string          `db:"name"`
		Address string          `db:"address"`
		Format  string          `db:"format"`
		Fetched time.Time       `db:"fetched"`
		Times   int             `db:"times"`
		Showing jsonb[[]string] `db:"showing"`
		Current bool            `db:"current"`
		Old     bool            `db:"old"`
	}
	err = s.on(ctx).SelectContext(ctx, &rows,
		`SELECT f.name, f.address, f.format, f.fetched, f.times, f.showing, f.old, f.fetched >= t.listed_at AND NOT f.old AS current
		FROM feed_screens f JOIN targets t ON t.id = f.target_id WHERE f.target_id = $1 ORDER BY f.name, f.address`, id)
	for _, r := range rows {
		out = append(out, feed.Screen{Name: r.Name, Address: r.Address, Format: r.Format, Fetched: r.Fetched, Times: r.Times,
			Showing: r.Showing.V,
			Current: r.Current, Old: r.Old})
	}
	return out, err
}
