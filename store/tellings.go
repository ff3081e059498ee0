package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/telling"
	"unlatch/core/ground/signin"
)

// Tellings are who is told what, and how that goes.
type Tellings struct{ *database }

// A TellRule is a rule of a site with how it goes.
type TellRule struct {
	ID      uuid.UUID               `db:"id"`
	Site    uuid.UUID               `db:"site_id"`
	Form    jsonb[telling.Listener] `db:"form"`
	Secret  bool                    `db:"secret"` // it has one
	Off     string                  `db:"off"`    // why nothing is told any more; "" where it is
	Waiting int                     `db:"waiting"`
	Problem string                  `db:"problem"` // why the message that waits was not taken
	Last    *time.Time              `db:"last"`    // when a message was taken last
	Acts    int64                   `db:"acts"`    // the record's line up to which acts were told
	Digest  *time.Time              `db:"digest_at"`
}

const tellRuleQuery = `SELECT r.id, r.site_id, r.form, r.sealed IS NOT NULL AS secret, r.off, r.acts, r.digest_at,
	(SELECT count(*) FROM tellings t WHERE t.rule_id = r.id AND t.done_at IS NULL AND NOT t.given_up) AS waiting,
	COALESCE((SELECT t.problem FROM tellings t WHERE t.rule_id = r.id AND t.done_at IS NULL AND NOT t.given_up
		ORDER BY t.id LIMIT 1), '') AS problem,
	(SELECT max(t.done_at) FROM tellings t WHERE t.rule_id = r.id) AS last FROM tell_rules r WHERE `

// Rules returns those of a site, or of all sites for the nil UUID, the oldest first.
func (s Tellings) Rules(ctx context.Context, site uuid.UUID) (out []TellRule, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out, tellRuleQuery+
		"($1::uuid = '00000000-0000-0000-0000-000000000000'::uuid OR r.site_id = $1) ORDER BY r.created_at, r.id", site)
}

// Rule returns one rule.
func (s Tellings) Rule(ctx context.Context, id uuid.UUID) (r TellRule, err error) {
	return r, notFoundIfNone(s.on(ctx).GetContext(ctx, &r, tellRuleQuery+"r.id = $1", id))
}

// Put keeps a rule, a new one or an old one that was changed. Without a secret an old one keeps what it has. A new rule hears of what comes
// from now on.
func (s Tellings) Put(ctx context.Context, x act.PutTellRule) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var sealed []byte
		if !x.Secret.Empty() {
			sealed = s.cipher.Encrypt(x.Secret.Reveal(), x.ID.String())
		}
		if err := touchedOne(tx.ExecContext(ctx, `INSERT INTO tell_rules AS r (id, site_id, form, sealed, acts)
			VALUES ($1, $2, $3, $4, COALESCE((SELECT max(number) FROM audit), 0)) ON CONFLICT (id) DO UPDATE
			SET form = excluded.form, sealed = COALESCE(excluded.sealed, r.sealed), off = '' WHERE r.site_id = excluded.site_id`,
			x.ID, x.Site, JSON(x.Rule), sealed)); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: x.Site, What: "tell", ID: x.ID})
	})
}

// Delete removes a rule with what it has not told yet.
func (s Tellings) Delete(ctx context.Context, site, id uuid.UUID) error {
	return touchedOne(s.on(ctx).ExecContext(ctx, "DELETE FROM tell_rules WHERE id = $1 AND site_id = $2", id, site))
}

// Secret decrypts the secret of a rule; the empty one where it has none.
func (s Tellings) Secret(ctx context.Context, id uuid.UUID) (signin.Secret, error) {
	var sealed []byte
	if err := s.on(ctx).GetContext(ctx, &sealed, "SELECT sealed FROM tell_rules WHERE id = $1", id); err != nil {
		return signin.Secret{}, notFoundIfNone(err)
	}
	if sealed == nil {
		return signin.Secret{}, nil
	}
	text, err := s.cipher.Decrypt(sealed, id.String())
	return signin.NewSecret(text), err
}

// Told returns what a rule was told of each drift.
func (s Tellings) Told(ctx context.Context, rule uuid.UUID) (map[uuid.UUID]telling.Told, error) {
	var rows []struct {
		Drift uuid.UUID `db:"drift_id"`
		Flaps int       `db:"flaps"`
		Ended bool      `db:"ended"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT drift_id, flaps, ended FROM told WHERE rule_id = $1", rule)
	out := map[uuid.UUID]telling.Told{}
	for _, r := range rows {
		out[r.Drift] = telling.Told{Flaps: r.Flaps, Ended: r.Ended}
	}
	return out, err
}

// Ended returns the drifts of a site that are over and that a rule was told of while they lasted.
func (s Tellings) Ended(ctx context.Context, rule uuid.UUID) ([]drift.Episode, error) {
	var rows []driftRow
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT "+driftColumns+` FROM drifts WHERE ended_at IS NOT NULL
		AND id IN (SELECT drift_id FROM told WHERE rule_id = $1 AND NOT ended)`, rule)
	return episodes(rows), err
}

// A Tell is a message with what it tells of drifts.
type Tell struct {
	Message telling.Message
	// Of are the drifts that it tells of, with what is remembered of that.
	Of map[uuid.UUID]telling.Told
	// Ill are the findings of the installation that it tells of, by their keys, with what it says; "" where it tells that one is over.
	Ill map[string]string
}

// Tell queues messages of a rule, and remembers what they tell of. acts is the record's line up to which acts were told; digest is
// when the next digest is due, nil for none.
func (s Tellings) Tell(ctx context.Context, r TellRule, list []Tell, acts int64, digest *time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		// Two workers that tell at once: the second finds the first's marks.
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE tell_rules SET acts = greatest(acts, $2), digest_at = $3 WHERE id = $1", r.ID, acts,
			digest)); err != nil {
			return err
		}
		for _, x := range list {
			for id, told := range x.Of {
				if _, err := tx.ExecContext(ctx, `INSERT INTO told (rule_id, drift_id, flaps, ended) VALUES ($1, $2, $3, $4)
					ON CONFLICT (rule_id, drift_id) DO UPDATE SET flaps = excluded.flaps, ended = excluded.ended`, r.ID, id, told.Flaps,
					told.Ended); err != nil {
					return err
				}
			}
			for key, says := range x.Ill {
				if _, err := tx.ExecContext(ctx, `WITH gone AS (DELETE FROM told_ill WHERE rule_id = $1 AND finding = $2 AND $3 = '')
					INSERT INTO told_ill (rule_id, finding, says) SELECT $1, $2, $3 WHERE $3 <> '' ON CONFLICT DO NOTHING`, r.ID, key,
					says); err != nil {
					return err
				}
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO tellings (rule_id, site_id, body) VALUES ($1, $2, $3)", r.ID, r.Site,
				JSON(x.Message)); err != nil {
				return err
			}
		}
		return nil
	})
}

// A Telling is a message that waits to be delivered.
type Telling struct {
	ID      int64                  `db:"id"`
	Rule    uuid.UUID              `db:"rule_id"`
	Body    jsonb[telling.Message] `db:"body"`
	Made    time.Time              `db:"made_at"`
	Tries   int                    `db:"tries"`
	Next    time.Time              `db:"next_at"`
	Done    *time.Time             `db:"done_at"`
	GivenUp bool                   `db:"given_up"`
	Problem string                 `db:"problem"`
}

const tellingColumns = "id, rule_id, body, made_at, tries, next_at, done_at, given_up, problem"

// Next returns the message of a rule that is to be delivered next, ErrNotFound where none waits. Messages go out in their order.
func (s Tellings) Next(ctx context.Context, rule uuid.UUID) (t Telling, err error) {
	return t, notFoundIfNone(s.on(ctx).GetContext(ctx, &t, "SELECT "+tellingColumns+
		" FROM tellings WHERE rule_id = $1 AND done_at IS NULL AND NOT given_up ORDER BY id LIMIT 1", rule))
}

// Latest returns the newest messages of a site.
func (s Tellings) Latest(ctx context.Context, site uuid.UUID, most int) (out []Telling, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out,
		"SELECT "+tellingColumns+" FROM tellings WHERE site_id = $1 ORDER BY id DESC LIMIT $2", site,
		most)
}

// Delivered keeps how a try went: problem is why the message was not taken, "" where it was. A message that is tried again is due at next;
// the zero time gives it up.
func (s Tellings) Delivered(ctx context.Context, site uuid.UUID, id int64, problem string, next time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE tellings SET tries = tries + 1, problem = $2, done_at = CASE WHEN $2 = '' THEN now() END,
			given_up = $2 <> '' AND $3::timestamptz IS NULL, next_at = COALESCE($3, next_at) WHERE id = $1`, id, problem,
			timeOrNull(next)); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{Site: site, What: "tell", ID: site})
	})
}

// test queues a message that only says that telling works.
func (s Tellings) test(ctx context.Context, x act.TestTelling) error {
	r, err := s.Rule(ctx, x.ID)
	if err != nil {
		return err
	}
	if r.Site != x.Site {
		return ErrNotFound
	}
	return s.Tell(ctx, r, []Tell{{Message: x.Message}}, r.Acts, r.Digest)
}

// Fold puts the messages that wait for a rule together as one, so that a server which comes back after a day is not flooded.
func (s Tellings) Fold(ctx context.Context, r TellRule, into telling.Message) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			"UPDATE tellings SET given_up = true, problem = 'told with others' WHERE rule_id = $1 AND done_at IS NULL "+
				"AND NOT given_up", r.ID); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO tellings (rule_id, site_id, body) VALUES ($1, $2, $3)", r.ID, r.Site, JSON(into))
		return err
	})
}

// Pending returns the messages of a rule that wait, in their order.
func (s Tellings) Pending(ctx context.Context, rule uuid.UUID) (out []Telling, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out, "SELECT "+tellingColumns+
		" FROM tellings WHERE rule_id = $1 AND done_at IS NULL AND NOT given_up ORDER BY id", rule)
}

// SwitchOff has a rule tell nothing any more, and says why.
func (s Tellings) SwitchOff(ctx context.Context, rule uuid.UUID, why string) error {
	_, err := s.on(ctx).ExecContext(ctx, "UPDATE tell_rules SET off = $2 WHERE id = $1", rule, why)
	return err
}

// An Acted is a line of the record for telling.
type Acted struct {
	Number  int64     `db:"number"`
	At      time.Time `db:"at"`
	Person  string    `db:"person"`
	Act     act.Name  `db:"act"`
	Subject string    `db:"subject"`
	After   string    `db:"after"`
}

// ActsSince returns the lines of a site's record after a number, oldest first.
func (s Tellings) ActsSince(ctx context.Context, site uuid.UUID, number int64, most int) (out []Acted, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out,
		"SELECT number, at, person, act, subject, after FROM audit WHERE site_id = $1 AND number > $2 ORDER BY number LIMIT $3",
		site, number, most)
}
