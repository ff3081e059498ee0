package jobs

import (
	"context"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/store"
)

// A Desk carries acts out. Every change that a person or a program makes goes over it.
type Desk struct {
	Store *store.Store
	Queue *Queue
	// States returns devices of a site with their states, by address. nil reads and derives them anew, which is slow where there are many.
	States func(ctx context.Context, site uuid.UUID, devices []uuid.UUID) ([]*latch.Device, error)
	// Now is the clock; nil for time.Now.
	Now func() time.Time
}

// Done is what came of an act.
type Done struct {
	Run  *store.Run // that it began; nil for none
	Left []act.Left // the devices that it left out
	// Slots are those of targets that cameras were planned into.
	Slots []act.PlannedSlot
	// Names are those that it gave.
	Names []act.Named
	Line  act.Line
	// Results are what came of each thing that was kept, in the order in which the act has them; nil for most.
	Results []any
}

// Do carries an act out for a person, in one transaction: whether the person may, whether all is of one site, what is kept, the line in the
// record, and the run with its commands. Its error is an *act.Refusal, act.ErrForbidden, an *act.MissingError or one of the store; nothing
// has changed then.
func (d Desk) Do(ctx context.Context, by act.Person, a act.Act) (Done, error) {
	about, out, err := d.decide(ctx, by, a)
	if err != nil {
		return Done{}, err
	}
	acts := d.Store.Acts()
	done := Done{Left: out.Left, Slots: out.Slots, Names: out.Names, Line: out.Line}
	err = acts.Together(ctx, func(ctx context.Context) error {
		if err := acts.Confirm(ctx, by, about); err != nil {
			return err
		}
		return d.carryOut(ctx, by, about, out, &done)
	})
	return done, err
}

// Weigh says what would follow from an act if it were done now, and does nothing. Its error is that of Do.
func (d Desk) Weigh(ctx context.Context, by act.Person, a act.Act) (act.Outcome, error) {
	_, out, err := d.decide(ctx, by, a)
	return out, err
}

// decide reads the facts that an act is decided by and has it decide.
func (d Desk) decide(ctx context.Context, by act.Person, a act.Act) (act.About, act.Outcome, error) {
	acts := d.Store.Acts()
	about, err := acts.SiteOf(ctx, a.About())
	if err != nil {
		return about, act.Outcome{}, err
	}
	if about.Site != uuid.Nil && !by.Given(about.Site) {
		return about, act.Outcome{}, store.ErrNotFound // it does not exist for this person
	}
	if !by.Role.May(about.Right) {
		return about, act.Outcome{}, act.ErrForbidden
	}
	if about.InPerson && by.TokenID != uuid.Nil {
		return about, act.Outcome{}, act.InPersonOnly()
	}
	facts, err := acts.Facts(ctx, about)
	if err != nil {
		return about, act.Outcome{}, err
	}
	if err := d.allGiven(ctx, by, about, facts); err != nil {
		return about, act.Outcome{}, err
	}
	facts.By, facts.Now = by, time.Now()
	if d.Now != nil {
		facts.Now = d.Now()
	}
	if err := facts.HasTargets(about.Targets); err != nil {
		return about, act.Outcome{}, err
	}
	if about.WithStates {
		if err := d.addStates(ctx, about, &facts); err != nil {
			return about, act.Outcome{}, err
		}
	}
	out, err := a.Decide(facts)
	out.Line = facts.Name(out.Line)
	return about, out, err
}

// allGiven makes sure that what an act names beside its site is of sites that exist for the person: sign-ins for one site, and devices of
// any site that a sign-in is for.
func (d Desk) allGiven(ctx context.Context, by act.Person, about act.About, f act.Facts) error {
	if by.EverySite() {
		return nil
	}
	for _, k := range f.SignIns {
		if k.Site != uuid.Nil && !by.Given(k.Site) {
			return store.ErrNotFound
		}
	}
	for _, device := range about.AnySite {
		site, err := d.Store.Sites.Of(ctx, store.ThingDevice, device)
		if err != nil {
			return err
		}
		if !by.Given(site) {
			return store.ErrNotFound
		}
	}
	return nil
}

// carryOut writes an outcome, within the transaction of ctx.
func (d Desk) carryOut(ctx context.Context, by act.Person, about act.About, out act.Outcome, done *Done) error {
	for _, what := range out.Keep {
		result, err := d.keep(ctx, by, about, what)
		if err != nil {
			return err
		}
		done.Results = append(done.Results, result)
	}
	if out.Join != uuid.Nil {
		run, err := d.Store.Runs.Get(ctx, out.Join)
		if err != nil {
			return err
		}
		done.Run = &run
	}
	if out.Work != nil {
		work := *out.Work
		work.By = by.Name
		run, err := d.Queue.Begin(ctx, about.Site, work)
		if err != nil {
			return err
		}
		done.Run = &run
	}
	// The line comes last: from here on until this is kept, everybody else's line waits.
	return d.Store.Acts().Write(ctx, by, about, out.Line)
}

// keep writes one thing that an act wants kept. What concerns the queue is done there; all else is the store's.
func (d Desk) keep(ctx context.Context, by act.Person, about act.About, what any) (any, error) {
	switch x := what.(type) {
	case act.Stop:
		return nil, d.Queue.Stop(ctx, x.Run)
	case act.DeleteSite:
		if err := d.Queue.DropSite(ctx, x.Site); err != nil {
			return nil, err
		}
	}
	return d.Store.Acts().Keep(ctx, by, about, what)
}

// addStates adds the states of the devices to the facts.
func (d Desk) addStates(ctx context.Context, about act.About, f *act.Facts) error {
	states := d.States
	if states == nil {
		states = d.derive
	}
	list, err := states(ctx, about.Site, about.Devices)
	for _, x := range list {
		f.Devices[x.ID] = x
	}
	return err
}

func (d Desk) derive(ctx context.Context, _ uuid.UUID, devices []uuid.UUID) ([]*latch.Device, error) {
	list, err := d.Store.Devices.Of(ctx, devices)
	out := make([]*latch.Device, len(list))
	for i := range list {
		out[i] = list[i].Latch()
	}
	return out, err
}
