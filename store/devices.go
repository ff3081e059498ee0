package store

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/identity"
	"unlatch/core/latch"
	"unlatch/core/signin"
	"unlatch/core/tuning"
)

// Devices are what was heard at the sites, with the evidence of each.
type Devices struct{ *database }

// A Device is a device's identity with its evidence: the latest of each kind and subject.
type Device struct {
	ID       uuid.UUID      `db:"id"`
	Site     uuid.UUID      `db:"site_id"`
	Endpoint sql.NullString `db:"endpoint"`
	Addr     string         `db:"addr"`
	Serial   sql.NullString `db:"serial"`
	MAC      sql.NullString `db:"mac"`
	Name     sql.NullString `db:"name"` // as a person gave it
	Created  time.Time      `db:"created_at"`
	Via      *uuid.UUID     `db:"via"` // the recorder that it is reached through, as this channel
	Channel  int            `db:"channel"`
	// Certificate is the one that it last showed on a TLS port, as SHA-256.
	Certificate sql.NullString `db:"certificate"`

	Status latch.Status `db:"-"`
}

// Title is the name to show: the one given, else what the device calls itself, else its address.
func (d *Device) Title() string {
	for _, n := range []string{d.Name.String, d.Status.Device.Name} {
		if n != "" {
			return n
		}
	}
	if d.Status.SignedIn != nil && d.Status.SignedIn.Info.Model != "" {
		return d.Status.SignedIn.Info.Manufacturer + " " + d.Status.SignedIn.Info.Model
	}
	return d.Addr
}

const deviceColumns = "id, site_id, endpoint, addr, serial, mac, name, created_at, via, channel, certificate"

// Sight files a sighting: it finds or makes the device that it belongs to and records the evidence. A lock on the site makes
// it safe for several sweeps at once. A sighting that is one of a storm is a *StormError and is counted in place of being filed.
func (s Devices) Sight(ctx context.Context, site uuid.UUID, run *uuid.UUID, x discovery.Sighting) (uuid.UUID, error) {
	var id uuid.UUID
	var storm *StormError
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, "SELECT 1 FROM sites WHERE id = $1 FOR UPDATE", site); err != nil {
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
		subject := string(x.Method)
		if x.Method == discovery.PortSweep && len(x.Ports) == 1 {
			subject = fmt.Sprintf("port %d", x.Ports[0].Number)
		}
		return s.record(ctx, tx, run, id, subject, evidence.Heard(x), "", x.At)
	})
	if err == nil && storm != nil {
		err = storm
	}
	return id, err
}

// Moves reports which device a sighting would move to another address, if any: the sighting names a mark of a device that was last heard
// elsewhere.
func (s Devices) Moves(ctx context.Context, site uuid.UUID, x discovery.Sighting) (device uuid.UUID, ok bool, err error) {
	if x.Via != nil || x.Endpoint == "" && x.Serial == "" && x.MAC == "" && x.Certificate == "" {
		return uuid.Nil, false, nil
	}
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		known, ids, err := s.alike(ctx, tx, site, x)
		if err != nil {
			return err
		}
		if i := identity.Find(known, x); i >= 0 && known[i].Via == nil && known[i].Addr != x.Addr {
			device, ok = ids[i], true
		}
		return nil
	})
	return device, ok, err
}

// alike reads the devices of a site that a sighting might belong to, oldest first.
func (s Devices) alike(ctx context.Context, tx *sqlx.Tx, site uuid.UUID,
	x discovery.Sighting) (known []identity.Device, ids []uuid.UUID, err error) {
	var rows []struct {
		Device
		HeardAt time.Time `db:"heard_at"`
	}
	if err := tx.SelectContext(ctx, &rows, "SELECT "+deviceColumns+`, COALESCE((SELECT max(at) FROM evidence e WHERE e.device_id = devices.id AND e.kind = 'heard'), created_at) AS heard_at FROM devices
		WHERE site_id = $1 AND (addr = $2 OR endpoint = NULLIF($3, '') OR serial = NULLIF($4, '') OR mac = NULLIF($5, '') OR via = $6 OR certificate = NULLIF($7, '')) ORDER BY created_at`,
		site, x.Addr.String(), x.Endpoint, x.Serial, x.MAC, x.Via, x.Certificate); err != nil {
		return nil, nil, err
	}
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

// recognise finds the device that a sighting belongs to, as identity.Find decides, or makes it. What is one of a storm is a *StormError.
func (s Devices) recognise(ctx context.Context, tx *sqlx.Tx, site uuid.UUID, run *uuid.UUID, x discovery.Sighting) (uuid.UUID, error) {
	known, ids, err := s.alike(ctx, tx, site, x)
	if err != nil {
		return uuid.Nil, err
	}
	i := identity.Find(known, x)
	if i < 0 {
		if err := s.storming(ctx, tx, site, run, x); err != nil {
			return uuid.Nil, err
		}
		id := newID()
		_, err := tx.ExecContext(ctx, "INSERT INTO devices (id, site_id, endpoint, addr, serial, mac, via, channel, certificate) VALUES "+
			"($1, $2, NULLIF($3, ''), $4, NULLIF($5, ''), NULLIF($6, ''), $7, $8, NULLIF($9, ''))",
			id, site, x.Endpoint, x.Addr.String(), x.Serial, x.MAC, x.Via, x.Channel, x.Certificate)
		return id, err
	}
	_, err = tx.ExecContext(ctx, `UPDATE devices SET addr = $2, endpoint = COALESCE(endpoint, NULLIF($3, '')), serial = COALESCE(serial, NULLIF($4, '')), mac = COALESCE(mac, NULLIF($5, '')),
		certificate = COALESCE(NULLIF($6, ''), certificate) WHERE id = $1`, ids[i], x.Addr.String(), x.Endpoint, x.Serial, x.MAC, x.Certificate)
	return ids[i], err
}

// maxBody bounds a record. What devices tell is bounded where it is parsed; this keeps what was missed there out of every list.
const maxBody = 512 << 10

func (s Devices) record(ctx context.Context, tx *sqlx.Tx, run *uuid.UUID, device uuid.UUID, subject string, body evidence.Body,
	exchange string, at time.Time) error {
	if _, err := fenced(ctx, tx); err != nil {
		return err
	}
	raw, err := evidence.Encode(body)
	if err != nil {
		return err
	}
	if len(raw) > maxBody {
		return fmt.Errorf("a record of the kind %q has %d kB, which nothing that was bounded has", evidence.KindOf(body), len(raw)>>10)
	}
	raw, exchange = withoutNUL(raw), strings.ReplaceAll(exchange, "\x00", "·")
	if at.IsZero() {
		at = time.Now().UTC()
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO evidence (id, device_id, run_id, at, kind, subject, body, exchange) VALUES ($1, $2, "+
		"$3, $4, $5, $6, $7, $8)",
		newID(), device, run, at, evidence.KindOf(body), subject, string(raw), exchange); err != nil {
		return err
	}
	return s.deviceChanged(ctx, tx, device)
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
}

// Record appends a finding.
func (s Devices) Record(ctx context.Context, d *Device, run *uuid.UUID, f Finding) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if f.Still != nil {
			if _, err := tx.ExecContext(ctx, "INSERT INTO stills (id, device_id, jpeg) VALUES ($1, $2, $3)", f.StillID, d.ID,
				f.Still); err != nil {
				return err
			}
		}
		if takesCameras(f.Body) {
			if err := asTarget(ctx, tx, d.ID); err != nil {
				return err
			}
		}
		return s.record(ctx, tx, run, d.ID, f.Subject, f.Body, f.Exchange, time.Time{})
	})
}

// RecordedIn reports whether the newest record of a kind and subject was made in a run.
func (s Devices) RecordedIn(ctx context.Context, device uuid.UUID, kind evidence.Kind, subject string, run uuid.UUID) (in bool, err error) {
	err = s.db.GetContext(ctx, &in, `SELECT COALESCE((SELECT COALESCE(run_id = $4, false) FROM evidence WHERE device_id = $1 AND kind = $2 AND subject = $3
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
		if err := s.toldEnough(ctx, tx, d.ID, d.Addr); errors.As(err, new(*StormError)) {
			return s.countStorm(ctx, tx, site, d.Addr)
		} else if err != nil {
			return err
		}
		return s.record(ctx, tx, nil, d.ID, "", evidence.Left{}, "", time.Time{})
	})
	return known, err
}

// Identify adds the marks that a device has told of itself once it was signed in to. A mark that is known stays: another one would be
// a contradiction, and those are shown, not merged.
func (s Devices) Identify(ctx context.Context, id uuid.UUID, serial, mac string) error {
	_, err := s.db.ExecContext(ctx, "UPDATE devices SET serial = COALESCE(serial, NULLIF($2, '')), mac = COALESCE(mac, NULLIF($3, '')) "+
		"WHERE id = $1", id, serial, mac)
	return err
}

// Still returns a stored picture.
func (s Devices) Still(ctx context.Context, id uuid.UUID) ([]byte, error) {
	var jpeg []byte
	return jpeg, found(s.db.GetContext(ctx, &jpeg, "SELECT jpeg FROM stills WHERE id = $1", id))
}

// List returns a site's devices with their derived status, in order of address.
func (s Devices) List(ctx context.Context, site uuid.UUID) ([]Device, error) {
	var out []Device
	if err := s.db.SelectContext(ctx, &out, "SELECT "+deviceColumns+" FROM devices WHERE site_id = $1", site); err != nil {
		return nil, err
	}
	return out, s.derive(ctx, out, "d.site_id = $1", site)
}

// Get returns one device with its derived status.
func (s Devices) Get(ctx context.Context, id uuid.UUID) (*Device, error) {
	out := make([]Device, 1)
	if err := s.db.GetContext(ctx, &out[0], "SELECT "+deviceColumns+" FROM devices WHERE id = $1", id); err != nil {
		return nil, found(err)
	}
	return &out[0], s.derive(ctx, out, "d.id = $1", id)
}

// mostTunings bounds the evidence of settings that budgets are learned from.
const mostTunings = 5000

// Tunings is the evidence of all settings that were sent to devices of a site, the newest first. Of each device the model is to be had from
// its status.
func (s Devices) Tunings(ctx context.Context, site uuid.UUID) (out []evidence.Record, err error) {
	return out, s.db.SelectContext(ctx, &out, `SELECT e.id, e.device_id AS device, e.at, e.kind, e.subject, e.body, false AS hasexchange FROM evidence e
		JOIN devices d ON d.id = e.device_id WHERE d.site_id = $1 AND e.kind = $2 ORDER BY e.at DESC LIMIT $3`, site, evidence.KindTuned, mostTunings)
}

// derive reads the latest evidence and the intent of devices and derives their status.
func (s Devices) derive(ctx context.Context, devices []Device, where string, arg any) error {
	var records []evidence.Record
	if err := s.db.SelectContext(ctx, &records, `SELECT DISTINCT ON (e.device_id, e.kind, e.subject) e.id, e.device_id AS device, e.at, e.kind, e.subject, e.body,
		e.exchange <> '' AS hasexchange
		FROM evidence e JOIN devices d ON d.id = e.device_id WHERE `+where+` ORDER BY e.device_id, e.kind, e.subject, e.at DESC, e.id DESC`, arg); err != nil {
		return err
	}
	byDevice := map[uuid.UUID][]evidence.Record{}
	for _, r := range records {
		byDevice[r.Device] = append(byDevice[r.Device], r)
	}
	intents, err := s.wanted(ctx, where, arg)
	if err != nil {
		return err
	}
	shared, err := s.sharedAddresses(ctx, devices)
	if err != nil {
		return err
	}
	recorders, err := s.recorders(ctx, where, arg)
	if err != nil {
		return err
	}
	roles, err := s.roles(ctx, where, arg)
	if err != nil {
		return err
	}
	consents, err := s.consents(ctx, where, arg)
	if err != nil || len(devices) == 0 {
		return err
	}
	agreements, err := s.agreements(ctx, devices[0].Site)
	if err != nil {
		return err
	}
	layers, err := s.layers(ctx, devices[0].Site, where, arg)
	if err != nil {
		return err
	}
	for i := range devices {
		in := intents[devices[i].ID]
		in.Plans = func(model string) []tuning.Layer { return layers.of(devices[i].ID, model) }
		in.Consent = consents[devices[i].ID]
		in.SharedWith = shared[devices[i].ID]
		in.Recorder = recorders[devices[i].ID]
		in.Roles = roles[devices[i].ID]
		in.Agreed = func(model string) (time.Time, signin.Agreement) { return agreed(agreements, devices[i].ID, model) }
		devices[i].Status = latch.Derive(byDevice[devices[i].ID], in)
		s.warnOfUnreadable(&devices[i])
	}
	sortByAddr(devices)
	return nil
}

// warnOfUnreadable logs the records of a device that this program cannot read, each once.
func (s Devices) warnOfUnreadable(d *Device) {
	for _, u := range d.Status.Unreadable {
		if _, known := s.unreadable.LoadOrStore(u.Record, true); !known {
			s.log.Error("A record of a device cannot be read", "device", d.ID, "record", u.Record, "why", u.Diagnosis.Seen)
		}
	}
}

// recorders finds, for each device behind a recorder, the name that a person gave to the recorder.
func (s Devices) recorders(ctx context.Context, where string, arg any) (map[uuid.UUID]string, error) {
	var rows []struct {
		ID   uuid.UUID `db:"id"`
		Name string    `db:"name"`
	}
	err := s.db.SelectContext(ctx, &rows,
		`SELECT d.id, COALESCE(v.name, '') AS name FROM devices d JOIN devices v ON v.id = d.via WHERE `+where, arg)
	out := map[uuid.UUID]string{}
	for _, r := range rows {
		out[r.ID] = r.Name
	}
	return out, err
}

// mostShared is how many of those that share an address are named.
const mostShared = 3

// sharedAddresses finds, for each device, the others of its site that were last heard at the same address: a few by name, and how many more
// there are. Each address is looked at once, however many devices claim it.
func (s Devices) sharedAddresses(ctx context.Context, devices []Device) (map[uuid.UUID][]string, error) {
	out := map[uuid.UUID][]string{}
	if len(devices) == 0 {
		return out, nil
	}
	addrs := make([]string, len(devices))
	for i := range devices {
		addrs[i] = devices[i].Addr
	}
	var rows []struct {
		Addr  string    `db:"addr"`
		ID    uuid.UUID `db:"id"`
		Name  string    `db:"name"`
		Count int       `db:"count"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT addr, id, name, count FROM (
			SELECT addr, id, COALESCE(name, mac, serial, endpoint, 'another device') AS name, count(*) OVER (PARTITION BY addr) AS count, row_number() OVER (PARTITION BY addr ORDER BY created_at, id) AS n
			FROM devices WHERE site_id = $1 AND via IS NULL AND ($2 OR addr = $3)) d
		WHERE count > 1 AND n <= $4 ORDER BY addr, n`, devices[0].Site, len(devices) > 1, addrs[0], mostShared+1)
	if err != nil {
		return nil, err
	}
	type shared struct {
		ids   []uuid.UUID
		names []string
		count int
	}
	byAddr := map[string]*shared{}
	for _, r := range rows {
		if byAddr[r.Addr] == nil {
			byAddr[r.Addr] = &shared{count: r.Count}
		}
		a := byAddr[r.Addr]
		a.ids, a.names = append(a.ids, r.ID), append(a.names, r.Name)
	}
	for i := range devices {
		a := byAddr[devices[i].Addr]
		if a == nil || devices[i].Via != nil {
			continue
		}
		var others []string
		for k, id := range a.ids {
			if id != devices[i].ID && len(others) < mostShared {
				others = append(others, a.names[k])
			}
		}
		if more := a.count - 1 - len(others); more > 0 {
			others = append(others, fmt.Sprintf("%d more", more))
		}
		out[devices[i].ID] = others
	}
	return out, nil
}

func sortByAddr(devices []Device) {
	slices.SortFunc(devices, func(a, b Device) int { return ByAddress(&a, &b) })
}

// ByAddress orders devices by their address as a number, and those at one address by age.
func ByAddress(a, b *Device) int {
	x, _ := netip.ParseAddr(a.Addr)
	y, _ := netip.ParseAddr(b.Addr)
	return cmp.Or(x.Compare(y), bytes.Compare(a.ID[:], b.ID[:]))
}

// Rename gives a device a name; an empty one gives back what the device calls itself. It returns the name before.
func (s Devices) Rename(ctx context.Context, id uuid.UUID, name string) (before string, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		var d Device
		if err := tx.GetContext(ctx, &d, "SELECT "+deviceColumns+" FROM devices WHERE id = $1 FOR UPDATE", id); err != nil {
			return found(err)
		}
		before = d.Name.String
		if _, err := tx.ExecContext(ctx, "UPDATE devices SET name = NULLIF($2, '') WHERE id = $1", id, name); err != nil {
			return err
		}
		return s.deviceChanged(ctx, tx, id)
	})
	return before, err
}

// Forget removes devices of a site with their evidence: what was replaced, heard by mistake, or invented by somebody on the wire. It
// returns how many there were.
func (s Devices) Forget(ctx context.Context, by Person, site uuid.UUID, ids []uuid.UUID) (n int64, err error) {
	return n, s.tx(ctx, func(tx *sqlx.Tx) error {
		for _, id := range ids[:min(len(ids), mostAudited)] {
			if err := audit(ctx, tx, Deed{Person: by, Action: "forgot the device", Site: site, Device: id}); err != nil {
				return err
			}
		}
		if more := len(ids) - mostAudited; more > 0 {
			if err := audit(ctx, tx, Deed{Person: by, Action: "forgot devices", Subject: fmt.Sprintf("%d more", more),
				Site: site}); err != nil {
				return err
			}
		}
		res, err := tx.ExecContext(ctx, "DELETE FROM devices WHERE site_id = $1 AND id = ANY($2)", site, ids)
		if err != nil {
			return err
		}
		if n, err = res.RowsAffected(); err == nil && n == 0 {
			return ErrNotFound
		}
		return s.siteChanged(ctx, tx, site)
	})
}

// mostAudited is how many devices of one deed are recorded one by one.
const mostAudited = 50

// History returns the newest records of a device, newest first.
func (s Devices) History(ctx context.Context, device uuid.UUID, limit int) ([]evidence.Record, error) {
	var out []evidence.Record
	err := s.db.SelectContext(ctx, &out, `SELECT id, device_id AS device, at, kind, subject, body, exchange <> '' AS hasexchange
		FROM evidence WHERE device_id = $1 ORDER BY at DESC, id DESC LIMIT $2`, device, limit)
	return out, err
}

// OneRecord returns one record.
func (s Devices) OneRecord(ctx context.Context, id uuid.UUID) (r evidence.Record, err error) {
	return r, found(s.db.GetContext(ctx, &r, `SELECT id, device_id AS device, at, kind, subject, body, exchange <> '' AS hasexchange
		FROM evidence WHERE id = $1`, id))
}

// Exchange returns the conversation that a record came from.
func (s Devices) Exchange(ctx context.Context, record uuid.UUID) (string, error) {
	var text string
	return text, found(s.db.GetContext(ctx, &text, "SELECT exchange FROM evidence WHERE id = $1", record))
}
