// Package store keeps everything in PostgreSQL: evidence, intent, sign-ins, people. Nothing else knows SQL.
//
// How a device stands is not stored: it is derived from its evidence by core/decide/latch.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/exaring/otelpgx"
	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned for an ID that names nothing.
var ErrNotFound = errors.New("not found")

// A Store is one database, a small type a concern. It is safe for concurrent use.
type Store struct {
	locks *locker
	Pool  *pgxpool.Pool // for River's workers, which share the connections

	Sites     Sites
	Devices   Devices
	Consents  Consents
	SignIns   SignIns
	People    People
	Books     Books
	Shelf     Shelf
	SitePlans SitePlans
	Baselines Baselines
	Watched   Watched
	Drifts    Drifts
	Tellings  Tellings
	Handovers Handovers
	Plans     Plans
	Targets   Targets
	Runs      Runs
	Record    Record
	Workers   Workers
	Upkeep    Upkeep
	Relays    Relays
	Paired    Paired
	Programs  Programs

	*database
}

// A database is what the concerns share.
type database struct {
	db      *sqlx.DB
	pool    *pgxpool.Pool // of db, for what goes out together
	single  *sqlx.DB      // of planned
	singles *pgxpool.Pool // of single
	cipher  *Cipher       // nil for a worker elsewhere
	keys    dataKeys      // that this process has read
	far     *Far          // set for a worker elsewhere
	login   string        // the role that the server itself has
	log     *slog.Logger
	// unreadable holds the IDs of the records that were logged as such.
	unreadable sync.Map
	// partitions holds the names of the tables of measures that are known to be there.
	partitions sync.Map
}

// Options of a store.
type Options struct {
	URL     string // of the database, as postgres://user@127.0.0.1:5432/unlatch
	KeyFile string // encrypts the sign-ins; made with the first start on a database, and never again
	Log     *slog.Logger
	// ForgetSignIns empties the keyring where its key is lost, and makes a new key.
	ForgetSignIns bool
	// BeforeUpdate is called before the tables of an older version are changed; its error leaves them as they are. nil does nothing.
	BeforeUpdate func(ctx context.Context, u Update) error
	// AsIs takes the database as it is, and has no key: its tables are not brought up to date, and no sign-in can be read.
	AsIs bool
	// Trace is told of each statement before it is sent, with the connection that it goes over; nil for nobody. Tests count statements by
	// it, and cut connections.
	Trace func(ctx context.Context, conn *pgx.Conn, sql string)
	// Dial opens connections to the database in place of the address of URL: that of a worker elsewhere leads over its link. Such a worker
	// brings no tables up to date: it works with a database of its own version, and a *VersionError says that it is another.
	Dial pgconn.DialFunc
	// Far says which worker elsewhere this is. It has no key file: KeyFile is not looked at.
	Far *Far
	// Spans has each statement be a span of the trace that its context carries, without its values.
	Spans bool
}

// tracer tells a function of each statement.
type tracer func(ctx context.Context, conn *pgx.Conn, sql string)

// TraceQueryStart implements pgx.QueryTracer.
func (t tracer) TraceQueryStart(ctx context.Context, conn *pgx.Conn, data pgx.TraceQueryStartData) context.Context {
	t(ctx, conn, data.SQL)
	return ctx
}

// TraceQueryEnd implements pgx.QueryTracer.
func (t tracer) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

// TraceBatchStart implements pgx.BatchTracer: statements that go out together are told of as one.
func (t tracer) TraceBatchStart(ctx context.Context, conn *pgx.Conn, data pgx.TraceBatchStartData) context.Context {
	var all strings.Builder
	for _, q := range data.Batch.QueuedQueries {
		all.WriteString(q.SQL + ";\n")
	}
	t(ctx, conn, all.String())
	return ctx
}

// TraceBatchQuery implements pgx.BatchTracer.
func (t tracer) TraceBatchQuery(context.Context, *pgx.Conn, pgx.TraceBatchQueryData) {}

// TraceBatchEnd implements pgx.BatchTracer.
func (t tracer) TraceBatchEnd(context.Context, *pgx.Conn, pgx.TraceBatchEndData) {}

// Open connects to a database and brings its tables up to date.
func Open(ctx context.Context, url, keyFile string, log *slog.Logger) (*Store, error) {
	return OpenWith(ctx, Options{URL: url, KeyFile: keyFile, Log: log})
}

// OpenWith is Open with more options. It returns a *KeyError where the key that the sign-ins are encrypted with is not there, and a
// *NewerError where the database was made by a newer version of the program.
func OpenWith(ctx context.Context, o Options) (*Store, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	cfg, err := pgxpool.ParseConfig(o.URL)
	if err != nil {
		return nil,
			// its own error may hold the password
			errors.New("the database address cannot be read; write it like postgres://user@127.0.0.1:5432/unlatch")
	}
	cfg.MaxConns = 40
	if o.Dial != nil {
		cfg.ConnConfig.DialFunc = o.Dial
		cfg.ConnConfig.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"link"}, nil }
		cfg.MaxConns = farConns
		cfg.MaxConnIdleTime = farIdle
	}
	cfg.AfterConnect = teachUUIDs
	switch {
	case o.Trace != nil:
		cfg.ConnConfig.Tracer = tracer(o.Trace)
	case o.Spans:
		cfg.ConnConfig.Tracer = otelpgx.NewTracer()
	}
	// A connection that outlived a restart of the database is found out before it is used.
	// The line of a worker elsewhere is watched by its link, and each question over it takes long.
	idle := 50 * time.Millisecond
	if o.Dial != nil {
		idle = 30 * time.Second
	}
	cfg.ShouldPing = func(_ context.Context, p pgxpool.ShouldPingParams) bool { return p.IdleDuration > idle }
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	single, err := singlePool(ctx, cfg)
	if err != nil {
		pool.Close()
		return nil, err
	}
	db := &database{far: o.Far, login: cfg.ConnConfig.User, log: o.Log, pool: pool, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"),
		singles: single, single: sqlx.NewDb(stdlib.OpenDBFromPool(single), "pgx")}
	s := &Store{Pool: pool, database: db, locks: newLocker(cfg.ConnConfig.Copy()), Sites: Sites{db}, Devices: Devices{db},
		SitePlans: SitePlans{db}, Baselines: Baselines{db}, Watched: Watched{db}, Drifts: Drifts{db}, Tellings: Tellings{db},
		Handovers: Handovers{db},
		Consents:  Consents{db}, SignIns: SignIns{db},
		People: People{db}, Books: Books{db}, Shelf: Shelf{db}, Plans: Plans{db}, Targets: Targets{db}, Runs: Runs{db},
		Record: Record{db}, Workers: Workers{db}, Upkeep: Upkeep{db}, Relays: Relays{db}, Paired: Paired{db}, Programs: Programs{db}}
	if o.AsIs {
		return s, nil
	}
	if o.Far != nil {
		err = s.sameVersion(ctx)
	} else {
		err = s.takeOver(ctx, o)
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// takeOver brings a database up to date: its tables, its key, and what the key encrypts.
func (s *Store) takeOver(ctx context.Context, o Options) error {
	if err := s.migrate(ctx, o.BeforeUpdate); err != nil {
		return err
	}
	if err := s.openKey(ctx, o); err != nil {
		return err
	}
	if rows, err := s.TurnOver(ctx); err != nil {
		s.log.Warn("not every sign-in could be encrypted with the key of its site; the next start tries again", "err", err)
	} else if rows > 0 {
		s.log.Info("sign-ins are encrypted with a key for each site", "rows", rows)
	}
	return nil
}

// keyCheck is a text that the database keeps encrypted, by which the right key is known.
const keyCheck = "unlatch key check"

// openKey reads the key file and makes sure that it is the one that this database's sign-ins are encrypted with. A key is made only for a
// database that has never had one.
func (s *Store) openKey(ctx context.Context, o Options) error {
	var check []byte
	err := s.on(ctx).GetContext(ctx, &check, "SELECT value FROM settings WHERE name = 'key_check'")
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	var signIns int
	if err := s.on(ctx).GetContext(ctx, &signIns, "SELECT count(*) FROM sign_ins"); err != nil {
		return err
	}
	s.cipher, err = OpenCipher(o.KeyFile)
	gone := errors.Is(err, fs.ErrNotExist)
	switch {
	case err != nil && !gone:
		return err
	case gone && (len(check) > 0 || signIns > 0) && !o.ForgetSignIns:
		return &KeyError{Path: o.KeyFile, Gone: true}
	case gone:
		if err := makeKey(o.KeyFile); err != nil {
			return fmt.Errorf("making the key file: %w", err)
		}
		if s.cipher, err = OpenCipher(o.KeyFile); err != nil {
			return err
		}
	}
	if len(check) > 0 {
		if text, err := s.cipher.Decrypt(check, keyCheck); err == nil && text == keyCheck {
			return nil
		}
		if !o.ForgetSignIns {
			return &KeyError{Path: o.KeyFile}
		}
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if o.ForgetSignIns && (len(check) > 0 || gone) {
			// What the lost key opened: sign-ins, relays with their passwords, and the passwords of paired workers, which get new ones.
			if _, err := tx.ExecContext(ctx, `DELETE FROM sign_ins; DELETE FROM relays; DELETE FROM data_keys;
				UPDATE paired_workers SET role = NULL, sealed = ''`); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx,
			"INSERT INTO settings (name, value) VALUES ('key_check', $1) ON CONFLICT (name) DO UPDATE SET value = "+
				"excluded.value", s.cipher.Encrypt(keyCheck, keyCheck))
		return err
	})
}

// A NewerError means that the database was made by a newer version of the program, which knows what its tables mean. Nothing was changed.
type NewerError struct{ Has, Knows int64 }

func (e *NewerError) Error() string {
	return fmt.Sprintf("the database was made by a newer version of Unlatch (its tables are at %d, this program knows %d): start the "+
		"newer one, or restore a backup from before", e.Has, e.Knows)
}

// A VersionError means that a worker elsewhere and its server's database are of different versions.
type VersionError struct{ Has, Knows int64 }

func (e *VersionError) Error() string {
	return fmt.Sprintf("the server's database is of another version than this worker (its tables are at %d, this program knows %d): install "+
		"the version of the server on this machine", e.Has, e.Knows)
}

// sameVersion reports a *VersionError where the tables are not those that this program knows.
func (s *Store) sameVersion(ctx context.Context) error {
	var has int64
	if err := s.on(ctx).GetContext(ctx, &has, "SELECT max(version_id) FROM goose_db_version WHERE is_applied"); err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	if knows := Schema(); has != knows {
		return &VersionError{Has: has, Knows: knows}
	}
	return nil
}

// farConns is how many connections a worker elsewhere has over its link, besides those of singlePool.
const farConns = 24

// farIdle is after how long without use it gives a connection back: fifty workers that have nothing to do are not to hold a database's
// connections.
const farIdle = 2 * time.Minute

// Close gives the connections back.
func (s *Store) Close() {
	s.locks.close()
	s.db.Close()
	s.single.Close()
	s.Pool.Close()
	s.singles.Close()
}

// singlePool opens connections on which a statement is planned once, whatever its arguments are. To plan what is asked of a single device
// takes the database several times as long as the answer.
func singlePool(ctx context.Context, of *pgxpool.Config) (*pgxpool.Pool, error) {
	cfg := of.Copy()
	cfg.MaxConns = 8
	cfg.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_generic_plan"
	return pgxpool.NewWithConfig(ctx, cfg)
}

// SQL returns the database, for River's queue: it adds jobs in the transaction of what they are for.
func (s *Store) SQL() *sql.DB { return s.db.DB }

// Acts returns what acts are decided by and what they leave behind.
func (s *Store) Acts() Acts { return Acts{s} }

// IsFar reports whether this is the store of a worker elsewhere, which sees what is of its sites and writes nothing that is of others.
func (s *Store) IsFar() bool { return s.far != nil }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

func newID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Away reports whether err means that the database is not there, did not answer in time or cannot write now, rather than that it refused
// something: what could not be kept may be kept later.
func Away(err error) bool {
	var connect *pgconn.ConnectError
	var pg *pgconn.PgError
	var op *net.OpError
	switch {
	case errors.As(err, &pg):
		switch pg.Code[:2] {
		// Operator intervention, connection exception, no resources (disk full), system error, rolled back in favour of another (a deadlock).
		case "57", "08", "53", "58", "40":
			return true
		}
		return false
	case errors.As(err, &connect), errors.As(err, &op), errors.Is(err, net.ErrClosed), pgconn.SafeToRetry(err), pgconn.Timeout(err):
		return true
	}
	return errors.Is(err, sql.ErrConnDone) || err != nil && (err.Error() == "conn closed" || err.Error() == "unexpected EOF")
}

// Full reports whether err means that the database has no room on its disk (PostgreSQL error 53100).
func Full(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == "53100" || pg.Code == "58030")
}

// Keep runs a write until the database takes it. While the database is away it waits and tries again, so that what a long
// job has found is not lost; it gives up only when ctx ends or the database refuses.
func (s *Store) Keep(ctx context.Context, what string, write func(context.Context) error) error {
	for wait := 100 * time.Millisecond; ; wait = min(wait*2, 3*time.Second) {
		err := write(ctx)
		if err == nil || !Away(err) {
			return err
		}
		if Full(err) {
			s.log.Warn("the disk of the database is full; keeping the result until there is room", "what", what)
		} else {
			s.log.Warn("the database is away; keeping the result until it is back", "what", what)
		}
		select {
		case <-ctx.Done():
			return errors.Join(err, ctx.Err())
		case <-time.After(wait):
		}
	}
}

// An Event tells that something of a site changed; readers ask for it again.
type Event struct {
	Site uuid.UUID `json:"site"`
	What string    `json:"what" enum:"device,run,site,target"`
	ID   uuid.UUID `json:"id"`
}

// SessionEnded is what an event says that is of no site: a session has ended.
const SessionEnded = "session"

// WorkerRevoked is what an event says that is of no site: a paired worker is let in no more.
const WorkerRevoked = "revoked"

// WorkerWanted is what an event says that is of no site: the server that a paired worker is connected to shall see whether it answers.
const WorkerWanted = "wanted"

const channel = "unlatch"

func (s *database) notify(ctx context.Context, q querier, e Event) error {
	raw, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = q.ExecContext(ctx, "SELECT pg_notify($1, $2)", channel, string(raw))
	return err
}

// Listen hands on every event until ctx ends. It reconnects by itself; back is called after each gap, since
// events may have been missed.
func (s *Store) Listen(ctx context.Context, on func(Event), back func()) {
	for first := true; ctx.Err() == nil; first = false {
		if !first {
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Second):
			}
		}
		if err := s.listenOnce(ctx, on, func() {
			if !first {
				back()
			}
		}); err != nil && ctx.Err() == nil {
			s.log.Warn("the database is away; events will follow when it is back", "err", err)
		}
	}
}

func (s *Store) listenOnce(ctx context.Context, on func(Event), ready func()) error {
	conn, err := pgx.ConnectConfig(ctx, s.Pool.Config().ConnConfig.Copy())
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return err
	}
	ready()
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var e Event
		if json.Unmarshal([]byte(n.Payload), &e) == nil {
			on(e)
		}
	}
}

// notFoundIfNone turns "no rows" into ErrNotFound.
func notFoundIfNone(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// takenIfDouble turns "there is one already" into ErrTaken.
func takenIfDouble(err error) error {
	if pg := new(pgconn.PgError); errors.As(err, &pg) && pg.Code == "23505" { // unique_violation
		return ErrTaken
	}
	return err
}

// touchedOne reports ErrNotFound where a statement touched no row.
func touchedOne(res sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}

// A uuidList reads a JSON list of IDs.
type uuidList []uuid.UUID

// Scan implements sql.Scanner.
func (l *uuidList) Scan(v any) error {
	switch v := v.(type) {
	case []byte:
		return json.Unmarshal(v, (*[]uuid.UUID)(l))
	case string:
		return json.Unmarshal([]byte(v), (*[]uuid.UUID)(l))
	}
	return fmt.Errorf("a list of IDs cannot be read from %T", v)
}
