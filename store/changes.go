package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
)

// Changes are what is new at a site since a reader last looked.
type Changes struct {
	Mark    string      // to look from the next time
	Whole   bool        // every device may have changed, or gone
	Devices []uuid.UUID // that may have changed, where Whole is false
}

// Changes looks what has changed at a site since mark; "" is from the beginning. A change that was made by a transaction which ended after
// the last look is found, however early it began; one may be told of twice.
func (s Devices) Changes(ctx context.Context, site uuid.UUID, mark string) (Changes, error) {
	of, err := s.ChangesOf(ctx, map[uuid.UUID]string{site: mark})
	if err != nil {
		return Changes{}, err
	}
	c, ok := of[site]
	if !ok {
		return Changes{}, ErrNotFound
	}
	return c, nil
}

// ChangesOf is Changes for several sites in one statement, each with its mark. A site that does not exist is not in what it returns.
func (s Devices) ChangesOf(ctx context.Context, marks map[uuid.UUID]string) (map[uuid.UUID]Changes, error) {
	type asked struct {
		Site uuid.UUID `json:"site"`
		Mark string    `json:"mark"`
	}
	list := []asked{}
	for site, mark := range marks {
		list = append(list, asked{site, cmp.Or(mark, "0")})
	}
	raw, err := json.Marshal(list)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Site    uuid.UUID `db:"id"`
		Mark    string    `db:"mark"`
		Whole   bool      `db:"whole"`
		Devices uuidList  `db:"devices"`
	}
	err = s.on(ctx).SelectContext(ctx, &rows, `SELECT s.id, pg_snapshot_xmin(pg_current_snapshot())::text AS mark,
		s.changed >= a.mark::xid8 AS whole,
		(SELECT COALESCE(json_agg(device_id), '[]') FROM device_marks WHERE site_id = s.id AND changed >= a.mark::xid8) AS devices
		FROM json_to_recordset($1) AS a(site uuid, mark text) JOIN sites s ON s.id = a.site`, string(raw))
	out := map[uuid.UUID]Changes{}
	for _, r := range rows {
		out[r.Site] = Changes{Mark: r.Mark, Whole: r.Whole, Devices: r.Devices}
	}
	return out, err
}

// Of returns devices with their derived status, in order of address. Those that are no more are left out.
func (s Devices) Of(ctx context.Context, ids []uuid.UUID) ([]Device, error) {
	if len(ids) == 1 { // a question about one device is planned once, and one about a list each time
		d, err := s.Get(ctx, ids[0])
		if errors.Is(err, ErrNotFound) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		return []Device{*d}, nil
	}
	var out []Device
	err := s.on(ctx).SelectContext(ctx, &out, "SELECT "+deviceColumns+" FROM devices WHERE id = ANY($1)", ids)
	if err != nil || len(out) == 0 {
		return nil, err
	}
	return out, s.derive(ctx, out, ofDevices(ids, out[0].Site))
}

// deviceChanged marks that what a device's status is derived from has changed, and tells readers of it. The device is locked before its
// mark: whoever changes the device itself holds it already, and would wait for the mark of one that waits for the device.
func (s *database) deviceChanged(ctx context.Context, q querier, device uuid.UUID) error {
	var told int // one statement: a worker elsewhere waits as long for each as for the answer of its server
	err := q.GetContext(ctx, &told, `WITH device AS (SELECT id FROM devices WHERE id = $1 FOR KEY SHARE), `+deviceMarked+`,
		told AS (`+tellOf("device", "$1", "changed", "$2")+`) SELECT 1 FROM told`, device, channel)
	return notFoundIfNone(err)
}

// deviceMarked is the part of a statement that marks what stands in device as changed.
const deviceMarked = `changed AS (UPDATE device_marks m SET changed = pg_current_xact_id() FROM device d WHERE m.device_id = d.id
	RETURNING m.site_id)`

// tellOf is the part of a statement that tells readers of an Event for each site in a table. id and channel are parameters of the
// statement.
func tellOf(what, id, table, channel string) string {
	return "SELECT pg_notify(" + channel + ", json_build_object('site', site_id, 'what', '" + what + "', 'id', " + id +
		"::uuid)::text) FROM " +
		table
}

// devicesChanged is deviceChanged for many. Readers are told once a site: which devices have changed they ask Changes.
func (s *database) devicesChanged(ctx context.Context, q querier, devices []uuid.UUID) error {
	_, err := q.ExecContext(ctx, `WITH changed AS (UPDATE device_marks SET changed = pg_current_xact_id()
			WHERE device_id = ANY($1) RETURNING site_id, device_id)
		SELECT pg_notify($2, json_build_object('site', site_id, 'what', 'device', 'id', min(device_id::text))::text)
		FROM changed GROUP BY site_id`,
		act.Distinct(devices), channel)
	return err
}

// siteChanged marks that every device of a site may have changed, and tells readers of it.
func (s *database) siteChanged(ctx context.Context, q querier, site uuid.UUID) error {
	if _, err := q.ExecContext(ctx, "UPDATE sites SET changed = pg_current_xact_id() WHERE id = $1", site); err != nil {
		return err
	}
	return s.notify(ctx, q, Event{Site: site, What: "site", ID: site})
}
