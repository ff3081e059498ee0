package store

import (
	"context"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
)

// derive reads the latest evidence and the intent of devices and derives their status.
func (s Devices) derive(ctx context.Context, q querier, devices []Device, where string, arg any) error {
	if len(devices) == 0 {
		return nil
	}
	flag := "hasexchange" // as the column is called that fills Record.HasExchange: a row's, and the field's in JSON
	if len(devices) == 1 {
		flag = "has_exchange"
	}
	latest := `SELECT e.id, e.device_id AS device, e.at, e.kind, e.subject, e.body, e.exchange <> '' AS ` + flag + `
		FROM latest_evidence l JOIN evidence e ON e.id = l.evidence_id JOIN devices d ON d.id = l.device_id WHERE ` + where
	var records []evidence.Record
	var r reading
	if len(devices) == 1 {
		r.ask(&records, latest) // the way there and back takes longer than to read the records from JSON
	} else if err := q.SelectContext(ctx, &records, latest, arg); err != nil {
		return err
	}
	in, err := s.intent(ctx, q, r, devices[0].Site, where, arg)
	if err != nil {
		return err
	}
	byDevice := map[uuid.UUID][]evidence.Record{}
	for _, r := range records {
		byDevice[r.Device] = append(byDevice[r.Device], r)
	}
	for i := range devices {
		devices[i].Status = latch.Derive(byDevice[devices[i].ID], in.of(&devices[i]))
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
