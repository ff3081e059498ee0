package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// Deeds are the audit: who did what, and when.
type Deeds struct{ *database }

// An Act is one thing that a person did and that others may want to know of: a secret shown, a range changed, a device changed.
type Act struct {
	ID       uuid.UUID  `db:"id" json:"id"`
	At       time.Time  `db:"at" json:"at"`
	Person   string     `db:"person" json:"person" doc:"who; the name as it was then"`
	Action   string     `db:"action" json:"action" doc:"what was done, in words"`
	Subject  string     `db:"subject" json:"subject" doc:"to what"`
	Site     string     `db:"site" json:"site,omitempty"`
	SiteID   *uuid.UUID `db:"site_id" json:"site_id,omitempty"`
	Device   string     `db:"device" json:"device,omitempty"`
	DeviceID *uuid.UUID `db:"device_id" json:"device_id,omitempty"`
}

// A Deed is an act to be recorded. Site and Device name where it was done; the zero UUID for nowhere in particular.
type Deed struct {
	Person       Person
	Action       string
	Subject      string
	Site, Device uuid.UUID
}

// Add records what a person did. It is done before the deed: what cannot be recorded is not done.
func (s Deeds) Add(ctx context.Context, d Deed) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error { return audit(ctx, tx, d) })
}

func audit(ctx context.Context, tx *sqlx.Tx, d Deed) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO audit (id, person_id, person, action, subject, site_id, site, device_id, device)
		SELECT $1, NULLIF($2, '00000000-0000-0000-0000-000000000000'::uuid), $3, $4, $5, COALESCE(NULLIF($6, '00000000-0000-0000-0000-000000000000'::uuid), v.site_id),
			COALESCE((SELECT name FROM sites WHERE id = COALESCE(NULLIF($6, '00000000-0000-0000-0000-000000000000'::uuid), v.site_id)), ''), v.id, COALESCE(v.name || ' at ' || v.addr, v.addr, '')
		FROM (SELECT 1) one LEFT JOIN devices v ON v.id = $7`, newID(), d.Person.ID, d.Person.Name, d.Action, d.Subject, d.Site, d.Device)
	return err
}

// List returns what was done before an act, newest first; the zero UUID begins with the newest. An empty site is all of them.
func (s Deeds) List(ctx context.Context, site *uuid.UUID, before uuid.UUID, limit int) ([]Act, error) {
	out := []Act{}
	return out, s.db.SelectContext(ctx, &out, `SELECT id, at, person, action, subject, site, site_id, device, device_id FROM audit
		WHERE ($1::uuid IS NULL OR site_id = $1) AND ($2 = '00000000-0000-0000-0000-000000000000'::uuid OR id < $2) ORDER BY id DESC LIMIT $3`, site, before, limit)
}

// Reveal returns a secret to a person, once who asked, of which sign-in and for which device is recorded.
func (s SignIns) Reveal(ctx context.Context, id uuid.UUID, d Deed) (string, error) {
	k, err := s.Get(ctx, id)
	if err != nil {
		return "", err
	}
	d.Action, d.Subject = "revealed the sign-in", k.Label
	if err := Deeds(s).Add(ctx, d); err != nil {
		return "", err
	}
	in, err := s.Decrypt(ctx, id)
	return in.Secret.Reveal(), err
}
