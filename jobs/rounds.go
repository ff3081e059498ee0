package jobs

import (
	"cmp"
	"context"
	"errors"
	"reflect"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/watchround"
	"unlatch/core/ground/address"
	"unlatch/core/wire/target"
	"unlatch/core/work/bringup"
	"unlatch/store"
)

// Tuning of the rounds.
const (
	claimEvery = time.Second      // how often looks that are due are taken
	enrolEvery = 10 * time.Second // how often what is to be watched is compared with what was agreed on
	looksAtOne = 24               // looks at once in one worker
	busyLater  = 30 * time.Second // a device that is worked on is looked at so much later
	doubtLater = 20 * time.Second // what is not settled by one look is looked at again so much later
	lookBudget = 4 * time.Minute  // for one look
)

// rounds looks at what is watched, in turn. It runs in every worker; a look that is due is claimed by one of them.
type rounds struct {
	env   *env
	reach reach
	// slots bounds the looks at once.
	slots chan struct{}
	// rules are those of the sites that are watched from here, and by whose word.
	rules map[uuid.UUID]ruleOf
	// enrolled is when what is to be watched was last compared, and as what each site's was.
	enrolled time.Time
	known    map[uuid.UUID]enrolment
	// running are the looks under way.
	running sync.WaitGroup
}

// An enrolment is what was to be watched at a site when that was last compared.
type enrolment struct {
	agreed *drift.Agreed
	rule   watchround.WatchRule
	at     time.Time
}

type ruleOf struct {
	watchround.WatchRule
	by uuid.UUID
}

func newRounds(e *env, sites reach) *rounds {
	return &rounds{env: e, reach: sites, slots: make(chan struct{}, looksAtOne)}
}

// run looks until ctx ends. Trouble with the database is waited out: what was not looked at meanwhile is told as that.
func (r *rounds) run(ctx context.Context) {
	defer r.running.Wait()
	for {
		if err := r.turn(ctx); err != nil && ctx.Err() == nil {
			r.env.log.WarnContext(ctx, "the rounds cannot go on", "err", err)
		}
		r.env.forget(ctx)
		select {
		case <-ctx.Done():
			return
		case <-time.After(cmp.Or(r.env.hooks.RoundsEvery, claimEvery)):
		}
	}
}

// turn takes the looks that are due and begins them.
func (r *rounds) turn(ctx context.Context) error {
	now := time.Now().UTC()
	if r.rules == nil || now.Sub(r.enrolled) > enrolEvery || now.Before(r.enrolled) || r.env.hooks.RoundsEvery > 0 {
		if err := r.enrol(ctx, now); err != nil {
			return err
		}
		r.enrolled = now
	}
	// A look that is claimed without a lease would be lost: it is claimed when there is a lease again.
	if _, held := r.env.held(); !held || len(r.rules) == 0 {
		return nil
	}
	sites := make([]uuid.UUID, 0, len(r.rules))
	for id := range r.rules {
		sites = append(sites, id)
	}
	free := cap(r.slots) - len(r.slots)
	if free == 0 {
		return r.answered(r.env.store.Ping(ctx))
	}
	if err := r.fileAway(ctx); err != nil {
		return err
	}
	turns, err := r.env.store.Watched.Claim(ctx, sites, now, free)
	if r.answered(err) != nil {
		return err
	}
	for _, t := range turns {
		r.slots <- struct{}{}
		rule := r.rules[t.Site]
		r.running.Go(func() {
			defer func() { <-r.slots }()
			defer r.env.survive(t.Thing)
			ctx, done := r.env.leased(ctx)
			defer done()
			ctx, cancel := context.WithTimeout(ctx, lookBudget)
			defer cancel()
			if err := r.env.lookInRound(ctx, t, rule); err != nil {
				r.cutShort(ctx, t, err)
			}
		})
	}
	return nil
}

// answered notes that the database has answered, where err is nil, and returns err.
func (r *rounds) answered(err error) error {
	if err == nil && r.env.away != nil {
		r.env.away.heard()
	}
	return err
}

// fileAway files what was seen while the line was cut, before anything is looked at anew.
func (r *rounds) fileAway(ctx context.Context) error {
	if r.env.away == nil {
		return nil
	}
	ctx, done := r.env.leased(ctx)
	defer done()
	return r.env.away.file(ctx)
}

// cutShort has a look repeated soon if the database or this process cut it off, and not what was looked at: a round may last a day. A
// worker that stops leaves the look to the next round.
func (r *rounds) cutShort(ctx context.Context, t store.Turn, err error) {
	fenced := errors.Is(context.Cause(ctx), store.ErrFenced)
	if ctx.Err() != nil && !fenced {
		return
	}
	r.env.log.WarnContext(ctx, "a look in a round did not come to its end", "thing", t.Thing, "err", err)
	if fenced || store.Away(err) || errors.Is(err, store.ErrLockLost) {
		keep, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		r.env.store.Keep(keep, "that a look is to be repeated", func(ctx context.Context) error { return r.env.lookSoon(ctx, t) })
	}
}

// lookSoon has a camera or target looked at again before its round has passed, because this look could not settle how it is.
func (e *env) lookSoon(ctx context.Context, t store.Turn) error {
	return e.store.Watched.Again(ctx, t.Thing, time.Now().Add(cmp.Or(e.hooks.DoubtLater, doubtLater)), false)
}

// survive keeps a fault in one look from ending the whole worker.
func (e *env) survive(thing uuid.UUID) {
	if fault := recover(); fault != nil {
		e.log.Error("a look in a round came upon a fault", "thing", thing, "fault", fault, "stack", string(debug.Stack()))
	}
}

// enrol brings what is watched in step with the rules of the sites and with what was agreed on.
func (r *rounds) enrol(ctx context.Context, now time.Time) error {
	sites, err := r.env.store.Sites.List(ctx)
	if err != nil {
		return err
	}
	rules := map[uuid.UUID]ruleOf{}
	for _, s := range sites {
		if !r.reach.includes(s) {
			continue
		}
		rule, by, err := r.env.store.Sites.Rounds(ctx, s.ID)
		if err != nil {
			return err
		}
		var agreed *drift.Agreed
		if rule.On {
			if agreed, err = r.env.agreedAt(ctx, s.ID); err != nil {
				return err
			}
			if agreed != nil {
				rules[s.ID] = ruleOf{rule, by}
			}
		}
		if err := r.enrolSite(ctx, s.ID, enrolment{agreed, rule, now}); err != nil {
			return err
		}
	}
	r.rules = rules
	return nil
}

// enrolAnew is how often a site is enrolled again although no event says that it has changed: devices may have been forgotten.
const enrolAnew = 5 * time.Minute

// enrolSite updates what is watched at one site if its rule or its agreed state has changed since the last time.
func (r *rounds) enrolSite(ctx context.Context, site uuid.UUID, is enrolment) error {
	was, known := r.known[site]
	if known && was.agreed == is.agreed && reflect.DeepEqual(was.rule, is.rule) && is.at.Sub(was.at) < enrolAnew && !is.at.Before(was.at) {
		return nil
	}
	var devices, targets []uuid.UUID
	if is.agreed != nil {
		devices, targets = is.agreed.Devices(), is.agreed.Targets()
	}
	if err := r.env.store.Watched.Enrol(ctx, site, is.rule, devices, targets, is.at); err != nil {
		return err
	}
	if r.known == nil {
		r.known = map[uuid.UUID]enrolment{}
	}
	r.known[site] = is
	return nil
}

// lookInRound looks at one camera or target and keeps the result.
func (e *env) lookInRound(ctx context.Context, t store.Turn, rule ruleOf) error {
	alone, look := t.Thing, e.lookAtTargetInRound // who puts a camera onto a target holds the target meanwhile
	if !t.Target {
		d, err := e.store.Devices.Get(ctx, t.Thing)
		if err != nil {
			return err
		}
		if d.Via != nil { // a recorder has its channels looked at one after the other
			alone = *d.Via
		}
		look = func(ctx context.Context, t store.Turn, rule ruleOf) error {
			return e.lookAtDeviceInRound(ctx, t, d, rule)
		}
	}
	free, err := e.store.TryLocked(ctx, alone, func(ctx context.Context) error { return look(ctx, t, rule) })
	if err == nil && !free { // somebody works on it
		err = e.store.Watched.Again(ctx, t.Thing, time.Now().Add(busyLater), false)
	}
	return err
}

func (e *env) lookAtDeviceInRound(ctx context.Context, t store.Turn, d *store.Device, rule ruleOf) error {
	began := time.Now()
	job, err := e.roundJob(ctx, d)
	if err != nil {
		return err
	}
	defer job.Close()
	look, err := job.LookInRound(ctx, t.Full)
	if err != nil {
		return err
	}
	at := time.Now().UTC()
	found, err := e.settle(ctx, t.Thing, timeOf(t.Looked), at)
	if err != nil {
		return err
	}
	if err := e.store.Watched.Measure(ctx, t.Thing, look.Measures, at); err != nil {
		return err
	}
	if e.away != nil {
		e.away.hold(ctx, t, look.News)
	}
	if err := e.done(ctx, t, job, lookResult{state: stateOf(look, found), full: look.Full, began: began}); err != nil {
		return err
	}
	return e.mendByItself(ctx, t.Site, t.Thing, rule.WatchRule, rule.by)
}

// stateOf says how a camera stands by a look, and by how it differs from what was agreed on.
func stateOf(look bringup.Look, found []drift.Drift) watchround.State {
	switch {
	case look.Silent:
		return watchround.Down
	case len(found) > 0:
		return watchround.Changed
	}
	return watchround.Up
}

// roundJob prepares a look: it is nobody's work, sends no sign-in that has not opened the device before, and counts what it costs.
func (e *env) roundJob(ctx context.Context, d *store.Device) (*deviceJob, error) {
	job, err := e.deviceJob(ctx, uuid.Nil, d)
	if err != nil {
		return nil, err
	}
	job.Unattended, job.OnlyKnown, job.OnlyNews = true, true, true
	job.Views = views{job}
	job.Guard.Count = &address.Count{}
	return job, nil
}

// A lookResult is what came of a look.
type lookResult struct {
	state watchround.State
	full  bool
	doubt int
	began time.Time
}

// done records that a look was made and what it cost.
func (e *env) done(ctx context.Context, t store.Turn, job *deviceJob, r lookResult) error {
	looked := store.Looked{At: time.Now().UTC(), Full: r.full, State: r.state, Doubt: r.doubt, Requests: job.Log().Requests(),
		Bytes: job.Guard.Count.Bytes(), Sessions: job.Guard.Count.Sessions(), Took: time.Since(r.began)}
	return e.store.Keep(ctx, "a look in a round", func(ctx context.Context) error { return e.store.Watched.Done(ctx, t, looked) })
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return t.UTC()
}

// lookAtTargetInRound asks a target once for all its slots. What it no longer holds is told after it was asked twice: one that restarts
// lists nothing for a while.
func (e *env) lookAtTargetInRound(ctx context.Context, t store.Turn, rule ruleOf) error {
	began := time.Now()
	x, err := e.store.Targets.Get(ctx, t.Thing)
	if err != nil {
		return err
	}
	d, err := e.deviceOfTarget(ctx, x)
	if err != nil {
		return err
	}
	job, err := e.roundJob(ctx, d)
	if err != nil {
		return err
	}
	defer job.Close()
	nameTarget(job, x)
	var told *toldSlots
	if act.Asked(x.Kind) {
		if told, err = e.slotsTold(ctx, job, t.Thing); err != nil {
			return err
		}
	}
	on, err := e.cameras(ctx, t.Thing)
	if err != nil {
		return err
	}
	if told != nil {
		if doubt := doubtOf(told, on, t); doubt > 0 && doubt <= patienceWith(told.Layout) {
			if err := e.lookSoon(ctx, t); err != nil {
				return err
			}
			return e.done(ctx, t, job, lookResult{state: watchround.Changed, doubt: doubt, began: began})
		}
		if err := e.heldBy(ctx, t, on, told, rule); err != nil {
			return err
		}
	}
	if t.Full && act.Asked(x.Kind) {
		if err := e.picturesInRound(ctx, t, on, rule); err != nil {
			return err
		}
	}
	found, err := e.settleTarget(ctx, t.Site, t.Thing, timeOf(t.Looked), time.Now().UTC())
	if err != nil {
		return err
	}
	state := watchround.Up
	for _, x := range found {
		if state = watchround.Changed; x.Cause == drift.TargetSilent {
			state = watchround.Down
			break
		}
	}
	return e.done(ctx, t, job, lookResult{state: state, full: t.Full, began: began})
}

// patienceWith returns how many looks in a row may find something missing before the next one tells it: one, or two if the target lists
// nothing at all, as it may while it starts.
func patienceWith(l target.Layout) int {
	if l.Count(target.Used) == 0 {
		return 2
	}
	return 1
}

// toldSlots are the slots that a target has told, and when it was asked for them, by the clock of the database.
type toldSlots struct {
	target.Layout
	asked time.Time
}

// slotsTold asks a target for its slots; it returns nil if the target has none or may not be asked.
func (e *env) slotsTold(ctx context.Context, job *deviceJob, id uuid.UUID) (*toldSlots, error) {
	asked, err := e.store.Now(ctx)
	if err != nil {
		return nil, err
	}
	layout, err := job.SlotsOf(ctx, id)
	if err != nil || layout == nil {
		return nil, err
	}
	return &toldSlots{*layout, asked}, nil
}

// doubtOf returns how many looks in a row, this one included, have found a camera missing from the target; 0 if none is missing.
func doubtOf(told *toldSlots, on []store.Device, t store.Turn) int {
	missing := slices.ContainsFunc(on, func(d store.Device) bool {
		p := d.Status.PlacementOn(t.Thing)
		return p != nil && p.ShownBy(told.asked) && !p.Untaken && told.Holding(p.Token, d.Latch().Identity()) != target.Holds
	})
	if !missing {
		return 0
	}
	return t.Doubt + 1
}

// cameras returns the devices that are wanted on a target.
func (e *env) cameras(ctx context.Context, on uuid.UUID) ([]store.Device, error) {
	ids, err := e.store.Targets.On(ctx, on)
	if err != nil {
		return nil, err
	}
	return e.store.Devices.Of(ctx, ids)
}

// heldBy records which cameras a target no longer holds, and which it holds again.
func (e *env) heldBy(ctx context.Context, t store.Turn, on []store.Device, told *toldSlots, rule ruleOf) error {
	for i := range on {
		p := on[i].Status.PlacementOn(t.Thing)
		if p == nil || p.Slot == "" {
			continue
		}
		job, err := e.roundJob(ctx, &on[i])
		if err != nil {
			return err
		}
		changed, err := job.HeldBy(ctx, t.Thing, told.Layout, told.asked)
		job.Close()
		if err != nil {
			return err
		}
		if !changed {
			continue
		}
		if err := e.afterChange(ctx, t, on[i].ID, rule); err != nil {
			return err
		}
	}
	return nil
}

// afterChange settles the drifts of a camera that a look at a target has told something of, and mends what is left to the watch.
func (e *env) afterChange(ctx context.Context, t store.Turn, device uuid.UUID, rule ruleOf) error {
	if _, err := e.settle(ctx, device, timeOf(t.Looked), time.Now().UTC()); err != nil {
		return err
	}
	return e.mendByItself(ctx, t.Site, device, rule.WatchRule, rule.by)
}

// picturesInRound asks a target for the picture of each camera that it holds.
func (e *env) picturesInRound(ctx context.Context, t store.Turn, on []store.Device, rule ruleOf) error {
	for i := range on {
		job, err := e.roundJob(ctx, &on[i])
		if err != nil {
			return err
		}
		err = job.Confirm(ctx, t.Thing)
		job.Close()
		if err != nil {
			return err
		}
		if err := e.afterChange(ctx, t, on[i].ID, rule); err != nil {
			return err
		}
	}
	return nil
}
