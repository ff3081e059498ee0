package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"unlatch/core/ground/signin"
)

// A Try is a sign-in that is about to go out, on a device or on a target that is none.
type Try struct {
	Device  uuid.UUID // or Target
	Target  uuid.UUID
	SignIn  uuid.UUID
	Purpose signin.Purpose
	// Kind is what the device is known to be, by which sign-ins are ordered for others of its kind.
	Kind string
	// Host is where it is sent; "" where the device is.
	Host string
	// Run is the work that it belongs to: what a target has refused since that began is not sent again.
	Run uuid.UUID
	// Changed is when the entry was changed last that is about to be sent; the zero time does not look whether it has been since.
	Changed time.Time
}

// ErrSignInChanged means that an entry of the keyring was changed or removed after it was read.
var ErrSignInChanged = errors.New("the sign-in was changed on the keyring meanwhile")

// ErrRefusedMeanwhile means that a target has refused a sign-in that others of the same work wait for.
var ErrRefusedMeanwhile = errors.New("the target has refused this sign-in")

// BeginTry asks leave for a try. It counts those of all workers that were sent to the same host, or on the same device or target, whoever
// named the place: two workers racing cannot exceed the budget, nor can several devices that name one for their own. It returns a
// *signin.HeldBackError where one more wrong try is not safe, what came of another is not known yet, or the device has said that it is
// locked.
//
// It is a transaction of its own, of two ways to the database and back: all that the decision needs is asked at once.
func (s SignIns) BeginTry(ctx context.Context, t Try) (try uuid.UUID, err error) {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return uuid.Nil, err
	}
	defer conn.Release()
	l, _ := ctx.Value(leaseKey{}).(Lease)
	var b pgx.Batch
	b.Queue("BEGIN")
	asked := askForTry(ctx, &b, t)
	err = conn.SendBatch(ctx, &b).Close()
	if err == nil && !asked.held {
		err = ErrFenced
	}
	if err == nil {
		err = asked.may(t)
	}
	if err != nil {
		conn.Exec(ctx, "ROLLBACK") // a connection that cannot even do that does not go back to the pool
		return uuid.Nil, notFoundIfNone(err)
	}
	try = newID()
	b = pgx.Batch{}
	b.Queue(`INSERT INTO tries (id, device_id, target_id, site_id, host, sign_in_id, purpose, likeness, worker, at)
		VALUES ($1, NULLIF($2::uuid, $10::uuid), NULLIF($3::uuid, $10::uuid), $4, $5, $6, $7, $8, $9, clock_timestamp())`, try,
		t.Device, t.Target, asked.site, asked.host, t.SignIn, t.Purpose, t.Kind, l.Worker, uuid.Nil)
	b.Queue("COMMIT")
	return try, conn.SendBatch(ctx, &b).Close()
}

// askedForTry is what the database says of a try before it is begun.
type askedForTry struct {
	held    bool // the lease of whoever asks
	site    uuid.UUID
	host    string
	now     time.Time
	until   *time.Time // the device has said that it is locked
	wrong   []time.Time
	pending int
	refused bool       // by the target, since the work began
	changed *time.Time // the entry of the keyring; nil where it is gone
}

// askForTry adds the questions to a batch that has begun a transaction. Each sees what those before it have waited for.
func askForTry(ctx context.Context, b *pgx.Batch, t Try) *askedForTry {
	a := &askedForTry{}
	askLease(ctx, b, &a.held)
	at := []any{t.Device, t.Target, t.Host}
	b.Queue(tryPlace+"SELECT site_id, host FROM place", at...).QueryRow(scan(&a.site, &a.host))
	// By host first and for all tries alike, so that no two wait for each other.
	b.Queue(tryPlace+"SELECT pg_advisory_xact_lock(hashtextextended('try ' || site_id || host, 0)) FROM place", at...)
	b.Queue("SELECT 1 FROM devices WHERE id = $1 FOR UPDATE", t.Device)
	// The time is that after the wait. now() would be when the transaction began.
	b.Queue(tryPlace+"SELECT clock_timestamp(), (SELECT max(until) FROM tries WHERE until > (SELECT clock_timestamp()) AND ("+sameTry+"))",
		at...).QueryRow(scan(&a.now, &a.until))
	b.Queue(tryPlace+`SELECT at, result FROM tries WHERE result IN ('pending', 'refused', 'unseen') AND
		at > (SELECT clock_timestamp()) - $4 * interval '1 second' AND (`+sameTry+")", append(at, signin.Window.Seconds())...).
		Query(func(rows pgx.Rows) error {
			var at time.Time
			var result signin.Result
			_, err := pgx.ForEachRow(rows, []any{&at, &result}, func() error {
				if result == "pending" {
					a.pending++
				} else {
					a.wrong = append(a.wrong, at)
				}
				return nil
			})
			return err
		})
	b.Queue(`SELECT EXISTS (SELECT 1 FROM tries t JOIN runs r ON r.id = $3 WHERE t.target_id = $1 AND t.sign_in_id = $2
		AND t.result = 'refused' AND t.at > r.created_at)`, t.Target, t.SignIn, t.Run).QueryRow(scan(&a.refused))
	b.Queue("SELECT (SELECT changed_at FROM sign_ins WHERE id = $1)", t.SignIn).QueryRow(scan(&a.changed))
	return a
}

// scan reads the one row of an answer.
func scan(into ...any) func(pgx.Row) error {
	return func(row pgx.Row) error { return row.Scan(into...) }
}

// may decides whether one more try is safe.
func (a *askedForTry) may(t Try) error {
	if !t.Changed.IsZero() && (a.changed == nil || !a.changed.Equal(t.Changed)) {
		return ErrSignInChanged
	}
	if a.until != nil {
		return &signin.HeldBackError{Until: *a.until, Locked: true}
	}
	if t.Target != uuid.Nil {
		if a.pending > 0 { // one is sent, the others wait for its answer
			return &signin.HeldBackError{Until: a.now.Add(waitForAnswer), Spacing: true}
		}
		if a.refused {
			return ErrRefusedMeanwhile
		}
	}
	return signin.Allow(a.wrong, a.pending, a.now)
}

// waitForAnswer is after how long somebody who waits for what comes of another try asks again.
const waitForAnswer = 20 * time.Millisecond

// tryPlace begins a statement with the site of a try and the host that it goes to. $1 is the device, $2 the target, $3 the host that was
// named, "" for where the device is.
const tryPlace = `WITH place AS MATERIALIZED (SELECT site_id, COALESCE(NULLIF($3, ''), addr) AS host FROM devices WHERE id = $1
	UNION ALL SELECT site_id, $3 FROM targets WHERE id = $2) `

// sameTry are the tries that count together: on the same device or target, sent to the same host, or on a device that is known to be there.
// It follows tryPlace. The devices at the host stand in an array, so that every part can be looked up in an index.
var sameTry = strings.NewReplacer("SITE", "(SELECT site_id FROM place)", "HOST", "(SELECT host FROM place)").Replace(
	`device_id = $1 OR target_id = $2 OR site_id = SITE AND host = HOST
	OR site_id = SITE AND host = (SELECT addr FROM devices WHERE id = $1)
	OR device_id = ANY (ARRAY(SELECT id FROM devices WHERE site_id = SITE AND addr = HOST AND via IS NULL))`)

// EndTry records how a try ended. A try that met a lock says for how long the device is left alone. One that opened the device settles
// older tries of the same sign-in whose end nobody has seen, because their job was cut off or no answer came: the device would not have
// refused those.
func (s SignIns) EndTry(ctx context.Context, try uuid.UUID, result signin.Result, wait time.Duration) error {
	var seconds *float64
	if result == signin.Shut {
		n := wait.Seconds()
		seconds = &n
	}
	_, err := s.on(ctx).ExecContext(ctx, `WITH ended AS (UPDATE tries SET result = $2, until = now() + make_interval(secs => $3::float8)
			WHERE id = $1 RETURNING *)
		UPDATE tries old SET result = 'no answer' FROM ended WHERE ended.result = $4 AND old.result IN ('pending', 'unseen')
		AND old.device_id IS NOT DISTINCT FROM ended.device_id AND old.target_id IS NOT DISTINCT FROM ended.target_id
		AND old.sign_in_id = ended.sign_in_id AND old.purpose = ended.purpose AND old.at < ended.at`, try, result, seconds, signin.Opened)
	return err
}

// FileTry records a try on a device that was made while the database could not be asked, as of when it was: it counts as others do. One
// that is on record already stays as it is, and one whose device or sign-in is no more is left out. wait is for how long the device says
// that it is locked.
func (s SignIns) FileTry(ctx context.Context, id uuid.UUID, t Try, result signin.Result, at time.Time, wait time.Duration) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		worker, err := fenced(ctx, tx)
		if err != nil {
			return err
		}
		var until *time.Time
		if result == signin.Shut {
			end := at.Add(wait)
			until = &end
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO tries (id, device_id, site_id, host, sign_in_id, purpose, worker, at, result, until)
			SELECT $1, d.id, d.site_id, COALESCE(NULLIF($2, ''), d.addr), k.id, $3, $4, LEAST($5, now()), $6, $7 FROM devices d, sign_ins k
			WHERE d.id = $8 AND k.id = $9 ON CONFLICT (id) DO NOTHING`, id, t.Host, t.Purpose, worker, at, result, until, t.Device, t.SignIn)
		return err
	})
}

// WrongTries returns how many tries on a device, or at its address, count against the guard's budget now.
func (s SignIns) WrongTries(ctx context.Context, device uuid.UUID) (n int, err error) {
	err = s.on(ctx).GetContext(ctx, &n,
		`SELECT count(*) FROM tries t JOIN devices d ON d.id = $1 WHERE result IN ('pending', 'refused', 'unseen')
		AND at > now() - $2 * interval '1 second' AND (t.device_id = d.id OR t.site_id = d.site_id AND t.host = d.addr)`, device,
		signin.Window.Seconds())
	return n, err
}
