package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/identity"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/core/work/onvifrecorder"
)

// Sight files a sighting: it finds or makes the device that it belongs to and records the evidence. A lock on the site makes
// it safe for several sweeps at once. A sighting that is one of a storm is a *discovery.StormError and is counted in place of being filed.
func (s Devices) Sight(ctx context.Context, site uuid.UUID, run *uuid.UUID, x sighting.Sighting) (uuid.UUID, error) {
	var id uuid.UUID
	var storm *discovery.StormError
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "SELECT 1 FROM sites WHERE id = $1 FOR NO KEY UPDATE", site); err != nil {
			return err
		}
		var err error
		id, err = s.recognise(ctx, tx, site, run, x)
		if err == nil && run == nil {
			err = s.toldEnough(ctx, tx, id, x.Addr.String())
		}
		if errors.As(err, &storm) {
			return s.countStorm(ctx, tx, site, x.Addr.String()) // the count is kept, the sighting is not
		}
		if err != nil {
			return err
		}
		return s.record(ctx, tx, run, id, Finding{Subject: subjectOf(x), Body: evidence.Heard(x)}, x.At)
	})
	if err == nil && storm != nil {
		err = storm
	}
	return id, err
}

// subjectOf returns the subject under which a sighting is recorded.
func subjectOf(x sighting.Sighting) string {
	if x.Method == sighting.PortSweep && len(x.Ports) == 1 {
		return fmt.Sprintf("port %d", x.Ports[0].Number)
	}
	return string(x.Method)
}

// movesTo reports whether a sighting that belongs to a device has it at another address.
func movesTo(d identity.Device, x sighting.Sighting) bool {
	return d.Via == nil && x.Via == nil && d.Addr != x.Addr
}

// Moves reports which device a sighting would move to another address, if any: the sighting names a mark of a device that was last heard
// elsewhere.
func (s Devices) Moves(ctx context.Context, site uuid.UUID, x sighting.Sighting) (device uuid.UUID, ok bool, err error) {
	if x.Via != nil || x.Endpoint == "" && x.Serial == "" && x.MAC == "" && x.Certificate == "" {
		return uuid.Nil, false, nil
	}
	known, ids, err := s.candidates(ctx, s.on(ctx), site, x)
	if i := identity.Find(known, x); err == nil && i >= 0 && movesTo(known[i], x) {
		return ids[i], true, nil
	}
	return uuid.Nil, false, err
}

// candidates reads the devices of a site that a sighting might belong to, oldest first.
func (s Devices) candidates(ctx context.Context, q querier, site uuid.UUID,
	x sighting.Sighting) (known []identity.Device, ids []uuid.UUID, err error) {
	var rows []candidate
	if err := q.SelectContext(ctx, &rows, "SELECT "+candidateColumns+` FROM devices
		WHERE site_id = $1 AND (addr = $2 OR endpoint = NULLIF($3, '') OR serial = NULLIF($4, '') OR mac = NULLIF($5, '') OR via = $6
			OR certificate = NULLIF($7, '')) ORDER BY created_at, id`,
		site, x.Addr.String(), x.Endpoint, x.Serial, x.MAC, x.Via, x.Certificate); err != nil {
		return nil, nil, err
	}
	return asIdentities(rows)
}

// A candidate is a device that a sighting may belong to.
type candidate struct {
	Device
	HeardAt time.Time `db:"heard_at"`
}

const candidateColumns = deviceColumns + `, COALESCE((SELECT max(at) FROM evidence e WHERE e.device_id = devices.id AND e.kind = 'heard'),
	created_at) AS heard_at`

// asIdentities returns candidates as core knows them, with their IDs.
func asIdentities(rows []candidate) (known []identity.Device, ids []uuid.UUID, err error) {
	for _, r := range rows {
		addr, err := netip.ParseAddr(r.Addr)
		if err != nil {
			return nil, nil, err
		}
		known = append(known, identity.Device{Addr: addr, Endpoint: r.Endpoint.String, Serial: r.Serial.String, MAC: r.MAC.String,
			Certificate: r.Certificate.String, HeardAt: r.HeardAt, Via: r.Via, Channel: r.Channel})
		ids = append(ids, r.ID)
	}
	return known, ids, nil
}

// recognise finds the device that a sighting belongs to, as identity.Find decides, or makes it. What is one of a storm is a
// *discovery.StormError.
func (s Devices) recognise(ctx context.Context, tx *sqlx.Tx, site uuid.UUID, run *uuid.UUID, x sighting.Sighting) (uuid.UUID, error) {
	known, ids, err := s.candidates(ctx, tx, site, x)
	if err != nil {
		return uuid.Nil, err
	}
	i := identity.Find(known, x)
	if i < 0 {
		if err := s.storming(ctx, tx, site, run, x); err != nil {
			return uuid.Nil, err
		}
		id := newID()
		_, err := tx.ExecContext(ctx, newDeviceQuery, id, site, x.Endpoint, x.Addr.String(), x.Serial, x.MAC, x.Via, x.Channel, x.Certificate)
		return id, err
	}
	_, err = tx.ExecContext(ctx, knownAgainQuery, ids[i], x.Addr.String(), x.Endpoint, x.Serial, x.MAC, x.Certificate)
	return ids[i], err
}

// newDeviceQuery makes the device $1 of the site $2 by a sighting.
const newDeviceQuery = `INSERT INTO devices (id, site_id, endpoint, addr, serial, mac, via, channel, certificate)
	VALUES ($1, $2, NULLIF($3, ''), $4, NULLIF($5, ''), NULLIF($6, ''), $7, $8, NULLIF($9, ''))`

// knownAgainQuery adds what a sighting says to the device $1 that it belongs to.
const knownAgainQuery = `UPDATE devices SET addr = $2, endpoint = COALESCE(endpoint, NULLIF($3, '')),
	serial = COALESCE(serial, NULLIF($4, '')), mac = COALESCE(mac, NULLIF($5, '')), certificate = COALESCE(NULLIF($6, ''), certificate)
	WHERE id = $1`

// maxBody bounds a record. What devices tell is bounded where it is parsed; this keeps what was missed there out of every list.
const maxBody = 512 << 10

// record appends a finding with its picture, that was made at a given time; the zero time means now. It is one statement, since a worker
// elsewhere waits for each. The device is locked before anything that refers to it is added: the other way round two transactions that
// write to one device would each hold the weaker lock that a reference takes, and wait for the other's.
func (s Devices) record(ctx context.Context, q querier, run *uuid.UUID, device uuid.UUID, f Finding, at time.Time) error {
	args, err := s.recordArgs(ctx, run, device, f, at)
	if err != nil {
		return err
	}
	var out recorded
	if err := q.GetContext(ctx, &out, recordQuery, args...); err != nil {
		return err
	}
	return out.err()
}

// recorded is the answer of recordQuery.
type recorded struct {
	Held bool `db:"held"` // the lease of whoever records
	Kept int  `db:"kept"`
}

func (r recorded) err() error {
	switch {
	case !r.Held:
		return ErrFenced
	case r.Kept == 0:
		return ErrNotFound
	}
	return nil
}

// The clock of a worker elsewhere is not asked: it may be hours off.
var recordQuery = `WITH lease AS (SELECT 1 FROM workers WHERE name = $1 AND epoch = $2 FOR SHARE),
	device AS (SELECT id FROM devices WHERE id = $3 AND ($4 OR EXISTS (SELECT 1 FROM lease)) FOR KEY SHARE), ` + deviceMarked + `,
	kept AS (INSERT INTO evidence (id, device_id, run_id, at, kind, subject, body, exchange)
		SELECT $5, $3, $6, CASE WHEN $15 THEN clock_timestamp() ELSE $7 END, $8, $9, $10, $11 FROM changed RETURNING id),
	picture AS (INSERT INTO stills (id, device_id, jpeg, sketch) SELECT $12, $3, $13, $16::text::bit varying FROM kept
		WHERE $13::bytea IS NOT NULL),
	told AS (` + tellOf("device", "$3", "changed", "$14") + `)
	SELECT $4 OR EXISTS (SELECT 1 FROM lease) AS held, (SELECT count(*) FROM kept, told) AS kept`

// recordArgs returns the arguments of recordQuery.
func (s Devices) recordArgs(ctx context.Context, run *uuid.UUID, device uuid.UUID, f Finding, at time.Time) ([]any, error) {
	raw, err := evidence.Encode(f.Body)
	if err != nil {
		return nil, err
	}
	if len(raw) > maxBody {
		return nil, fmt.Errorf("a record of the kind %q has %d kB, which nothing that was bounded has", evidence.KindOf(f.Body), len(raw)>>10)
	}
	switch {
	case !f.At.IsZero():
		at = f.At
	case at.IsZero():
		at = time.Now().UTC()
	}
	l, leased := ctx.Value(leaseKey{}).(Lease)
	return []any{l.Worker, l.Epoch, device, !leased, newID(), run, at, string(evidence.KindOf(f.Body)), f.Subject, string(withoutNUL(raw)),
		strings.ReplaceAll(f.Exchange, "\x00", "·"), f.StillID, f.Still, channel, s.far != nil && f.At.IsZero(),
		string(f.sketch())}, nil
}

// withoutNUL replaces the NUL characters of a JSON document, which PostgreSQL's jsonb cannot hold. They are taken out where text comes in;
// this keeps one that was missed from failing a whole run.
func withoutNUL(raw []byte) []byte {
	if !bytes.Contains(raw, []byte(`\u0000`)) {
		return raw
	}
	var out []byte
	for i := 0; i < len(raw); i++ {
		switch {
		case bytes.HasPrefix(raw[i:], []byte(`\u0000`)):
			out = append(out, "·"...)
			i += len(`\u0000`) - 1
		case raw[i] == '\\' && i+1 < len(raw): // an escape of two letters at least: what follows the backslash begins none
			out = append(out, raw[i], raw[i+1])
			i++
		default:
			out = append(out, raw[i])
		}
	}
	return out
}

// A Finding is evidence to record about a device.
type Finding struct {
	Subject  string
	Body     evidence.Body
	Exchange string // redacted
	Still    []byte // a JPEG to keep, under StillID
	StillID  uuid.UUID
	// At is when it was found, by the clock of the database; the zero time means now.
	At time.Time
}

// Record appends a finding.
func (s Devices) Record(ctx context.Context, d *Device, run *uuid.UUID, f Finding) error {
	if !takesCameras(f.Body) {
		return s.record(ctx, s.on(ctx), run, d.ID, f, time.Time{})
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.record(ctx, tx, run, d.ID, f, time.Time{}); err != nil {
			return err
		}
		return asTargets(ctx, tx, []uuid.UUID{d.ID})
	})
}

// RecordAll appends findings of a device, all of them or none. It is one way to the database and back, in a transaction of its own, which
// waits for no disk under Lazily.
func (s Devices) RecordAll(ctx context.Context, device uuid.UUID, run *uuid.UUID, fs ...Finding) error {
	var b pgx.Batch
	if err := s.queueFindings(ctx, &b, run, device, fs); err != nil {
		return err
	}
	return s.sendSingle(ctx, &b)
}

// RecordAndGet is RecordAll, and returns the device with what was found.
func (s Devices) RecordAndGet(ctx context.Context, device uuid.UUID, run *uuid.UUID, fs ...Finding) (*Device, error) {
	var b pgx.Batch
	if err := s.queueFindings(ctx, &b, run, device, fs); err != nil {
		return nil, err
	}
	var g getting
	b.Queue(g.query(), device).Query(func(rows pgx.Rows) (err error) {
		g.row, err = pgx.CollectOneRow(rows, pgx.RowToStructByName[deviceRow])
		return err
	})
	if err := s.sendSingle(ctx, &b); err != nil {
		return nil, err
	}
	if err := g.read(g.row.Answers); err != nil {
		return nil, err
	}
	return g.device(ctx, s)
}

// queueRecord is record for what goes out together with other statements.
func (s Devices) queueRecord(ctx context.Context, b *pgx.Batch, run *uuid.UUID, device uuid.UUID, f Finding, at time.Time) error {
	args, err := s.recordArgs(ctx, run, device, f, at)
	if err != nil {
		return err
	}
	b.Queue(recordQuery, args...).QueryRow(func(row pgx.Row) error {
		var out recorded
		if err := row.Scan(&out.Held, &out.Kept); err != nil {
			return err
		}
		return out.err()
	})
	return nil
}

// queueFindings adds the statements that append findings to what goes out together.
func (s Devices) queueFindings(ctx context.Context, b *pgx.Batch, run *uuid.UUID, device uuid.UUID, fs []Finding) error {
	for _, f := range fs {
		if err := s.queueRecord(ctx, b, run, device, f, time.Time{}); err != nil {
			return err
		}
		if takesCameras(f.Body) {
			l, leased := ctx.Value(leaseKey{}).(Lease)
			b.Queue(asTargetsQuery+" AND ($3 OR EXISTS (SELECT 1 FROM workers WHERE name = $4 AND epoch = $5))"+onceOnly, []uuid.UUID{device},
				onvifrecorder.Kind, !leased, l.Worker, l.Epoch)
		}
	}
	return nil
}

// sendSingle sends statements about a single thing, in one transaction.
func (s *database) sendSingle(ctx context.Context, b *pgx.Batch) error {
	if lazy(ctx) {
		b.Queue("SELECT " + lazily)
	}
	conn, err := s.singles.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	return notFoundIfNone(conn.SendBatch(ctx, b).Close())
}

// RecordedIn reports whether the newest record of a kind and subject was made in a run.
func (s Devices) RecordedIn(ctx context.Context, device uuid.UUID, kind evidence.Kind, subject string, run uuid.UUID) (in bool, err error) {
	err = s.on(ctx).GetContext(ctx, &in,
		`SELECT COALESCE((SELECT COALESCE(run_id = $4, false) FROM evidence WHERE device_id = $1 AND kind = $2 AND subject = $3
		ORDER BY at DESC, id DESC LIMIT 1), false)`, device, kind, subject, run)
	return in, err
}

// Left records that a device has said goodbye, and reports whether the site knows it.
func (s Devices) Left(ctx context.Context, site uuid.UUID, endpoint string) (known bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		var d struct {
			ID   uuid.UUID `db:"id"`
			Addr string    `db:"addr"`
		}
		err := tx.GetContext(ctx, &d, "SELECT id, addr FROM devices WHERE site_id = $1 AND endpoint = $2", site, endpoint)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		known = true
		if err := s.toldEnough(ctx, tx, d.ID, d.Addr); errors.As(err, new(*discovery.StormError)) {
			return s.countStorm(ctx, tx, site, d.Addr)
		} else if err != nil {
			return err
		}
		return s.record(ctx, tx, nil, d.ID, Finding{Body: evidence.Left{}}, time.Time{})
	})
	return known, err
}

// Identify adds the marks that a device has told of itself once it was signed in to. A mark that is known stays: another one would be
// a contradiction, and those are shown, not merged.
func (s Devices) Identify(ctx context.Context, id uuid.UUID, serial, mac string) error {
	_, err := s.on(ctx).ExecContext(ctx, "UPDATE devices SET serial = COALESCE(serial, NULLIF($2, '')), mac = COALESCE(mac, NULLIF($3, '')) "+
		"WHERE id = $1", id, serial, mac)
	return err
}
