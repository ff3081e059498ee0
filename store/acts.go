package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"unlatch/core/decide/act"
	"unlatch/core/decide/baseline"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/tuning"
	"unlatch/core/work/onvifrecorder"
)

// Acts are what acts are decided by and what they leave behind.
type Acts struct{ *Store }

// Together runs fn with a context that carries one transaction: all that the store writes with it is kept, or nothing of it.
func (s Acts) Together(ctx context.Context, fn func(context.Context) error) error {
	return s.together(ctx, func(ctx context.Context, _ *sqlx.Tx) error { return fn(ctx) })
}

// Confirm makes sure that a person may still do an act, and that all that it is on is still of its site. It holds that for the rest
// of the transaction of ctx: the site first, as whoever files a sighting does, so that no two wait for each other. Its error is
// act.ErrForbidden or an *act.MissingError.
func (s Acts) Confirm(ctx context.Context, by act.Person, a act.About) error {
	if len(a.People) > 0 { // one after the other: two owners may demote each other
		if _, err := s.on(ctx).ExecContext(ctx, "LOCK TABLE people IN SHARE ROW EXCLUSIVE MODE"); err != nil {
			return err
		}
	}
	now, owner, err := s.People.hold(ctx, by, a.Site)
	switch {
	case errors.Is(err, ErrNotFound):
		return act.ErrForbidden
	case err != nil:
		return err
	case a.Site != uuid.Nil && !now.Given(a.Site):
		return &act.MissingError{IDs: onlyID(a.Site)}
	case !now.Role.May(a.Right), now.Bare && !a.InPerson:
		return act.ErrForbidden
	}
	return s.hold(ctx, now.ID, owner, a)
}

// hold keeps what an act is on as it is until the transaction of ctx ends, and looks once more whether the person is given the site: they
// are held already, so that this is not taken from them meanwhile. Its error is an *act.MissingError. It is one statement: its parts take
// their locks in the order in which they stand, the site's first, and each looks again at a row that it had to wait for.
func (s Acts) hold(ctx context.Context, by uuid.UUID, owner bool, a act.About) error {
	var parts, names []string
	var wanted []uuid.UUID
	args := []any{a.Site, by, owner}
	for _, x := range []struct {
		ids   []uuid.UUID
		query string
	}{
		{onlyID(a.Site), "sites WHERE id = ANY(%s) AND ($3 OR EXISTS (SELECT 1 FROM person_sites g WHERE g.person_id = $2 " +
			"AND g.site_id = $1)) FOR NO KEY UPDATE"},
		{a.Devices, "devices WHERE id = ANY(%s) AND site_id = $1 FOR KEY SHARE"},
		{a.People, "people WHERE id = ANY(%s)"},
		{a.Tokens, "tokens WHERE id = ANY(%s) FOR UPDATE"},
		{a.Links, "links WHERE id = ANY(%s) AND used_at IS NULL FOR UPDATE"},
		{a.Targets, "targets WHERE id = ANY(%s) AND (site_id = $1 OR shared) FOR KEY SHARE"},
		{a.Targets, "devices WHERE id = ANY(%s) AND site_id = $1 FOR KEY SHARE"},
		{a.Plans, "plans WHERE id = ANY(%s) AND site_id = $1 FOR KEY SHARE"},
		{a.SitePlans, "site_plans WHERE id = ANY(%s) AND site_id = $1 FOR KEY SHARE"},
		{a.Runs, "runs WHERE id = ANY(%s) AND site_id = $1 FOR KEY SHARE"},
		{a.SignIns, "sign_ins WHERE id = ANY(%s) FOR KEY SHARE"},
		{a.AnySite, "devices WHERE id = ANY(%s) FOR KEY SHARE"},
	} {
		if len(x.ids) == 0 {
			continue
		}
		wanted, args = append(wanted, x.ids...), append(args, act.Distinct(x.ids))
		name := fmt.Sprint("held", len(args))
		query := fmt.Sprintf(x.query, fmt.Sprint("$", len(args)))
		if s.far != nil { // to lock a row takes the right to change it
			query = strings.TrimSuffix(query, " FOR KEY SHARE")
		}
		parts = append(parts, name+" AS (SELECT id FROM "+query+")")
		names = append(names, "SELECT id FROM "+name)
	}
	if len(parts) == 0 {
		return nil
	}
	var ids []uuid.UUID
	query := "WITH arguments AS (SELECT $1::uuid, $2::uuid, $3::boolean), " + strings.Join(parts, ", ") + " " +
		strings.Join(names, " UNION ALL ")
	if err := s.on(ctx).SelectContext(ctx, &ids, query, args...); err != nil {
		return err
	}
	held := map[uuid.UUID]bool{}
	for _, id := range ids {
		held[id] = true
	}
	return missing(wanted, held)
}

func onlyID(id uuid.UUID) []uuid.UUID {
	if id == uuid.Nil {
		return nil
	}
	return []uuid.UUID{id}
}

// missing is an *act.MissingError where something wanted is not had.
func missing(wanted []uuid.UUID, had map[uuid.UUID]bool) error {
	var gone []uuid.UUID
	told := map[uuid.UUID]bool{}
	for _, id := range wanted {
		if !had[id] && !told[id] {
			told[id] = true
			gone = append(gone, id)
		}
	}
	if len(gone) > 0 {
		return &act.MissingError{IDs: gone}
	}
	return nil
}

// SiteOf completes an act that names no site by that of its first device or run.
func (s Acts) SiteOf(ctx context.Context, a act.About) (act.About, error) {
	var err error
	switch {
	case a.Site != uuid.Nil:
	case len(a.Devices) > 0:
		err = s.on(ctx).GetContext(ctx, &a.Site, "SELECT site_id FROM devices WHERE id = $1", a.Devices[0])
	case len(a.Runs) > 0:
		err = s.on(ctx).GetContext(ctx, &a.Site, "SELECT site_id FROM runs WHERE id = $1", a.Runs[0])
	}
	return a, notFoundIfNone(err)
}

// Facts returns what an act is decided by, but the states of its devices: each kind of thing is asked for in one query. The error is an
// *act.MissingError where something is not of the act's site. A device of the site that is named as a target and takes no cameras is there,
// and is not among the targets.
func (s Acts) Facts(ctx context.Context, a act.About) (act.Facts, error) {
	f := act.Facts{Devices: map[uuid.UUID]*latch.Device{}, Targets: map[uuid.UUID]act.Target{}, SignIns: map[uuid.UUID]act.SignIn{},
		Busy: map[uuid.UUID]act.Busy{}}
	if a.Site != uuid.Nil {
		site, err := s.Sites.Get(ctx, a.Site)
		if err != nil {
			return f, err
		}
		f.Site = act.Site{ID: site.ID, Name: site.Name, Ranges: site.Ranges, Network: site.Network}
	}
	had := map[uuid.UUID]bool{}
	for _, load := range []func(context.Context, act.About, *act.Facts, map[uuid.UUID]bool) error{
		s.namesOfDevices, s.targetFacts, s.signInFacts, s.titles, s.planNames,
		s.intakeNames, s.wantedSlots, s.sweepUnderWay, s.peopleFacts, s.tokenFacts, s.servingFacts} {
		if err := load(ctx, a, &f, had); err != nil {
			return f, err
		}
	}
	var wanted []uuid.UUID
	for _, ids := range [][]uuid.UUID{a.Devices, a.Targets, a.Plans, a.Runs, a.SignIns, a.Books, a.People, a.Links, a.Tokens,
		a.SitePlans} {
		wanted = append(wanted, ids...)
	}
	return f, missing(wanted, had)
}

// namesOfDevices reads devices without their states. Their title is the name given, else the address.
func (s Acts) namesOfDevices(ctx context.Context, a act.About, f *act.Facts, had map[uuid.UUID]bool) error {
	if len(a.Devices) == 0 {
		return nil
	}
	var rows []deviceAtWork
	query, args := "SELECT "+deviceColumns+" FROM devices", []any{a.Devices, a.Site}
	if a.Doing != "" {
		query, args = "SELECT "+deviceColumns+", work_run, work_by, work_since FROM devices"+atWork, append(args, a.Doing)
	}
	if err := s.on(ctx).SelectContext(ctx, &rows, query+" WHERE id = ANY($1) AND site_id = $2", args...); err != nil {
		return err
	}
	slices.SortFunc(rows, func(a, b deviceAtWork) int { return ByAddress(&a.Device, &b.Device) })
	for i := range rows {
		d := &rows[i]
		had[d.ID] = true
		f.Order = append(f.Order, d.ID)
		f.Devices[d.ID] = d.Latch()
		if d.Run.Valid {
			f.Busy[d.ID] = act.Busy{Run: d.Run.String, By: d.By.String, Since: d.Since.Time}
		}
	}
	return nil
}

// deviceAtWork is a device with the run in which the command of a name waits for it or is carried out on it, where there is one.
type deviceAtWork struct {
	Device
	Run   sql.NullString `db:"work_run"`
	By    sql.NullString `db:"work_by"`
	Since sql.NullTime   `db:"work_since"`
}

// atWork joins that run to devices; $3 is the command.
const atWork = ` LEFT JOIN (SELECT DISTINCT ON (j.args->>'device') (j.args->>'device')::uuid AS work_device, r.title AS work_run,
		r.person AS work_by, r.created_at AS work_since FROM river_job j JOIN runs r ON r.id::text = j.args->>'run'
		WHERE j.kind = 'device' AND j.args->'do' ? $3 AND j.state IN ` + stillToDo + `
		ORDER BY j.args->>'device', r.created_at DESC) w ON w.work_device = devices.id`

// targetFacts reads targets. A recorder that nothing was put onto yet is a target as well: it is a device that takes cameras.
func (s Acts) targetFacts(ctx context.Context, a act.About, f *act.Facts, had map[uuid.UUID]bool) error {
	if len(a.Targets) == 0 && !a.AllTargets {
		return nil
	}
	var rows []Target
	if err := s.on(ctx).SelectContext(ctx, &rows,
		"SELECT "+targetColumns+" FROM targets WHERE (id = ANY($1) OR $3) AND (site_id = $2 OR shared) "+
			"ORDER BY created_at, id", a.Targets, a.Site, a.AllTargets); err != nil {
		return err
	}
	books, err := s.Shelf.Intakes(ctx)
	if err != nil {
		return err
	}
	var recorders []uuid.UUID
	for i := range rows {
		t := &rows[i]
		out := act.Target{Target: latchTarget(*t, books), Site: t.Site, Shared: t.Shared, Device: t.Device, Pin: t.Pin}
		if t.Silent != nil {
			out.SilentSince = *t.Silent
		}
		if t.Layout != nil {
			out.Layout = &t.Layout.V
		}
		if t.About != nil {
			out.About = &t.About.V
		}
		if t.Device != nil {
			recorders = append(recorders, *t.Device)
		}
		f.Targets[t.ID], had[t.ID] = out, true
		f.TargetOrder = append(f.TargetOrder, t.ID)
	}
	for _, id := range a.Targets {
		if !had[id] {
			recorders = append(recorders, id)
		}
	}
	return s.recorderFacts(ctx, a, f, had, recorders)
}

// TargetState returns what is known of a target, as it is agreed on and compared.
func (s Acts) TargetState(ctx context.Context, site, id uuid.UUID) (baseline.Target, error) {
	f, err := s.Facts(ctx, act.About{Site: site, Targets: []uuid.UUID{id}})
	return f.Targets[id].State(), err
}

// recorderFacts adds what is known of targets that are devices.
func (s Acts) recorderFacts(ctx context.Context, a act.About, f *act.Facts, had map[uuid.UUID]bool, ids []uuid.UUID) error {
	if len(ids) == 0 {
		return nil
	}
	devices, err := s.Devices.Of(ctx, ids)
	if err != nil {
		return err
	}
	for i := range devices {
		d := &devices[i]
		t, known := f.Targets[d.ID]
		if !known {
			if d.Site != a.Site || d.Status.Device.Kind != "recorder" {
				continue
			}
			t = act.Target{Target: latch.Target{ID: d.ID, Kind: onvifrecorder.Kind}, Site: d.Site, Device: &d.ID}
			f.TargetOrder = append(f.TargetOrder, d.ID)
		}
		if t.Name == "" {
			t.Name = d.Title()
		}
		about := d.Status.AsTarget()
		t.About = &about
		t.Closed = d.Status.Latch(latch.SignedIn).State != latch.Open
		f.Targets[d.ID], had[d.ID] = t, true
	}
	return nil
}

func (s Acts) signInFacts(ctx context.Context, a act.About, f *act.Facts, had map[uuid.UUID]bool) error {
	if len(a.SignIns) == 0 {
		return nil
	}
	var rows []struct {
		ID    uuid.UUID `db:"id"`
		Label string    `db:"label"`
		User  string    `db:"user_name"`
		Site  uuid.UUID `db:"site"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT id, label, user_name, "+
		"COALESCE(site_id, '00000000-0000-0000-0000-000000000000') AS site FROM sign_ins WHERE id = ANY($1)", a.SignIns)
	for _, r := range rows {
		f.SignIns[r.ID], had[r.ID] = act.SignIn(r), true
	}
	return err
}

// titles reads how runs and books are called.
func (s Acts) titles(ctx context.Context, a act.About, f *act.Facts, had map[uuid.UUID]bool) error {
	for _, x := range []struct {
		ids   []uuid.UUID
		into  *map[uuid.UUID]string
		query string
	}{
		{a.SitePlans, &f.SitePlans, "SELECT id, name AS title FROM site_plans WHERE id = ANY($1) AND site_id = $2"},
		{a.Runs, &f.Runs, "SELECT id, title FROM runs WHERE id = ANY($1) AND site_id = $2"},
		{a.Books, &f.Books, "SELECT id, name AS title FROM path_books WHERE id = ANY($1) AND $2::uuid IS NOT NULL " +
			"UNION ALL SELECT id, name FROM books WHERE id = ANY($1)"},
	} {
		if len(x.ids) == 0 {
			continue
		}
		var rows []struct {
			ID    uuid.UUID `db:"id"`
			Title string    `db:"title"`
		}
		if err := s.on(ctx).SelectContext(ctx, &rows, x.query, x.ids, a.Site); err != nil {
			return err
		}
		*x.into = map[uuid.UUID]string{}
		for _, r := range rows {
			(*x.into)[r.ID], had[r.ID] = r.Title, true
		}
	}
	return nil
}

// planNames reads whose plans are.
func (s Acts) planNames(ctx context.Context, a act.About, f *act.Facts, had map[uuid.UUID]bool) error {
	if len(a.Plans) == 0 {
		return nil
	}
	var rows []struct {
		ID    uuid.UUID    `db:"id"`
		Owner tuning.Owner `db:"owner"`
		Name  string       `db:"name"`
	}
	err := s.on(ctx).SelectContext(ctx, &rows, "SELECT id, owner, name FROM plans WHERE id = ANY($1) AND site_id = $2", a.Plans, a.Site)
	f.Plans = map[uuid.UUID]act.PlanName{}
	for _, r := range rows {
		f.Plans[r.ID], had[r.ID] = act.PlanName{Owner: r.Owner, Name: r.Name}, true
	}
	return err
}

func (s Acts) intakeNames(ctx context.Context, a act.About, f *act.Facts, _ map[uuid.UUID]bool) error {
	if !a.WithIntakes {
		return nil
	}
	books, err := s.Shelf.Intakes(ctx)
	for _, b := range books {
		for _, x := range b.Intakes {
			f.Intakes = append(f.Intakes, x.Name)
		}
	}
	return err
}

func (s Acts) sweepUnderWay(ctx context.Context, a act.About, f *act.Facts, _ map[uuid.UUID]bool) error {
	if !a.WithSweep {
		return nil
	}
	err := s.on(ctx).GetContext(ctx, &f.Sweep, `SELECT r.id FROM runs r JOIN river_job j ON j.args->>'run' = r.id::text
		WHERE r.site_id = $1 AND r.kind = 'sweep' AND r.stopped_at IS NULL AND j.state IN `+stillToDo+`
		ORDER BY r.created_at DESC LIMIT 1`, a.Site)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

// Write adds an act's line to the record. Until the transaction of ctx ends, everybody else who adds one waits.
func (s Acts) Write(ctx context.Context, by act.Person, a act.About, l act.Line) error {
	site := a.Site
	if l.Site != uuid.Nil { // it is made by this act
		site = l.Site
	}
	device := uuid.Nil
	if len(l.Devices) == 1 {
		device = l.Devices[0]
	}
	_, err := s.on(ctx).ExecContext(ctx,
		`INSERT INTO audit (id, person_id, person, token, act, subject, before, after, site_id, site, device_id, device, devices, target_id,
			target) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)`,
		newID(), orNull(by.ID), by.Name, noNUL(by.Token), a.Name, noNUL(l.Subject), noNUL(l.Before), noNUL(l.After), orNull(site),
		noNUL(l.SiteName), orNull(device), noNUL(l.DeviceName), notNil(l.Devices), orNull(l.Target), noNUL(l.TargetName))
	return err
}

// orNull returns an ID as the database has it: NULL for the nil UUID.
func orNull(id uuid.UUID) uuid.NullUUID { return uuid.NullUUID{UUID: id, Valid: id != uuid.Nil} }

// noNUL returns a text without NUL, which PostgreSQL does not take.
func noNUL(text string) string { return strings.ReplaceAll(text, "\x00", "") }

// Keep writes one thing that an act wants kept. It returns what was made by that, or nil.
func (s Acts) Keep(ctx context.Context, by act.Person, a act.About, what any) (any, error) {
	switch x := what.(type) {
	case act.Found:
		return nil, s.Devices.Record(ctx, &Device{ID: x.Device, Site: a.Site}, nil, Finding{Subject: x.Subject, Body: x.Body})
	case act.Unchanged:
		return nil, s.unchanged(ctx, a.Site, x)
	case act.NewSignIns:
		return s.SignIns.AddAll(ctx, x...)
	case act.OwnPlans:
		return nil, s.Plans.SetOwn(ctx, x)
	case act.Wishes:
		return nil, s.Targets.Wish(ctx, x)
	case act.Agreed:
		return nil, s.Targets.Agree(ctx, by, x)
	case act.NewFeed:
		return nil, s.Targets.OpenFeed(ctx, a.Site, x.Target)
	case act.Readable:
		return nil, s.Consents.Agree(ctx, by, a.Site, x)
	case act.NoReadable:
		return nil, s.Consents.Disagree(ctx, a.Site, x)
	case act.PutTarget:
		return nil, s.Targets.Put(ctx, a.Site, x)
	case act.LayOut:
		return nil, s.Sites.LayOut(ctx, a.Site, x.Network)
	}
	return s.keepAct(ctx, by, a, what)
}

// keepAct is Keep for acts that say themselves what they want kept.
func (s Acts) keepAct(ctx context.Context, by act.Person, a act.About, what any) (any, error) {
	switch x := what.(type) {
	case act.Rename:
		return nil, s.Devices.Rename(ctx, x.Device, x.Name)
	case act.Forget:
		return s.Devices.Forget(ctx, a.Site, x.Devices)
	case act.SetRoles:
		return nil, s.Devices.SetRoles(ctx, x.Device, x.Roles)
	case act.Consent:
		return nil, s.Consents.Give(ctx, by, x.Device, x.Addr, x.Reason)
	case act.WithdrawConsent:
		return nil, s.Consents.Withdraw(ctx, x.Device)
	case act.PutPlan:
		return s.Plans.Put(ctx, a.Site, Plan{Site: a.Site, Owner: x.Owner, Name: x.Name, Plan: x.Plan, Devices: x.Devices})
	case act.DeletePlan:
		return nil, s.Plans.Delete(ctx, a.Site, x.Plan)
	case act.PutTellRule:
		return nil, s.Tellings.Put(ctx, x)
	case act.DeleteTellRule:
		return nil, s.Tellings.Delete(ctx, x.Site, x.ID)
	case act.TestTelling:
		return nil, s.Tellings.test(ctx, x)
	case act.LookNow:
		return nil, s.Watched.Hurry(ctx, x.Site, time.Now())
	case act.PutRelay:
		return nil, s.Relays.put(ctx, by, x)
	case act.DeleteRelay:
		return nil, s.Relays.remove(ctx, x)
	case act.PausePush:
		return nil, s.Relays.pause(ctx, x)
	case act.StopPushes:
		return nil, s.Relays.stopAll(ctx, x.Site)
	case act.PairWorker:
		return nil, s.Paired.pair(ctx, by, x)
	case act.RevokeWorker:
		return nil, s.Paired.revoke(ctx, by, x)
	case act.GiveSites:
		return nil, s.Paired.give(ctx, x)
	case act.UpdateWorker:
		return nil, s.Programs.tell(ctx, by, x)
	case act.RotateSiteKey:
		_, err := s.RotateSite(ctx, x.Site)
		return nil, err
	case act.MakeBackup:
		return nil, s.Upkeep.WantBackup(ctx)
	case act.SetKeeping:
		return nil, s.Watched.SetKeeping(ctx, x.Rule)
	case act.SetRounds:
		return nil, s.Sites.SetRounds(ctx, by, x.Site, x.Rule)
	case act.AcceptDrifts:
		if err := s.Baselines.Accept(ctx, by, x); err != nil {
			return nil, err
		}
		return nil, s.Drifts.End(ctx, x.Site, x.Accepted())
	case act.NewViews:
		return nil, s.agreeOnViews(ctx, a.Site, x.Devices)
	case act.PutOffDrifts:
		return nil, s.Drifts.PutOff(ctx, x.Site, x.IDs(), x.Until, by.Name)
	case act.ReplaceDevice:
		if err := s.replaceAgreed(ctx, by, x); err != nil {
			return nil, err
		}
		return nil, s.Devices.Replace(ctx, x.Site, x.Old, x.New)
	case act.OrderList:
		return nil, s.Targets.Order(ctx, x.Target, x.Devices)
	case act.ImportList:
		return nil, s.Sites.Expect(ctx, a.Site, x.Rows)
	case act.WithdrawForTarget:
		return nil, s.Targets.Disagree(ctx, x.Target, x.Secret)
	case act.TakeTargetCertificate:
		return nil, s.Targets.TakeCertificate(ctx, x.Target, x.SHA256)
	case act.DeleteTarget:
		return nil, s.Targets.Delete(ctx, a.Site, x.Target)
	case act.SetIntake:
		return nil, s.Targets.SetIntake(ctx, a.Site, x.Target, x.Name)
	case act.CloseFeed:
		return nil, s.Targets.CloseFeed(ctx, a.Site, x.Target)
	}
	return s.keepOnPlan(ctx, by, a, what)
}

// keepOnPlan is Keep for acts on site plans.
func (s Acts) keepOnPlan(ctx context.Context, by act.Person, a act.About, what any) (any, error) {
	switch x := what.(type) {
	case act.AddSitePlan:
		return nil, s.SitePlans.Add(ctx, x)
	case act.RenameSitePlan:
		return nil, s.SitePlans.Rename(ctx, x)
	case act.RemoveSitePlan:
		return nil, s.SitePlans.Remove(ctx, x)
	case act.MarkOnSitePlan:
		return nil, s.SitePlans.Mark(ctx, x)
	case act.TakeOffSitePlan:
		return nil, s.SitePlans.TakeOff(ctx, x)
	}
	return s.keepHandover(ctx, by, what)
}

// keepHandover is Keep for acts at the handover of a site.
func (s Acts) keepHandover(ctx context.Context, by act.Person, what any) (any, error) {
	switch x := what.(type) {
	case act.WaiveFinding:
		return nil, s.Handovers.Waive(ctx, by, x)
	case act.WithdrawWaiver:
		return nil, s.Handovers.Unwaive(ctx, x)
	case act.AttestItem:
		return nil, s.Handovers.Attest(ctx, by, x)
	case act.PutChecklist:
		return nil, s.Handovers.PutChecklist(ctx, x)
	case act.SetFirm:
		return nil, s.Handovers.SetFirm(ctx, x)
	case act.MakeHandover:
		return nil, s.Handovers.Begin(ctx, by, x)
	case act.HandoverMade:
		return nil, s.Handovers.Complete(ctx, x)
	case act.OpenPack:
		return nil, s.openPack(ctx, by, x)
	case act.SignHandover:
		return nil, s.Handovers.Sign(ctx, by, x)
	}
	return s.keepWide(ctx, by, what)
}

// Merged is what came of a path book that was brought.
type Merged struct {
	Added     int
	Conflicts []recipe.Conflict // recipes of one name that differ; ours stayed
}

// keepWide is Keep for acts on the keyring, on sites and on books.
func (s Acts) keepWide(ctx context.Context, by act.Person, what any) (any, error) {
	switch x := what.(type) {
	case act.ChangeSignIn:
		return nil, s.SignIns.SetTerms(ctx, x.ID, x.Label, x.Terms)
	case act.OrderSignIns:
		return nil, s.SignIns.Order(ctx, x.IDs)
	case act.DeleteSignIn:
		return nil, s.SignIns.Delete(ctx, x.ID)
	case act.CreateSite:
		return nil, errors.Join(s.Sites.Make(ctx, x), s.People.giveSite(ctx, by, x.ID))
	case act.ChangeSite:
		return nil, s.Sites.Change(ctx, x)
	case act.DeleteSite:
		return nil, s.Sites.Delete(ctx, x.Site)
	case act.WatchSite:
		return nil, s.Sites.SetWatch(ctx, x.Site, x.On)
	case act.EndStorms:
		return nil, s.Sites.EndStorms(ctx, x.Site)
	case act.TakeBaseline:
		return nil, s.Baselines.Take(ctx, by, x)
	case act.PutOutside:
		return nil, s.Sites.SetOutside(ctx, x.Site, x.Form)
	case act.PutCosts:
		return nil, s.Sites.SetCosts(ctx, x.Site, x.Form)
	case act.BringBook:
		if x.Kind != act.PathBooks {
			return s.Shelf.Put(ctx, x.Kind, x.Name, x.YAML)
		}
		b, err := recipe.ReadBook([]byte(x.YAML))
		if err != nil {
			return nil, err
		}
		added, conflicts, err := s.Books.Merge(ctx, b)
		return Merged{len(added), conflicts}, err
	case act.DeleteBook:
		if x.Kind != act.PathBooks {
			return nil, s.Shelf.Delete(ctx, x.Kind, x.ID)
		}
		return nil, s.Books.Delete(ctx, x.ID)
	}
	return nil, s.keepPerson(ctx, by, what)
}
