package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/byhand"
	"unlatch/core/wire/target/feed"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/live"
	"unlatch/core/wire/target/viabridge"
)

// An OpenedPack is the pack that a site was opened from.
type OpenedPack struct {
	By       string                   `db:"opened_by"`
	At       time.Time                `db:"opened_at"`
	Manifest jsonb[handover.Manifest] `db:"manifest"`
	Raw      []byte                   `db:"pack"`
}

// Opened returns the pack that a site was opened from. Its error is ErrNotFound for a site that was made here.
func (s Handovers) Opened(ctx context.Context, site uuid.UUID) (o OpenedPack, err error) {
	return o, notFoundIfNone(s.on(ctx).GetContext(ctx, &o, "SELECT opened_by, opened_at, manifest, pack FROM opened_packs WHERE site_id = $1",
		site))
}

// Here reports whether anything of a pack is here already: its site, or one of its devices at another.
func (s Handovers) Here(ctx context.Context, t handover.Taken) (here bool, err error) {
	var devices []uuid.UUID
	for _, d := range t.Devices {
		devices = append(devices, d.ID)
	}
	var targets []uuid.UUID
	for _, x := range t.Targets {
		targets = append(targets, x.ID)
	}
	return here, s.on(ctx).GetContext(ctx, &here, `SELECT EXISTS (SELECT 1 FROM sites WHERE id = $1)
		OR EXISTS (SELECT 1 FROM devices WHERE id = ANY($2)) OR EXISTS (SELECT 1 FROM targets WHERE id = ANY($3))`, t.Site, devices, targets)
}

// openPack keeps what a pack says of a site that was made for it, as intent.
func (s *Store) openPack(ctx context.Context, by act.Person, a act.OpenPack) error {
	t := a.Taken
	return s.together(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := s.Sites.LayOut(ctx, t.Site, t.Network); err != nil {
			return err
		}
		for _, step := range []func(context.Context, *sqlx.Tx, act.OpenPack) error{s.takeDevices, s.takeSignIns, s.takeTargets, s.takePlans,
			s.takeSitePlans, s.takeBooks} {
			if err := step(ctx, tx, a); err != nil {
				return err
			}
		}
		if len(t.Outside.Addresses)+len(t.Outside.Maps) > 0 {
			if err := s.Sites.SetOutside(ctx, t.Site, t.Outside); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO opened_packs (site_id, opened_by, manifest, pack) VALUES ($1, $2, $3, $4)", t.Site, by.Name,
			JSON(a.Manifest), a.Raw)
		return err
	})
}

func (s *Store) takeDevices(ctx context.Context, tx *sqlx.Tx, a act.OpenPack) error {
	own := act.OwnPlans{}
	var recorders []uuid.UUID
	for _, d := range a.Taken.Devices {
		x := d.InPack
		if _, err := tx.ExecContext(ctx, `INSERT INTO devices (id, site_id, endpoint, addr, serial, mac, name, via, channel)
			VALUES ($1, $2, NULLIF($3, ''), $4, NULLIF($5, ''), NULLIF($6, ''), NULLIF($7, ''), $8, $9)`, d.ID, a.Taken.Site, x.Endpoint,
			x.Addr.String(), x.Serial, x.MAC, d.Name, x.Via, x.Channel); err != nil {
			return err
		}
		if err := s.Devices.record(ctx, tx, nil, d.ID, Finding{Body: x}, time.Time{}); err != nil {
			return err
		}
		if !d.Own.IsZero() {
			own[d.ID] = d.Own
		}
		if len(d.Roles) > 0 {
			if err := s.Devices.SetRoles(ctx, d.ID, d.Roles); err != nil {
				return err
			}
		}
		if d.Recorder {
			recorders = append(recorders, d.ID)
		}
	}
	if err := asTargets(ctx, tx, recorders); err != nil {
		return err
	}
	return s.Plans.SetOwn(ctx, own)
}

// takeSignIns puts the sign-ins of the pack on the keyring: bound to its devices, which are there by now.
func (s *Store) takeSignIns(ctx context.Context, _ *sqlx.Tx, a act.OpenPack) error {
	_, err := s.SignIns.AddAll(ctx, a.NewSignIns()...)
	return err
}

// kindsTaken are the targets that a pack can bring. A live platform is left out: its stream key is not in a pack.
var kindsTaken = map[target.Kind]bool{viabridge.Kind: true, hub.Kind: true, feed.Kind: true, byhand.Kind: true, live.Kind: false}

func (s *Store) takeTargets(ctx context.Context, _ *sqlx.Tx, a act.OpenPack) error {
	there := map[uuid.UUID]bool{}
	for _, t := range a.Taken.Targets {
		if t.Device != uuid.Nil {
			there[t.ID] = true // it is a device of the site
			continue
		}
		if !kindsTaken[target.Kind(t.Kind)] {
			continue
		}
		form := act.TargetForm{Kind: target.Kind(t.Kind), Name: t.Name, Address: t.Address, Settings: t.Settings}
		if t.SignIn != nil {
			if key, ok := a.Keys[t.SignIn.ID]; ok {
				form.SignIn = &key
			}
		}
		put, err := form.FromPack(t.ID)
		if err != nil {
			continue
		}
		if err := s.Targets.Put(ctx, a.Taken.Site, put); err != nil {
			return err
		}
		there[t.ID] = true
	}
	var wishes act.Wishes
	for _, w := range a.Taken.Wishes {
		if there[w.Target] {
			wishes = append(wishes, act.Wish{Device: w.Device, Target: w.Target, Slot: w.Slot, Role: w.Role})
		}
	}
	if len(wishes) == 0 {
		return nil
	}
	return s.Targets.Wish(ctx, wishes)
}

func (s *Store) takePlans(ctx context.Context, _ *sqlx.Tx, a act.OpenPack) error {
	for _, p := range a.Taken.Plans {
		if p.Owner == tuning.Selection && len(p.For) == 0 {
			continue
		}
		plan := Plan{Site: a.Taken.Site, Owner: p.Owner, Name: p.Name, Plan: p.Plan, Devices: p.For}
		if _, err := s.Plans.Put(ctx, a.Taken.Site, plan); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) takeSitePlans(ctx context.Context, _ *sqlx.Tx, a act.OpenPack) error {
	for _, p := range a.Taken.SitePlans {
		picture, ok := a.Pictures[p.ID]
		if !ok {
			continue
		}
		id := newID()
		if err := s.SitePlans.Add(ctx, act.AddSitePlan{Site: a.Taken.Site, ID: id, Name: p.Name, Picture: &picture}); err != nil {
			return err
		}
		if len(p.Marks) > 0 {
			if err := s.SitePlans.Mark(ctx, act.MarkOnSitePlan{Site: a.Taken.Site, Plan: id, Marks: p.Marks}); err != nil {
				return err
			}
		}
	}
	return nil
}

// takeBooks adds the recipes of path books. A book of presets or intakes whose name is there already stays as it is here.
func (s *Store) takeBooks(ctx context.Context, _ *sqlx.Tx, a act.OpenPack) error {
	for _, b := range a.Books {
		if b.Kind == "paths" {
			book, err := recipe.ReadBook(b.Text())
			if err != nil {
				continue
			}
			if _, _, err := s.Books.Merge(ctx, book); err != nil {
				return err
			}
			continue
		}
		kind := act.BookKind(b.Kind)
		list, err := s.Shelf.List(ctx, kind)
		if err != nil {
			return err
		}
		known := false
		for _, x := range list {
			known = known || x.Name == b.Name
		}
		if !known {
			if _, err := s.Shelf.Put(ctx, kind, b.Name, string(b.Text())); err != nil {
				return err
			}
		}
	}
	return nil
}
