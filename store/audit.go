package store

import (
	"context"
	"time"

	"unlatch/core/decide/act"

	"github.com/google/uuid"
)

// A Record is who did what, line by line.
type Record struct{ *database }

// A Line is one act in the record.
type Line struct {
	ID       uuid.UUID  `db:"id" json:"id"`
	At       time.Time  `db:"at" json:"at"`
	Person   string     `db:"person" json:"person" doc:"who; the name as it was then"`
	Act      act.Name   `db:"act" json:"act,omitempty" doc:"the name of the act; missing in lines of older versions"`
	Action   string     `db:"action" json:"action" doc:"what was done, in words"`
	Subject  string     `db:"subject" json:"subject" doc:"to what"`
	Before   string     `db:"before" json:"before,omitempty"`
	After    string     `db:"after" json:"after,omitempty"`
	Site     string     `db:"site" json:"site,omitempty"`
	SiteID   *uuid.UUID `db:"site_id" json:"site_id,omitempty"`
	Device   string     `db:"device" json:"device,omitempty"`
	DeviceID *uuid.UUID `db:"device_id" json:"device_id,omitempty"`
	Target   string     `db:"target" json:"target,omitempty"`
	TargetID *uuid.UUID `db:"target_id" json:"target_id,omitempty"`
	// Devices are all that were acted on, also where there are many.
	Devices uuidList `db:"devices" json:"devices"`
}

// A LineFilter says which lines of the record are wanted.
type LineFilter struct {
	// Given are the sites of which lines may be told. Nil means all of them, and what belongs to no site.
	Given []uuid.UUID
	Site  *uuid.UUID // nil for any
	// Before is the line to go on after; the zero UUID begins with the newest.
	Before uuid.UUID
	Limit  int
}

// List returns lines of the record, newest first.
func (s Record) List(ctx context.Context, f LineFilter) ([]Line, error) {
	out := []Line{}
	err := s.on(ctx).SelectContext(ctx, &out, `SELECT id, at, person, act, action, subject, before, after, site, site_id, device, device_id,
		target, target_id, to_json(devices) AS devices FROM audit
		WHERE ($1::uuid IS NULL OR site_id = $1) AND ($2 = '00000000-0000-0000-0000-000000000000'::uuid OR id < $2)
		AND ($4::uuid[] IS NULL OR site_id = ANY($4)) ORDER BY id DESC LIMIT $3`, f.Site, f.Before, f.Limit, f.Given)
	for i := range out {
		if out[i].Act != "" {
			out[i].Action = out[i].Act.Words()
		}
	}
	return out, err
}
