package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
)

// unchanged makes sure that what an act changes is still as its person saw it. The site is held by the act, so that nobody changes it
// meanwhile. Its error is an *act.ChangedError.
func (s Acts) unchanged(ctx context.Context, site uuid.UUID, u act.Unchanged) error {
	now, err := s.fieldsOf(ctx, site, u)
	if err != nil || u.Holds(now) {
		return err
	}
	subject := ""
	if u.Plan != nil {
		subject = u.Plan.String()
	}
	var last struct {
		Person string    `db:"person"`
		At     time.Time `db:"at"`
	}
	err = s.on(ctx).GetContext(ctx, &last, `SELECT person, at FROM audit WHERE site_id = $1 AND act = ANY($2)
		AND ($3::uuid IS NULL OR device_id = $3 OR $3 = ANY(devices)) AND ($4::uuid IS NULL OR target_id = $4) AND ($5 = '' OR subject = $5)
		ORDER BY number DESC LIMIT 1`, site, names(u.Acts()), orNull(u.Device), orNull(u.Target), subject)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	return &act.ChangedError{By: last.Person, At: last.At, Now: now}
}

func names(list []act.Name) (out []string) {
	for _, n := range list {
		out = append(out, string(n))
	}
	return out
}

// fieldsOf returns what an act changes as it is now.
func (s Acts) fieldsOf(ctx context.Context, site uuid.UUID, u act.Unchanged) (act.Fields, error) {
	switch {
	case u.Device != uuid.Nil:
		var name string
		err := s.on(ctx).GetContext(ctx, &name, "SELECT COALESCE(name, '') FROM devices WHERE id = $1", u.Device)
		return act.Fields{"name": name}, notFoundIfNone(err)
	case u.Target != uuid.Nil:
		t, err := s.Targets.Get(ctx, u.Target)
		return act.TargetForm{Name: t.Name, Address: t.Address, Intake: t.Intake, Settings: t.Settings.V}.Fields(), err
	case u.Plan != nil:
		now := parts{}
		err := s.on(ctx).GetContext(ctx, &now, "SELECT parts FROM plans WHERE site_id = $1 AND owner = $2 AND name = $3", site, u.Plan.Owner,
			u.Plan.Name)
		if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		return act.Fields(now), err
	}
	at, err := s.Sites.Get(ctx, site)
	return act.SiteForm{Name: at.Name, Customer: at.Customer, Ranges: at.Ranges, LinkMbps: at.LinkMbps}.Fields(), err
}
