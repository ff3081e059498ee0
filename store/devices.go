package store

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
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

// Title returns the name to show: the one given, else what the device calls itself, else its address.
func (d *Device) Title() string {
	for _, n := range []string{d.Name.String, d.Status.Device.Name} {
		if n != "" {
			return n
		}
	}
	if d.Status.SignedIn != nil && d.Status.SignedIn.Info.Model != "" {
		return d.Status.SignedIn.Info.Manufacturer + " " + d.Status.SignedIn.Info.Model
	}
	if d.Via != nil { // its address is that of the recorder
		return fmt.Sprintf("channel %d at %s", d.Channel, d.Addr)
	}
	return d.Addr
}

// Latch returns the device as core knows it.
func (d *Device) Latch() *latch.Device {
	return &latch.Device{ID: d.ID, Title: d.Title(), Name: d.Name.String, Addr: d.Addr, Endpoint: d.Endpoint.String, Via: d.Via,
		Channel: d.Channel, Status: d.Status}
}

const deviceColumns = "id, site_id, endpoint, addr, serial, mac, name, created_at, via, channel, certificate"

// Still returns a stored picture.
func (s Devices) Still(ctx context.Context, id uuid.UUID) ([]byte, error) {
	var jpeg []byte
	return jpeg, notFoundIfNone(s.on(ctx).GetContext(ctx, &jpeg, "SELECT jpeg FROM stills WHERE id = $1", id))
}

// List returns a site's devices with their derived status, in order of address.
func (s Devices) List(ctx context.Context, site uuid.UUID) ([]Device, error) {
	var out []Device
	if err := s.on(ctx).SelectContext(ctx, &out, "SELECT "+deviceColumns+" FROM devices WHERE site_id = $1", site); err != nil {
		return nil, err
	}
	return out, s.derive(ctx, out, ofSite(site))
}

// Get returns one device with its derived status. It is one statement: the way there and back takes longer than to read from JSON.
func (s Devices) Get(ctx context.Context, id uuid.UUID) (*Device, error) {
	g, err := s.getting(ctx, id)
	if err != nil {
		return nil, err
	}
	return g.device(ctx, s)
}

// getting reads what one device is made of.
func (s Devices) getting(ctx context.Context, id uuid.UUID) (*getting, error) {
	g := &getting{}
	if err := s.planned(ctx).GetContext(ctx, &g.row, g.query(), id); err != nil {
		return nil, notFoundIfNone(err)
	}
	return g, g.read(g.row.Answers)
}

// A getting reads one device.
type getting struct {
	intentReading
	records []evidence.Record
	row     deviceRow
}

type deviceRow struct {
	Device
	Answers []byte `db:"answers"`
}

// query returns the statement that fills row, for the device $1.
func (g *getting) query() string {
	g.ask(&g.records, latestQuery(ofDevice.where, "has_exchange"))
	g.askIntent(ofDevice)
	return "SELECT " + deviceColumns + ", " + g.sql() + " AS answers FROM devices WHERE id = $1"
}

// device returns the device once row and its answers are read.
func (g *getting) device(ctx context.Context, s Devices) (*Device, error) {
	one := []Device{g.row.Device}
	return &one[0], s.stand(ctx, one, g.records, &g.intentReading)
}

// mostTunings bounds the evidence of settings that budgets are learned from.
const mostTunings = 5000

// Tunings returns the evidence of all settings that were sent to devices of a site, the newest first. Of each device the model is to be
// had from its status.
func (s Devices) Tunings(ctx context.Context, site uuid.UUID) (out []evidence.Record, err error) {
	return out, s.on(ctx).SelectContext(ctx, &out,
		`SELECT e.id, e.device_id AS device, e.at, e.kind, e.subject, e.body, false AS hasexchange FROM evidence e
		JOIN devices d ON d.id = e.device_id WHERE d.site_id = $1 AND e.kind = $2 ORDER BY e.at DESC LIMIT $3`, site, evidence.KindTuned,
		mostTunings)
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

// Rename gives a device a name; an empty one gives back what the device calls itself.
func (s Devices) Rename(ctx context.Context, id uuid.UUID, name string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := touchedOne(tx.ExecContext(ctx, "UPDATE devices SET name = NULLIF($2, '') WHERE id = $1", id, name)); err != nil {
			return err
		}
		return s.deviceChanged(ctx, tx, id)
	})
}

// Forget removes devices of a site with their evidence: what was replaced, heard by mistake, or invented by somebody on the wire. It
// returns how many there were.
func (s Devices) Forget(ctx context.Context, site uuid.UUID, ids []uuid.UUID) (n int64, err error) {
	return n, s.tx(ctx, func(tx *sqlx.Tx) error {
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

// History returns the newest records of a device, newest first.
func (s Devices) History(ctx context.Context, device uuid.UUID, limit int) ([]evidence.Record, error) {
	var out []evidence.Record
	err := s.on(ctx).SelectContext(ctx, &out, `
		SELECT id, device_id AS device, at, kind, subject, body, exchange <> '' AS hasexchange
		FROM evidence WHERE device_id = $1 ORDER BY at DESC, id DESC LIMIT $2`, device, limit)
	return out, err
}

// OneRecord returns one record.
func (s Devices) OneRecord(ctx context.Context, id uuid.UUID) (r evidence.Record, err error) {
	return r, notFoundIfNone(s.on(ctx).GetContext(ctx, &r, `
		SELECT id, device_id AS device, at, kind, subject, body, exchange <> '' AS hasexchange
		FROM evidence WHERE id = $1`, id))
}

// Exchange returns the conversation that a record came from.
func (s Devices) Exchange(ctx context.Context, record uuid.UUID) (string, error) {
	var text string
	return text, notFoundIfNone(s.on(ctx).GetContext(ctx, &text, "SELECT exchange FROM evidence WHERE id = $1", record))
}
