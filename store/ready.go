package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/ready"
	"unlatch/core/stream/capacity"
)

// A Firm is whose papers these are.
type Firm struct {
	Name      string `db:"name" json:"name"`
	HasMark   bool   `db:"has_mark" json:"has_mark"`
	Checklist string `db:"checklist" json:"checklist" doc:"YAML; missing for that of the product"`
}

// Firm returns whose papers these are; the zero Firm where nobody has said.
func (s Handovers) Firm(ctx context.Context) (f Firm, err error) {
	err = s.on(ctx).GetContext(ctx, &f, "SELECT name, mark IS NOT NULL AS has_mark, checklist FROM firm")
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return f, err
}

// Mark returns the firm's mark.
func (s Handovers) Mark(ctx context.Context) (mark []byte, err error) {
	err = s.on(ctx).GetContext(ctx, &mark, "SELECT mark FROM firm WHERE mark IS NOT NULL")
	return mark, notFoundIfNone(err)
}

// SetFirm keeps whose papers these are.
func (s Handovers) SetFirm(ctx context.Context, a act.SetFirm) error {
	var mark []byte
	if a.Mark != nil {
		mark = a.Mark.Data
	}
	_, err := s.on(ctx).ExecContext(ctx, `INSERT INTO firm (name, mark) VALUES ($1, $2) ON CONFLICT (one) DO UPDATE
		SET name = $1, mark = CASE WHEN $3 THEN NULL ELSE COALESCE($2, firm.mark) END`, noNUL(a.Name), mark, a.NoMark)
	return err
}

// PutChecklist keeps a checklist, of a site or of the firm.
func (s Handovers) PutChecklist(ctx context.Context, a act.PutChecklist) error {
	if a.Site != uuid.Nil {
		return touchedOne(s.on(ctx).ExecContext(ctx, "UPDATE sites SET checklist = $2 WHERE id = $1", a.Site, noNUL(a.YAML)))
	}
	_, err := s.on(ctx).ExecContext(ctx, "INSERT INTO firm (checklist) VALUES ($1) ON CONFLICT (one) DO UPDATE SET checklist = $1",
		noNUL(a.YAML))
	return err
}

// Checklist returns the checklist of a site as it was written: its own, else the firm's, else that of the product.
func (s Handovers) Checklist(ctx context.Context, site uuid.UUID) (list ready.Checklist, yaml string, own bool, err error) {
	if err := s.on(ctx).GetContext(ctx, &yaml, "SELECT checklist FROM sites WHERE id = $1", site); err != nil {
		return list, "", false, notFoundIfNone(err)
	}
	if own = yaml != ""; !own {
		firm, err := s.Firm(ctx)
		if err != nil {
			return list, "", false, err
		}
		if yaml = firm.Checklist; yaml == "" {
			yaml = ready.DefaultChecklist
		}
	}
	list, err = ready.ReadChecklist([]byte(yaml))
	return list, yaml, own, err
}

// Waive keeps waivers.
func (s Handovers) Waive(ctx context.Context, by act.Person, a act.WaiveFinding) error {
	if _, err := s.on(ctx).ExecContext(ctx, `INSERT INTO waivers (site_id, cause, thing, by, reason) SELECT $1, $2, t, $4, $5
		FROM unnest($3::uuid[]) t ON CONFLICT (site_id, cause, thing) DO UPDATE SET by = $4, at = now(), reason = $5`, a.Site, a.Cause, a.Things,
		by.Name, noNUL(a.Reason)); err != nil {
		return err
	}
	return s.notify(ctx, s.on(ctx), Event{Site: a.Site, What: "handover", ID: a.Site})
}

// Unwaive takes waivers back.
func (s Handovers) Unwaive(ctx context.Context, a act.WithdrawWaiver) error {
	if _, err := s.on(ctx).ExecContext(ctx, "DELETE FROM waivers WHERE site_id = $1 AND cause = $2 AND thing = ANY($3)", a.Site, a.Cause,
		a.Things); err != nil {
		return err
	}
	return s.notify(ctx, s.on(ctx), Event{Site: a.Site, What: "handover", ID: a.Site})
}

// Attest keeps that an item is done, or forgets it.
func (s Handovers) Attest(ctx context.Context, by act.Person, a act.AttestItem) error {
	query, args := `INSERT INTO attested (site_id, item, by, note) VALUES ($1, $2, $3, $4)
		ON CONFLICT (site_id, item) DO UPDATE SET by = $3, at = now(), note = $4`, []any{a.Site, a.Item, by.Name, noNUL(a.Note)}
	if a.Undo {
		query, args = "DELETE FROM attested WHERE site_id = $1 AND item = $2", args[:2]
	}
	if _, err := s.on(ctx).ExecContext(ctx, query, args...); err != nil {
		return err
	}
	return s.notify(ctx, s.on(ctx), Event{Site: a.Site, What: "handover", ID: a.Site})
}

// Attested returns what people say is done at a site, by item.
func (s Handovers) Attested(ctx context.Context, site uuid.UUID) (map[string]ready.Attested, error) {
	var rows []struct {
		Item string    `db:"item"`
		By   string    `db:"by"`
		At   time.Time `db:"at"`
		Note string    `db:"note"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT item, by, at, note FROM attested WHERE site_id = $1", site)
	out := map[string]ready.Attested{}
	for _, r := range rows {
		out[r.Item] = ready.Attested{By: r.By, At: r.At.UTC(), Note: r.Note}
	}
	return out, err
}

func (s Handovers) waivers(ctx context.Context, site uuid.UUID) (map[ready.Waived]ready.Waiver, error) {
	var rows []struct {
		Cause  ready.Cause `db:"cause"`
		Thing  uuid.UUID   `db:"thing"`
		By     string      `db:"by"`
		At     time.Time   `db:"at"`
		Reason string      `db:"reason"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT cause, thing, by, at, reason FROM waivers WHERE site_id = $1", site)
	out := map[ready.Waived]ready.Waiver{}
	for _, r := range rows {
		out[ready.Waived{Cause: r.Cause, Thing: r.Thing}] = ready.Waiver{By: r.By, At: r.At.UTC(), Reason: r.Reason}
	}
	return out, err
}

// ReadySite returns what is known of a site as far as it decides whether it can be handed over. devices are all of the site.
func (s *Store) ReadySite(ctx context.Context, site Site, devices []*latch.Device, now time.Time) (r ready.Site, err error) {
	r = ready.Site{ID: site.ID, Title: site.Name, Now: now, Ranges: site.Ranges, Devices: devices, Placed: map[uuid.UUID]bool{},
		Never: map[string]string{}}
	for _, d := range devices {
		maps.Copy(r.Never, ready.StayInside(d))
	}
	plans, err := s.SitePlans.List(ctx, site.ID)
	if err != nil {
		return r, err
	}
	for _, p := range plans {
		for _, m := range p.Marks {
			r.Placed[m.Device] = true
		}
	}
	list, err := s.Targets.List(ctx, site.ID)
	if err != nil {
		return r, err
	}
	for _, t := range list {
		r.Targets = append(r.Targets, ready.Target{ID: t.ID, Name: t.title(devices), Silent: t.Silent != nil})
	}
	if r.Outside, err = s.Sites.Outside(ctx, site.ID); err != nil {
		return r, err
	}
	newest, err := s.Baselines.Newest(ctx, site.ID)
	if err != nil {
		return r, err
	}
	r.Agreed = newest != uuid.Nil
	rule, _, err := s.Sites.Rounds(ctx, site.ID)
	if err != nil {
		return r, err
	}
	r.Watched = rule.On
	if r.Drifts, err = s.driftedThings(ctx, site.ID); err != nil {
		return r, err
	}
	r.Waivers, err = s.Handovers.waivers(ctx, site.ID)
	return r, err
}

// driftedThings returns the devices and targets that are not as they were agreed, each once.
func (s *Store) driftedThings(ctx context.Context, site uuid.UUID) (out []ready.Thing, err error) {
	open, err := s.Drifts.Open(ctx, site)
	if err != nil {
		return nil, err
	}
	seen := map[uuid.UUID]bool{}
	for _, e := range open {
		id := e.Device
		if id == uuid.Nil { // a target is concerned
			if id, err = uuid.Parse(e.Subject); err != nil {
				continue
			}
		}
		if !seen[id] {
			seen[id] = true
			out = append(out, ready.Thing{ID: id, Title: e.Title, Detail: string(e.Cause)})
		}
	}
	return out, nil
}

// title returns what a target is called: a recorder that nobody named is called as the device is.
func (t Target) title(devices []*latch.Device) string {
	if t.Name != "" || t.Device == nil {
		return t.Name
	}
	for _, d := range devices {
		if d.ID == *t.Device {
			return d.Title
		}
	}
	return t.Name
}

// HandoverFacts returns what a pack of a site is made of, as of one moment where ctx carries a Snapshot. devices are all of the site, by
// address.
func (s *Store) HandoverFacts(ctx context.Context, id uuid.UUID, devices []*latch.Device, now time.Time) (f handover.Facts, err error) {
	site, err := s.Sites.Get(ctx, id)
	if err != nil {
		return f, err
	}
	f = handover.Facts{Devices: devices, ID: id, Name: site.Name, Ranges: site.Ranges, Network: site.Network,
		Own:   map[uuid.UUID]map[string]string{},
		Roles: map[uuid.UUID]map[string]string{}, Notes: map[uuid.UUID][]string{}, SignIns: map[uuid.UUID]handover.SignIn{}}
	for _, d := range devices {
		if notes := handover.NotesOf(d); len(notes) > 0 {
			f.Notes[d.ID] = notes
		}
	}
	if f.Ready, err = s.ReadySite(ctx, site, f.Devices, now); err != nil {
		return f, err
	}
	for _, read := range []func(context.Context, *handover.Facts) error{s.wishFacts, s.targetFactsOf, s.planFacts, s.keyFacts, s.bookFacts,
		s.costFacts} {
		if err := read(ctx, &f); err != nil {
			return f, err
		}
	}
	f.Outside = handover.Outside{Form: f.Ready.Outside}
	for at, what := range f.Ready.Never {
		f.Outside.Never = append(f.Outside.Never, at+": "+what)
	}
	slices.Sort(f.Outside.Never)
	if f.Checklist, _, _, err = s.Handovers.Checklist(ctx, id); err != nil {
		return f, err
	}
	f.Attested, err = s.Handovers.Attested(ctx, id)
	return f, err
}

// wishFacts reads the plans of the site and of its cameras, and the roles that people gave.
func (s *Store) wishFacts(ctx context.Context, f *handover.Facts) error {
	plans, err := s.Plans.List(ctx, f.ID)
	if err != nil {
		return err
	}
	for _, p := range plans {
		f.Plans = append(f.Plans, handover.Plan{Owner: string(p.Owner), Name: p.Name, Parts: p.Parts, For: p.Devices})
	}
	var own []ownPlanRow
	var roles []roleRow
	var r reading
	r.ask(&own, ownPlansQuery("d.site_id = $1"))
	r.ask(&roles, rolesQuery("d.site_id = $1"))
	if err := r.answer(ctx, s.on(ctx), f.ID); err != nil {
		return err
	}
	for _, o := range own {
		if len(o.Parts) > 0 {
			f.Own[o.Device] = o.Parts
		}
	}
	f.Roles = rolesByDevice(roles)
	return nil
}

func (s *Store) targetFactsOf(ctx context.Context, f *handover.Facts) error {
	list, err := s.Targets.List(ctx, f.ID)
	if err != nil {
		return err
	}
	for _, t := range list {
		x := handover.TargetFacts{ID: t.ID, Kind: t.Kind, Name: t.title(f.Devices), Address: t.Address, Intake: t.Intake, Silent: t.Silent != nil,
			Settings: t.Settings.V, Pin: t.Pin}
		for _, a := range t.Reach.V {
			x.Reach = append(x.Reach, a.String())
		}
		for _, id := range []struct {
			from *uuid.UUID
			to   *uuid.UUID
		}{{t.Device, &x.Device}, {t.Via, &x.Through}, {t.SignIn, &x.SignIn}} {
			if id.from != nil {
				*id.to = *id.from
			}
		}
		if t.About != nil {
			x.About = &t.About.V
		}
		if t.Layout != nil {
			x.Layout = &t.Layout.V
		}
		f.Targets = append(f.Targets, x)
	}
	return nil
}

func (s *Store) planFacts(ctx context.Context, f *handover.Facts) error {
	plans, err := s.SitePlans.List(ctx, f.ID)
	for _, p := range plans {
		f.SitePlans = append(f.SitePlans, handover.SitePlan{ID: p.ID, Name: p.Name, Width: p.Width, Height: p.Height, Marks: p.Marks})
	}
	return err
}

func (s *Store) keyFacts(ctx context.Context, f *handover.Facts) error {
	keys, err := s.SignIns.List(ctx)
	for _, k := range keys {
		f.SignIns[k.ID] = handover.SignIn{ID: k.ID, Label: k.Label, User: k.User}
	}
	return err
}

// bookFacts reads the firm's own books; those of the product are the same on every installation.
func (s *Store) bookFacts(ctx context.Context, f *handover.Facts) error {
	paths, err := s.Books.List(ctx)
	if err != nil {
		return err
	}
	for _, b := range paths {
		f.Books = append(f.Books, handover.Book{Kind: "paths", Name: b.Name}.WithText([]byte(b.YAML)))
	}
	for _, kind := range []act.BookKind{act.PresetBooks, act.IntakeBooks} {
		list, err := s.Shelf.List(ctx, kind)
		if err != nil {
			return err
		}
		for _, b := range list {
			f.Books = append(f.Books, handover.Book{Kind: string(kind), Name: b.Name}.WithText([]byte(b.YAML)))
		}
	}
	return nil
}

func (s *Store) costFacts(ctx context.Context, f *handover.Facts) error {
	raw, err := s.Sites.Costs(ctx, f.ID)
	if err != nil {
		return err
	}
	form := capacity.UsualRecording
	if raw != nil {
		if json.Unmarshal(raw, &form) != nil {
			return nil // kept by a program that knew another form
		}
	}
	f.Recording = &form
	return nil
}
