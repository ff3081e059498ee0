package store

import (
	"context"
	"crypto/rand"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/ground/pairing"
)

// Paired are the workers at sites that are known by keys of their own, and the machines that ask to be.
type Paired struct{ *database }

// A PairedWorker is one of them.
type PairedWorker struct {
	ID        uuid.UUID  `db:"id" json:"id"`
	Name      string     `db:"name" json:"name"`
	Key       []byte     `db:"public_key" json:"-"`
	Machine   string     `db:"machine" json:"machine" doc:"what the machine calls itself"`
	Version   string     `db:"version" json:"version"`
	Sites     uuidList   `db:"sites" json:"sites"`
	Left      bool       `db:"left_open" json:"left" doc:"there are sign-ins that it could read and no longer can"`
	Shared    bool       `db:"shared" json:"shared" doc:"it opens the sign-ins that are for every site, too"`
	By        string     `db:"made_by" json:"made_by"`
	Made      time.Time  `db:"made_at" json:"made_at"`
	Revoked   *time.Time `db:"revoked_at" json:"revoked_at,omitempty"`
	RevokedBy string     `db:"revoked_by" json:"revoked_by,omitempty"`
	Seen      *time.Time `db:"seen_at" json:"seen_at,omitempty" doc:"when it was heard last; missing where it never was"`
	From      string     `db:"from_address" json:"from,omitempty" doc:"the address that it connected from"`
	DelayMS   float64    `db:"delay_ms" json:"delay_ms,omitempty" doc:"how long an answer of it took"`
	Twice     *time.Time `db:"twice_at" json:"twice_at,omitempty" doc:"when somebody else used its key while it was connected"`
	TwiceFrom string     `db:"twice_from" json:"twice_from,omitempty"`
}

const pairedColumns = `id, name, public_key, machine, version, shared, made_by, made_at, revoked_at, revoked_by, seen_at, from_address,
	delay_ms, twice_at, twice_from, (SELECT COALESCE(json_agg(site_id), '[]') FROM paired_sites p WHERE p.worker_id = w.id) AS sites,
	EXISTS (SELECT 1 FROM laid_open o WHERE o.worker_id = w.id) AS left_open`

// List returns the paired workers, those that were revoked last.
func (s Paired) List(ctx context.Context) ([]PairedWorker, error) {
	out := []PairedWorker{}
	return out, s.on(ctx).SelectContext(ctx, &out, "SELECT "+pairedColumns+
		" FROM paired_workers w ORDER BY revoked_at IS NOT NULL, name, made_at")
}

// Get returns a paired worker, a revoked one too.
func (s Paired) Get(ctx context.Context, id uuid.UUID) (w PairedWorker, err error) {
	return w, notFoundIfNone(s.on(ctx).GetContext(ctx, &w, "SELECT "+pairedColumns+" FROM paired_workers w WHERE id = $1", id))
}

// A Pairing is a machine that asks to be paired.
type Pairing struct {
	Request []byte         `db:"token_hash"` // the SHA-256 of what the machine asks by how it stands
	Key     pairing.Public `db:"public_key"`
	// Recipient is what data keys are wrapped for (age, X25519).
	Recipient string     `db:"recipient"`
	Machine   string     `db:"machine"`
	Version   string     `db:"version"`
	From      string     `db:"from_address"`
	Worker    *uuid.UUID `db:"worker_id"` // nil while nobody has confirmed it
}

// Bounds of asking to be paired.
const (
	// PairingLife is how long a machine waits for somebody to type its code.
	PairingLife = 10 * time.Minute
	mostWaiting = 50
)

// ErrManyWait is for one machine too many that asks to be paired.
var ErrManyWait = errors.New("as many machines wait to be paired as may")

// Ask keeps that a machine asks to be paired, by a token of its own and a code that somebody is to type.
func (s Paired) Ask(ctx context.Context, token, code string, p Pairing) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM pairings WHERE until < now()"); err != nil {
			return err
		}
		n, err := tx.ExecContext(ctx, `INSERT INTO pairings (token_hash, code_hash, public_key, machine, version, from_address, until, recipient)
			SELECT $1, $2, $3, $4, $5, $6, now() + make_interval(secs => $7), $9 WHERE (SELECT count(*) FROM pairings) < $8`, hashOf(token),
			hashOf(code), []byte(p.Key), p.Machine, p.Version, p.From, PairingLife.Seconds(), mostWaiting, p.Recipient)
		if err := touchedOne(n, err); errors.Is(err, ErrNotFound) {
			return ErrManyWait
		} else if err != nil {
			return err
		}
		return nil
	})
}

// AskAtHand asks for a machine that is at hand, so that nobody types a code for it, and returns the request as an act.PairWorker names it.
func (s Paired) AskAtHand(ctx context.Context, p Pairing) (request []byte, err error) {
	token := rand.Text()
	if err := s.Ask(ctx, token, pairing.NewCode(), p); err != nil {
		return nil, err
	}
	asked, err := s.Asked(ctx, token)
	return asked.Request, err
}

// Asked returns how the request of a token stands; ErrNotFound where it was not confirmed in time.
func (s Paired) Asked(ctx context.Context, token string) (p Pairing, err error) {
	return p, notFoundIfNone(s.on(ctx).GetContext(ctx, &p, `SELECT token_hash, public_key, recipient, machine, version, from_address, worker_id
		FROM pairings WHERE token_hash = $1 AND until > now()`, hashOf(token)))
}

// ByCode returns the request that shows a code and that nobody has confirmed yet.
func (s Paired) ByCode(ctx context.Context, code string) (p Pairing, err error) {
	return p, notFoundIfNone(s.on(ctx).GetContext(ctx, &p, `SELECT token_hash, public_key, recipient, machine, version, from_address, worker_id
		FROM pairings WHERE code_hash = $1 AND until > now() AND worker_id IS NULL`, hashOf(code)))
}

// pair makes a machine that asked a worker. ErrNotFound means that it asks no more, ErrTaken that its key is known already.
func (s Paired) pair(ctx context.Context, by act.Person, x act.PairWorker) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO paired_workers (id, name, public_key, machine, version, made_by, recipient, shared)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, x.ID, x.Name, []byte(x.Key), x.Machine, x.Version, by.Name, x.Recipient,
			x.Shared); err != nil {
			return takenIfDouble(err)
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO paired_sites (worker_id, site_id) SELECT $1, id FROM sites WHERE id = ANY($2)", x.ID,
			x.Sites); err != nil {
			return err
		}
		if err := s.makeRole(ctx, tx, x.ID); err != nil {
			return err
		}
		if err := s.wrapAllFor(ctx, tx, x.ID, x.Recipient); err != nil {
			return err
		}
		if err := s.tellWorkers(ctx, tx, x.Sites); err != nil {
			return err
		}
		return touchedOne(tx.ExecContext(ctx, `UPDATE pairings SET worker_id = $2 WHERE token_hash = $1 AND worker_id IS NULL
			AND until > now()`, x.Request, x.ID))
	})
}

// revoke ends that a worker is let in, and tells the servers.
func (s Paired) revoke(ctx context.Context, by act.Person, x act.RevokeWorker) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, `UPDATE paired_workers SET revoked_at = now(), revoked_by = $2
			WHERE id = $1 AND revoked_at IS NULL`, x.ID, by.Name)); err != nil {
			return err
		}
		if err := layOpen(ctx, tx, x.ID, "true"); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM wrapped_keys WHERE worker_id = $1", x.ID); err != nil {
			return err
		}
		if err := s.dropRole(ctx, tx, x.ID); err != nil {
			return err
		}
		var sites []uuid.UUID
		if err := tx.SelectContext(ctx, &sites, "SELECT site_id FROM paired_sites WHERE worker_id = $1", x.ID); err != nil {
			return err
		}
		if err := s.tellWorkers(ctx, tx, sites); err != nil {
			return err
		}
		return s.notify(ctx, tx, Event{What: WorkerRevoked, ID: x.ID})
	})
}

// Heard keeps that a worker is connected, from where, with which version, and how long an answer of it took.
func (s Paired) Heard(ctx context.Context, id uuid.UUID, from, version string, delay time.Duration) error {
	_, err := s.on(ctx).ExecContext(ctx, `UPDATE paired_workers SET seen_at = now(), from_address = $2, version = $3, delay_ms = $4
		WHERE id = $1`, id, from, version, float64(delay.Microseconds())/1000)
	return err
}

// Want has every server that the worker is connected to see whether it answers, and returns the moment from which on Heard says so.
func (s Paired) Want(ctx context.Context, id uuid.UUID) (since time.Time, err error) {
	if err = s.on(ctx).GetContext(ctx, &since, "SELECT clock_timestamp()"); err != nil {
		return since, err
	}
	return since, s.notify(ctx, s.on(ctx), Event{What: WorkerWanted, ID: id})
}

// Works reports whether a worker has connections to the database, whichever server leads them there.
func (s Paired) Works(ctx context.Context, id uuid.UUID) (yes bool, err error) {
	return yes, notFoundIfNone(s.on(ctx).GetContext(ctx, &yes, `SELECT EXISTS (SELECT 1 FROM pg_stat_activity a WHERE a.usename = w.role)
		FROM paired_workers w WHERE id = $1`, id))
}

// Twice keeps that somebody else used a worker's key while it was connected.
func (s Paired) Twice(ctx context.Context, id uuid.UUID, from string) error {
	_, err := s.on(ctx).ExecContext(ctx, "UPDATE paired_workers SET twice_at = now(), twice_from = $2 WHERE id = $1", id, from)
	return err
}

// give changes the sites of a worker. What it holds no longer it could read till now.
func (s Paired) give(ctx context.Context, x act.GiveSites) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var recipient string
		if err := notFoundIfNone(tx.GetContext(ctx, &recipient, `UPDATE paired_workers SET shared = $2 WHERE id = $1 AND revoked_at IS NULL
			RETURNING recipient`, x.ID, x.Shared)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM paired_sites WHERE worker_id = $1 AND site_id <> ALL($2)", x.ID, x.Sites); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO paired_sites (worker_id, site_id) SELECT $1, id FROM sites WHERE id = ANY($2)
			ON CONFLICT DO NOTHING`, x.ID, x.Sites); err != nil {
			return err
		}
		const ended = "NOT (SELECT " + holdsKey + " FROM paired_workers w WHERE w.id = x.worker_id)"
		if err := layOpen(ctx, tx, x.ID, ended); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM wrapped_keys x USING data_keys k WHERE k.id = x.key_id AND x.worker_id = $1 AND "+ended,
			x.ID); err != nil {
			return err
		}
		if err := s.wrapAllFor(ctx, tx, x.ID, recipient); err != nil {
			return err
		}
		return s.tellWorkers(ctx, tx, x.Sites)
	})
}

// tellWorkers has all workers look anew which sites are theirs.
func (s Paired) tellWorkers(ctx context.Context, tx *sqlx.Tx, sites []uuid.UUID) error {
	for _, site := range sites {
		if err := s.notify(ctx, tx, Event{Site: site, What: "site", ID: site}); err != nil {
			return err
		}
	}
	return nil
}

// layOpen records the secrets that a worker can read at this moment: those encrypted with a key that is wrapped for it. In the condition
// where, k is the data key and x its wrapping.
func layOpen(ctx context.Context, tx *sqlx.Tx, worker uuid.UUID, where string) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO laid_open (worker_id, kind, thing, site_id, what)
		SELECT $1, 'sign-in', s.id, k.site_id, concat_ws(', ', NULLIF(s.label, ''), s.user_name) FROM sign_ins s
			JOIN data_keys k ON k.id = s.key_id JOIN wrapped_keys x ON x.key_id = k.id WHERE x.worker_id = $1 AND `+where+`
		UNION ALL SELECT $1, 'relay', r.id, k.site_id, r.path FROM relays r
			JOIN data_keys k ON k.id = r.key_id JOIN wrapped_keys x ON x.key_id = k.id WHERE x.worker_id = $1 AND `+where+`
		ON CONFLICT (worker_id, kind, thing) DO UPDATE SET at = now()`, worker)
	return err
}

// A LaidOpen is a secret that a worker could read until it was revoked, or until its site was taken from it.
type LaidOpen struct {
	Kind string     `db:"kind" json:"kind" enum:"sign-in,relay"`
	ID   uuid.UUID  `db:"thing" json:"id"`
	Site *uuid.UUID `db:"site_id" json:"site,omitempty" doc:"missing where it is for every site"`
	What string     `db:"what" json:"what"`
	// Gone says that it is no more: it was deleted, or given another secret.
	Gone bool `db:"gone" json:"gone" doc:"it is no more, or has another secret by now"`
}

// LaidOpen lists what a worker could read and no longer can, what is still the same first.
func (s Paired) LaidOpen(ctx context.Context, worker uuid.UUID) ([]LaidOpen, error) {
	out := []LaidOpen{}
	return out, s.on(ctx).SelectContext(ctx, &out, `SELECT o.kind, o.thing, o.site_id, o.what,
		NOT EXISTS (SELECT 1 FROM sign_ins s WHERE s.id = o.thing AND s.changed_at <= o.at)
		AND NOT EXISTS (SELECT 1 FROM relays r WHERE r.id = o.thing) AS gone
		FROM laid_open o WHERE worker_id = $1 ORDER BY gone, kind DESC, what`, worker)
}

// A SiteWork is who works a site from elsewhere, and what waits there to be done.
type SiteWork struct {
	Workers []SiteWorker `json:"workers,omitempty" doc:"paired workers that have the site"`
	Going   int          `json:"going,omitempty" doc:"jobs under way"`
	Waiting int          `json:"waiting,omitempty" doc:"jobs that wait for a worker"`
}

// A SiteWorker is a paired worker of a site.
type SiteWorker struct {
	Name    string     `json:"name"`
	Version string     `json:"version"`
	Seen    *time.Time `json:"seen_at,omitempty" doc:"when it was heard last; missing where it never was"`
	Here    bool       `json:"connected" doc:"it was heard within the last minute"`
	DelayMS float64    `json:"delay_ms,omitempty"`
}

// Work returns who works the sites from elsewhere, and what waits there. A site without either is not in it.
func (s Paired) Work(ctx context.Context) (map[uuid.UUID]SiteWork, error) {
	var rows []struct {
		Site    uuid.UUID           `db:"site_id"`
		Workers jsonb[[]SiteWorker] `db:"workers"`
	}
	if err := s.on(ctx).SelectContext(ctx, &rows, `SELECT p.site_id, json_agg(json_build_object('name', w.name, 'version', w.version,
		'seen_at', w.seen_at, 'connected', COALESCE(w.seen_at > now() - interval '1 minute', false), 'delay_ms', w.delay_ms) ORDER BY w.name)
		AS workers FROM paired_sites p JOIN paired_workers w ON w.id = p.worker_id WHERE w.revoked_at IS NULL GROUP BY p.site_id`); err != nil {
		return nil, err
	}
	out := map[uuid.UUID]SiteWork{}
	for _, r := range rows {
		out[r.Site] = SiteWork{Workers: r.Workers.V}
	}
	var jobs []struct {
		Site    uuid.UUID `db:"site"`
		Going   int       `db:"going"`
		Waiting int       `db:"waiting"`
	}
	// A job's queue names its site.
	if err := s.on(ctx).SelectContext(ctx, &jobs, `SELECT substr(queue, 6, 36)::uuid AS site,
		count(*) FILTER (WHERE state = 'running') AS going,
		count(*) FILTER (WHERE state = 'available') AS waiting FROM river_job WHERE state IN ('available', 'running')
		AND queue ~ '^site-[0-9a-f-]{36}' GROUP BY 1`); err != nil {
		return nil, err
	}
	for _, j := range jobs {
		w := out[j.Site]
		w.Going, w.Waiting = j.Going, j.Waiting
		out[j.Site] = w
	}
	return out, nil
}
