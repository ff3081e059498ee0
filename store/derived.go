package store

import (
	"context"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
)

// latestQuery reads the latest evidence of devices. flag names the column that fills Record.HasExchange: a row's, or the field's in JSON.
func latestQuery(where, flag string) string {
	return `SELECT e.id, e.device_id AS device, e.at, e.kind, e.subject, e.body, e.exchange <> '' AS ` + flag + `
		FROM latest_evidence l JOIN evidence e ON e.id = l.evidence_id JOIN devices d ON d.id = l.device_id WHERE ` + where
}

// derive reads the latest evidence and the intent of devices and derives their status.
func (s Devices) derive(ctx context.Context, devices []Device, of scope) error {
	if len(devices) == 0 {
		return nil
	}
	var records []evidence.Record
	if err := s.on(ctx).SelectContext(ctx, &records, latestQuery(of.where, "hasexchange"), of.args[0]); err != nil {
		return err
	}
	var r intentReading
	r.askIntent(of)
	if err := r.answer(ctx, s.on(ctx), of.args...); err != nil {
		return err
	}
	return s.stand(ctx, devices, records, &r)
}

// stand derives how devices stand from their latest evidence and what was read of their intent.
func (s Devices) stand(ctx context.Context, devices []Device, records []evidence.Record, r *intentReading) error {
	in, err := s.intent(ctx, r)
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
