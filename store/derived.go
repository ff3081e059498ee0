package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/tuning"
)

// derive reads the latest evidence and the intent of devices and derives their status.
func (s Devices) derive(ctx context.Context, devices []Device, where string, arg any) error {
	var records []evidence.Record
	if err := s.on(ctx).SelectContext(ctx, &records,
		`SELECT DISTINCT ON (e.device_id, e.kind, e.subject) e.id, e.device_id AS device, e.at, e.kind, e.subject, e.body,
		e.exchange <> '' AS hasexchange
		FROM evidence e JOIN devices d ON d.id = e.device_id WHERE `+where+` ORDER BY e.device_id, e.kind, e.subject, e.at DESC,
			e.id DESC`, arg); err != nil {
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
	err := s.on(ctx).SelectContext(ctx, &rows,
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
	err := s.on(ctx).SelectContext(ctx, &rows, `SELECT addr, id, name, count FROM (
			SELECT addr, id, COALESCE(name, mac, serial, endpoint, 'another device') AS name, count(*) OVER (PARTITION BY addr) AS count,
				row_number() OVER (PARTITION BY addr ORDER BY created_at, id) AS n
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
