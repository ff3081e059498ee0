package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/ground/program"
	"unlatch/core/ground/wiretext"
)

// Programs keeps the programs that are offered to machines elsewhere, and which of them is told to take which.
type Programs struct{ *database }

// An OfferedProgram is one that paired workers can be told to take.
type OfferedProgram struct {
	Version string    `db:"version" json:"version"`
	OS      string    `db:"os" json:"os"`
	Arch    string    `db:"arch" json:"arch"`
	Size    int64     `db:"size" json:"size" doc:"in bytes"`
	Offered time.Time `db:"offered_at" json:"offered_at"`
}

// A WorkerUpdate is what a paired worker is told to become, and how that goes.
type WorkerUpdate struct {
	Worker  uuid.UUID `db:"worker_id" json:"worker"`
	Version string    `db:"version" json:"version"`
	By      string    `db:"told_by" json:"by"`
	Told    time.Time `db:"told_at" json:"told_at"`
	State   string    `db:"state" json:"state" enum:"told,taken,done,failed" doc:"by the worker's own word"`
	Problem string    `db:"problem" json:"problem,omitempty" doc:"why it has not taken it, by its own word"`
	Changed time.Time `db:"changed_at" json:"changed_at"`
}

// States of updates.
const (
	UpdateTold   = "told"
	UpdateTaken  = "taken" // it has the program, and starts it
	UpdateDone   = "done"
	UpdateFailed = "failed"
)

// programPart is how many bytes of a program are kept and sent together.
const programPart = 512 << 10

// keptVersions is how many versions of the program are kept for each platform.
const keptVersions = 2

// OfferProgram keeps a signed program, so that paired workers can be told to take it. An older one of the same version and platform goes,
// as do all but the two that were offered last.
func (s *Store) OfferProgram(ctx context.Context, head []byte, from io.Reader) (m program.Manifest, err error) {
	acts := s.Acts()
	err = acts.Together(ctx, func(ctx context.Context) error {
		if m, err = s.Programs.offer(ctx, head, from); err != nil {
			return err
		}
		return acts.Write(ctx, act.Person{Name: "the machine"}, act.About{Name: "offer-program"},
			act.Line{Subject: m.Version, After: m.Platform()})
	})
	return m, err
}

func (s Programs) offer(ctx context.Context, head []byte, from io.Reader) (m program.Manifest, err error) {
	if m, err = program.Says(head); err != nil {
		return m, err
	}
	return m, s.tx(ctx, func(tx *sqlx.Tx) error {
		id := newID()
		if _, err := tx.ExecContext(ctx, "DELETE FROM worker_programs WHERE version = $1 AND os = $2 AND arch = $3", m.Version, m.OS,
			m.Arch); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO worker_programs (id, version, os, arch, size, head) VALUES ($1, $2, $3, $4, $5, $6)", id,
			m.Version, m.OS, m.Arch, m.Size, head); err != nil {
			return err
		}
		parts := &partWriter{put: func(number int, data []byte) error {
			_, err := tx.ExecContext(ctx, "INSERT INTO worker_program_parts (program_id, number, data) VALUES ($1, $2, $3)", id, number, data)
			return err
		}}
		if err := m.Copy(parts, from); err != nil {
			return err
		}
		if err := parts.flush(); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM worker_programs WHERE id IN (SELECT id FROM worker_programs WHERE os = $1 AND arch = $2
			ORDER BY offered_at DESC, id DESC OFFSET $3)`, m.OS, m.Arch, keptVersions)
		return err
	})
}

// A partWriter cuts what is written into parts.
type partWriter struct {
	put    func(number int, data []byte) error
	number int
	held   []byte
}

func (w *partWriter) Write(p []byte) (n int, err error) {
	w.held = append(w.held, p...)
	for len(w.held) >= programPart {
		if err := w.put(w.number, w.held[:programPart]); err != nil {
			return 0, err
		}
		w.held, w.number = append([]byte(nil), w.held[programPart:]...), w.number+1
	}
	return len(p), nil
}

func (w *partWriter) flush() error {
	if len(w.held) == 0 {
		return nil
	}
	return w.put(w.number, w.held)
}

// List returns the programs that are offered, the newest first.
func (s Programs) List(ctx context.Context) ([]OfferedProgram, error) {
	out := []OfferedProgram{}
	return out, s.on(ctx).SelectContext(ctx, &out,
		"SELECT version, os, arch, size, offered_at FROM worker_programs ORDER BY offered_at DESC, os, arch")
}

// Updates returns what paired workers are told to become.
func (s Programs) Updates(ctx context.Context) (map[uuid.UUID]WorkerUpdate, error) {
	var rows []WorkerUpdate
	err := s.on(ctx).SelectContext(ctx, &rows,
		"SELECT worker_id, version, told_by, told_at, state, problem, changed_at FROM worker_updates")
	out := map[uuid.UUID]WorkerUpdate{}
	for _, r := range rows {
		r.Problem = wiretext.Line(r.Problem, 500) // the worker's own word
		out[r.Worker] = r
	}
	return out, err
}

// tell has a paired worker take a program; it may have been told before.
func (s Programs) tell(ctx context.Context, by act.Person, x act.UpdateWorker) error {
	_, err := s.on(ctx).ExecContext(ctx, `INSERT INTO worker_updates (worker_id, version, told_by) VALUES ($1, $2, $3)
		ON CONFLICT (worker_id) DO UPDATE SET version = excluded.version, told_by = excluded.told_by, told_at = now(), state = 'told',
		problem = '', changed_at = now()`, x.ID, x.To, by.Name)
	return err
}

// FarUpdates is what a paired worker sees of its updates.
type FarUpdates struct {
	conn interface {
		QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
		Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	}
	close func()
}

// FarUpdates returns what the paired worker of this store sees of its updates.
func (s *Store) FarUpdates() *FarUpdates { return &FarUpdates{s.Pool, func() {}} }

// DialUpdates returns what a paired worker sees of its updates by a connection of its own, which works whatever version the other tables of
// its server are of.
func DialUpdates(ctx context.Context, dial pgconn.DialFunc) (*FarUpdates, error) {
	c, err := pgx.ParseConfig("postgres://worker@link/?sslmode=disable")
	if err != nil {
		return nil, err
	}
	c.DialFunc = dial
	c.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"192.0.2.1"}, nil } // the link's business
	conn, err := pgx.ConnectConfig(ctx, c)
	if err != nil {
		return nil, err
	}
	return &FarUpdates{conn, func() { conn.Close(context.Background()) }}, nil
}

// Close ends the connection, where it is one of its own.
func (u *FarUpdates) Close() { u.close() }

// Told returns the version that this worker is told to take and has not taken yet; "" for none.
func (u *FarUpdates) Told(ctx context.Context) (version string, err error) {
	err = u.conn.QueryRow(ctx, "SELECT version FROM worker_updates WHERE state = 'told'").Scan(&version)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "42P01" { // a server of a version that tells nobody to update has no such table
		return "", nil
	}
	return version, err
}

// Head returns the head of a program that is offered for a platform, as it was signed; nil where none is.
func (u *FarUpdates) Head(ctx context.Context, version, system, arch string) (id uuid.UUID, head []byte, err error) {
	err = u.conn.QueryRow(ctx, `SELECT id, head FROM worker_programs
		WHERE version = $1 AND os = $2 AND arch = $3 AND octet_length(head) <= $4`, version, system, arch, program.MaxHead).Scan(&id, &head)
	if errors.Is(err, pgx.ErrNoRows) {
		return id, nil, nil
	}
	return id, head, err
}

// Read writes a program behind the bytes of it that there are already.
func (u *FarUpdates) Read(ctx context.Context, id uuid.UUID, to io.Writer, got int64) error {
	for number, skip := int(got/programPart), int(got%programPart); ; number, skip = number+1, 0 {
		var data []byte
		err := u.conn.QueryRow(ctx, "SELECT data FROM worker_program_parts WHERE program_id = $1 AND number = $2", id, number).Scan(&data)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		if len(data) < skip {
			return fmt.Errorf("a part of the program has %d bytes", len(data))
		}
		if _, err := to.Write(data[skip:]); err != nil {
			return err
		}
	}
}

// Say tells how the update to a version goes. Where this worker was told of another version since, nothing is said.
func (u *FarUpdates) Say(ctx context.Context, version, state, problem string) error {
	_, err := u.conn.Exec(ctx, "UPDATE worker_updates SET state = $2, problem = $3, changed_at = now() WHERE version = $1", version, state,
		wiretext.Line(problem, 500))
	return err
}
