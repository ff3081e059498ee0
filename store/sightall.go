package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/identity"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
)

// A Filed is what became of one sighting of several.
type Filed struct {
	Device uuid.UUID
	Err    error // a *discovery.StormError, or nil
}

// SightAll is Sight for what a sweep has heard, in order, in two ways to the database and back however much that is. It files nothing from
// the first sighting on that would move a device to another address: where it returns fewer than it was given, whoever heard the next one
// looks first whether the device still answers where it was. What this program itself serves, as the face of a relay, is left out: its
// device is the zero UUID.
func (s Devices) SightAll(ctx context.Context, site, run uuid.UUID, heard []sighting.Sighting) (filed []Filed, err error) {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Release()
	f := filing{Devices: s, site: site, run: run}
	defer func() {
		if err != nil {
			conn.Exec(ctx, "ROLLBACK")
		}
	}()
	var b pgx.Batch
	b.Queue("BEGIN")
	f.ask(ctx, &b, heard)
	if err := conn.SendBatch(ctx, &b).Close(); err != nil {
		return nil, err
	}
	if !f.held {
		return nil, ErrFenced
	}
	b = pgx.Batch{}
	for _, x := range heard {
		i := identity.Find(f.known, x)
		if i >= 0 && movesTo(f.known[i], x) {
			break
		}
		one, err := f.file(ctx, &b, x, i)
		if err != nil {
			return nil, err
		}
		filed = append(filed, one)
	}
	b.Queue("COMMIT")
	if err := conn.SendBatch(ctx, &b).Close(); err != nil {
		return nil, err
	}
	return filed, f.countStorms(ctx, filed, heard)
}

// A filing files sightings of one site. It knows what the database knows of the devices that they may belong to, and what it has added to
// that itself.
type filing struct {
	Devices
	held      bool // the lease of whoever files
	site, run uuid.UUID
	known     []identity.Device
	ids       []uuid.UUID // of known
	here      map[string]int
	lately    int                // how many devices are new
	faces     map[uuid.UUID]bool // relays that have one
}

// ask adds the questions whose answers decide where sightings belong. A lock on the site makes it safe for several sweeps at once.
func (f *filing) ask(ctx context.Context, b *pgx.Batch, heard []sighting.Sighting) {
	f.here, f.faces = map[string]int{}, map[uuid.UUID]bool{}
	var addrs, endpoints, serials, macs, certificates []string
	var vias, faces []uuid.UUID
	for _, x := range heard {
		addrs, endpoints, serials = append(addrs, x.Addr.String()), append(endpoints, x.Endpoint), append(serials, x.Serial)
		macs, certificates = append(macs, x.MAC), append(certificates, x.Certificate)
		if x.Via != nil {
			vias = append(vias, *x.Via)
		}
		if face, ok := faceOf(x.Endpoint); ok {
			faces = append(faces, face)
		}
	}
	askLease(ctx, b, &f.held)
	b.Queue("SELECT 1 FROM sites WHERE id = $1 FOR NO KEY UPDATE", f.site)
	b.Queue("SELECT "+candidateColumns+` FROM devices WHERE site_id = $1 AND (addr = ANY($2) OR endpoint = ANY($3) AND endpoint <> ''
		OR serial = ANY($4) AND serial <> '' OR mac = ANY($5) AND mac <> '' OR via = ANY($6) OR certificate = ANY($7) AND certificate <> '')
		ORDER BY created_at, id`, f.site, addrs, endpoints, serials, macs, vias, certificates).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[candidate])
		if err != nil {
			return err
		}
		f.known, f.ids, err = asIdentities(list)
		return err
	})
	b.Queue("SELECT addr, count(*) FROM devices WHERE site_id = $1 AND addr = ANY($2) AND via IS NULL GROUP BY addr", f.site, addrs).
		Query(func(rows pgx.Rows) error {
			var addr string
			var n int
			_, err := pgx.ForEachRow(rows, []any{&addr, &n}, func() error { f.here[addr] = n; return nil })
			return err
		})
	b.Queue("SELECT count(*) FROM (SELECT 1 FROM devices WHERE site_id = $1 AND created_at > now() - interval '1 minute' LIMIT $2) d", f.site,
		discovery.MostNew(true)).QueryRow(scan(&f.lately))
	b.Queue("SELECT id FROM relays WHERE face_port > 0 AND id = ANY($1)", faces).Query(func(rows pgx.Rows) error {
		var face uuid.UUID
		_, err := pgx.ForEachRow(rows, []any{&face}, func() error { f.faces[face] = true; return nil })
		return err
	})
}

// file adds the statements that file one sighting, which belongs to known[i]; i is below 0 for a device that is new.
func (f *filing) file(ctx context.Context, b *pgx.Batch, x sighting.Sighting, i int) (Filed, error) {
	if face, ok := faceOf(x.Endpoint); ok && f.faces[face] {
		return Filed{}, nil
	}
	if i >= 0 {
		b.Queue(knownAgainQuery, f.ids[i], x.Addr.String(), x.Endpoint, x.Serial, x.MAC, x.Certificate)
		f.known[i] = marked(f.known[i], x)
	} else {
		if x.Via == nil {
			if err := discovery.Storming(x.Addr, f.here[x.Addr.String()], f.lately, true); err != nil {
				return Filed{Err: err}, nil
			}
			f.here[x.Addr.String()]++
		}
		f.lately++
		i = len(f.known)
		f.known, f.ids = append(f.known, marked(identity.Device{Via: x.Via, Channel: x.Channel}, x)), append(f.ids, newID())
		b.Queue(newDeviceQuery, f.ids[i], f.site, x.Endpoint, x.Addr.String(), x.Serial, x.MAC, x.Via, x.Channel, x.Certificate)
	}
	return Filed{Device: f.ids[i]}, f.queueRecord(ctx, b, &f.run, f.ids[i], Finding{Subject: subjectOf(x), Body: evidence.Heard(x)}, x.At)
}

// marked returns a device with the marks of a sighting, as knownAgainQuery keeps them.
func marked(d identity.Device, x sighting.Sighting) identity.Device {
	d.Addr, d.Endpoint, d.Serial, d.MAC = x.Addr, cmp.Or(d.Endpoint, x.Endpoint), cmp.Or(d.Serial, x.Serial), cmp.Or(d.MAC, x.MAC)
	d.Certificate = cmp.Or(x.Certificate, d.Certificate)
	if x.At.After(d.HeardAt) {
		d.HeardAt = x.At
	}
	return d
}

// countStorms counts what was not filed. It is rare, and each is counted by itself.
func (f *filing) countStorms(ctx context.Context, filed []Filed, heard []sighting.Sighting) error {
	for i := range filed {
		if errors.As(filed[i].Err, new(*discovery.StormError)) {
			if err := f.tx(ctx, func(tx *sqlx.Tx) error { return f.countStorm(ctx, tx, f.site, heard[i].Addr.String()) }); err != nil {
				return fmt.Errorf("counting what was not filed: %w", err)
			}
		}
	}
	return nil
}
