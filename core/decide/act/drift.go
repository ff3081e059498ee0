package act

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/command"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/watchround"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/tuning"
)

// SetRounds says how a site is watched. What the watch puts right by itself it does in the name of whoever has said so.
type SetRounds struct {
	Site uuid.UUID
	Rule watchround.WatchRule
	// Agreed says that a state of the site was agreed on: without one there is nothing to compare with.
	Agreed bool
}

// About implements Act.
func (a SetRounds) About() About { return About{Name: "set-rounds", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a SetRounds) Decide(f Facts) (Outcome, error) {
	if err := a.Rule.Check(); err != nil {
		return Outcome{}, refuse("bad_rule", sentence(err.Error()), "Change that, then save again.")
	}
	if a.Rule.On && !a.Agreed {
		return Outcome{}, refuse("not_agreed", "No state of this site was agreed on, so nothing could be told from a change.",
			"Agree on its state first, on the page Agreed.")
	}
	after := "not watched"
	if a.Rule.On {
		after = fmt.Sprintf("cameras every %s, targets every %s", a.Rule.Round(false), a.Rule.Round(true))
		for _, m := range a.Rule.Mends {
			after += fmt.Sprintf(", puts right by itself: %s", m)
		}
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name, After: after}}, nil
}

// LookNow has all that is watched at a site looked at now, and not in its round.
type LookNow struct {
	Site uuid.UUID
	On   bool // the site is watched
}

// About implements Act.
func (a LookNow) About() About { return About{Name: "look-now", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a LookNow) Decide(f Facts) (Outcome, error) {
	if !a.On {
		return Outcome{}, refuse("not_watched", "This site is not watched.", "Begin to watch it first.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name}}, nil
}

// driftsAbout is what acts on drifts are about.
func driftsAbout(name Name, site uuid.UUID, list []drift.Episode) About {
	out := About{Name: name, Right: Work, Site: site, WithStates: true}
	for _, e := range list {
		if e.Device != uuid.Nil {
			out.Devices = append(out.Devices, e.Device)
		}
		if t, err := uuid.Parse(e.Subject); err == nil && e.Repair() == drift.PlaceAgain {
			out.Targets = append(out.Targets, t)
		}
	}
	out.Devices, out.Targets = Distinct(out.Devices), Distinct(out.Targets)
	return out
}

// RepairDrifts puts back what was agreed on: addresses, settings, clocks, slots. Each is done as it is done by hand, read back, and can be
// undone there.
type RepairDrifts struct {
	Site   uuid.UUID
	Drifts []drift.Episode
	Agreed *drift.Agreed
	Strict bool
}

// About implements Act.
func (a RepairDrifts) About() About {
	out := driftsAbout("repair-drifts", a.Site, a.Drifts)
	out.Doing, out.WithWanted = tuneCommand, true
	return out
}

// Decide implements Act. It decides the acts that mend each kind of drift, and joins what follows from them to one run.
func (a RepairDrifts) Decide(f Facts) (Outcome, error) {
	parts, left := a.parts(f)
	out := Outcome{Left: left, Work: &command.Work{Kind: "repair"}}
	var last error
	var words []string
	for _, p := range parts {
		x, err := p.act.Decide(f)
		if err != nil {
			last = err
			if r := new(Refusal); !a.Strict && errors.As(err, &r) {
				out.Left = append(out.Left, Left{Name: p.words, Cause: r.Cause, Reason: r.Detail, Fix: r.Fix})
				continue
			}
			return Outcome{}, err
		}
		words = append(words, p.words)
		out.Left, out.Keep, out.Slots = append(out.Left, x.Left...), append(out.Keep, x.Keep...), append(out.Slots, x.Slots...)
		out.Work.Devices = append(out.Work.Devices, x.Work.Devices...)
		out.Work.Steps += x.Work.Total()
	}
	if len(out.Work.Devices) == 0 {
		if last != nil {
			return Outcome{}, last
		}
		return Outcome{}, refuse("nothing_to_repair", "None of this can be put right from here.", "Read what to do about it, or accept it.")
	}
	devices := make([]uuid.UUID, 0, len(out.Work.Devices))
	for _, d := range out.Work.Devices {
		devices = append(devices, d.Device)
	}
	devices = Distinct(devices)
	out.Work.Title = "Put right what was agreed on of " + command.Cameras(len(devices))
	out.Line = Line{Subject: f.names(devices), Devices: devices, After: strings.Join(words, ", ")}
	return out, nil
}

// A repairPart is one act among those that mend drifts.
type repairPart struct {
	words string
	act   Act
}

// parts are the acts that mend the drifts, one a kind of repair, and the drifts that only a person can mend.
func (a RepairDrifts) parts(f Facts) (out []repairPart, left []Left) {
	address, tune := GiveAddresses{Site: a.Site}, Tune{Site: a.Site, Plans: map[uuid.UUID]tuning.Plan{}}
	clock := Fix{Site: a.Site, Action: evidence.FixClock}
	place, open := Place{Site: a.Site}, Open{Site: a.Site, Retry: false}
	for _, e := range a.Drifts {
		switch e.Repair() {
		case drift.GiveAddress:
			if to, ok := a.Agreed.Address(e.Device, cmp.Or(f.Site.Network.Bits, 24), f.Site.Network.Gateway); ok {
				address.Lines = append(address.Lines, AddressLine{Device: e.Device, To: to})
			}
		case drift.SetStreams:
			if plan := a.Agreed.Plan(e.Device, e.Roles()); !plan.IsZero() {
				tune.Devices = append(tune.Devices, e.Device)
				tune.Plans[e.Device] = tune.Plans[e.Device].With(plan)
			}
		case drift.SetClock:
			clock.Devices = append(clock.Devices, e.Device)
		case drift.PlaceAgain:
			place.Placements = append(place.Placements, a.placement(f, e))
		case drift.OpenAgain:
			open.Devices = append(open.Devices, e.Device)
		default:
			left = append(left, Left{Device: e.Device, Name: e.Title, Cause: string(e.Cause), Reason: drift.Finding{Episode: e}.Headline() + ".",
				Fix: drift.Finding{Episode: e}.Do()})
		}
	}
	tune.Devices, open.Devices = Distinct(tune.Devices), Distinct(open.Devices)
	for _, p := range []struct {
		n     int
		words string
		act   Act
	}{{len(address.Lines), "addresses", address}, {len(tune.Devices), "settings", tune}, {len(clock.Devices), "clocks", clock},
		{len(place.Placements), "slots", place}, {len(open.Devices), "opened again", open}} {
		if p.n > 0 {
			out = append(out, repairPart{p.words, p.act})
		}
	}
	return out, left
}

// placement puts a camera back: into its own slot where that is empty, else where there is room.
func (a RepairDrifts) placement(f Facts, e drift.Episode) Placement {
	target, _ := uuid.Parse(e.Subject) // it is one: the drift is about a placement
	out := Placement{Device: e.Device, Target: target, Again: true}
	if d := f.Devices[e.Device]; d != nil && e.Cause == drift.SlotLost {
		if p := d.Status.PlacementOn(target); p != nil {
			out.Slot, out.Role = p.Token, p.Role
		}
	}
	return out
}

// AcceptDrifts takes what has changed into the agreed state, which is a new version of it.
type AcceptDrifts struct {
	ID     uuid.UUID // of the new version
	Site   uuid.UUID
	Drifts []drift.Episode
	Reason string
	// Was is the state that was agreed on, and Over the version that it is of: where another one was made meanwhile, nothing is accepted.
	Was  baseline.State
	Over uuid.UUID
	// Targets are the targets as they are now.
	Targets []baseline.Target

	State baseline.State // set by Decide
}

// About implements Act.
func (a AcceptDrifts) About() About { return driftsAbout("accept-drifts", a.Site, a.Drifts) }

// Decide implements Act.
func (a AcceptDrifts) Decide(f Facts) (Outcome, error) {
	a.Reason = strings.TrimSpace(wiretext.Line(a.Reason, longestReason))
	if a.Reason == "" {
		return Outcome{}, refuse("no_reason", "The reason is missing: nobody could tell later why this was accepted.",
			"Type why, such as: moved on purpose by the site.")
	}
	now := make([]*latch.Device, len(f.Order))
	for i, id := range f.Order {
		now[i] = f.Devices[id]
	}
	is, views := baseline.Of(now), []uuid.UUID{}
	a.State = a.Was
	var left []Left
	for _, e := range a.Drifts {
		if !e.Cause.Acceptable() {
			left = append(left, Left{Device: e.Device, Name: e.Title, Cause: string(e.Cause), Reason: drift.Finding{Episode: e}.Headline() +
				": that is broken, and cannot be agreed on.", Fix: drift.Finding{Episode: e}.Do()})
			continue
		}
		if e.Device == uuid.Nil {
			for _, t := range a.Targets {
				if t.ID.String() == e.Subject {
					a.State = a.State.AcceptTarget(t)
				}
			}
			continue
		}
		a.State = a.State.Accept(is, e.Device, e.Parts())
		if slices.ContainsFunc(e.Fields, func(c baseline.FieldChange) bool { return c.Field == baseline.View }) {
			views = append(views, e.Device)
		}
	}
	if len(left) == len(a.Drifts) {
		return Outcome{}, refuse("not_acceptable", left[0].Reason, left[0].Fix)
	}
	first := drift.Finding{Episode: a.Drifts[0]}
	out := Outcome{Left: left, Keep: []any{a}, Line: Line{Subject: cmp.Or(f.names(f.Order), first.Title), Devices: f.Order,
		Before: first.Headline(), After: a.Reason}}
	if len(views) > 0 {
		out.Keep = append(out.Keep, NewViews{Devices: views})
	}
	return out, nil
}

// Accepted are the IDs of the drifts that can be agreed on.
func (a AcceptDrifts) Accepted() (out []uuid.UUID) {
	for _, e := range a.Drifts {
		if e.Cause.Acceptable() {
			out = append(out, e.ID)
		}
	}
	return out
}

// NewViews are cameras of which what they show now is their view from here on.
type NewViews struct{ Devices []uuid.UUID }

// PutOffDrifts has drifts told no more until a time.
type PutOffDrifts struct {
	Site   uuid.UUID
	Drifts []drift.Episode
	Until  time.Time // the zero time takes that back
}

// About implements Act.
func (a PutOffDrifts) About() About { return driftsAbout("put-off-drifts", a.Site, a.Drifts) }

// IDs are those of the drifts.
func (a PutOffDrifts) IDs() []uuid.UUID {
	out := make([]uuid.UUID, len(a.Drifts))
	for i, e := range a.Drifts {
		out[i] = e.ID
	}
	return out
}

// longestPutOff is how far ahead something can be put off.
const longestPutOff = 92 * 24 * time.Hour

// Decide implements Act.
func (a PutOffDrifts) Decide(f Facts) (Outcome, error) {
	if !a.Until.IsZero() && (a.Until.Before(f.Now) || a.Until.Sub(f.Now) > longestPutOff) {
		return Outcome{}, refuse("bad_time", "It can be put off for three months at most.", "Choose another time.")
	}
	after := "told again"
	if !a.Until.IsZero() {
		after = "put off until " + a.Until.UTC().Format("2 January 15:04 UTC")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: cmp.Or(f.names(f.Order), a.Drifts[0].Title), Devices: f.Order,
		Before: drift.Finding{Episode: a.Drifts[0]}.Headline(), After: after}}, nil
}

// ReplaceDevice has a new camera take over what an old one was: its name, its roles, plans and placements, and its place on site plans.
// Both stay in the record with their identities.
type ReplaceDevice struct {
	Site     uuid.UUID
	Old, New uuid.UUID
}

// About implements Act.
func (a ReplaceDevice) About() About {
	return About{Name: "replace-device", Right: Work, Site: a.Site, Devices: []uuid.UUID{a.Old, a.New}, WithStates: true}
}

// Decide implements Act.
func (a ReplaceDevice) Decide(f Facts) (Outcome, error) {
	before, now := f.Devices[a.Old], f.Devices[a.New]
	switch {
	case a.Old == a.New:
		return Outcome{}, refuse("same_device", "A camera cannot be replaced by itself.", "Choose the new camera.")
	case !now.Status.InScope():
		return Outcome{}, refuse("out_of_scope", now.Title+" is outside the site's ranges.", "Give it an address inside the ranges first.")
	case len(now.Status.Placements) > 0:
		return Outcome{}, refuse("in_use", now.Title+" stands on targets of its own already.",
			"Take it off there first, or choose another camera.")
	}
	var targets []uuid.UUID
	for _, p := range before.Status.Placements {
		targets = append(targets, p.Target)
	}
	work := &command.Work{Kind: "replace", Title: fmt.Sprintf("Put %s in place of %s", now.Title, before.Title)}
	for _, t := range targets {
		work.Devices = append(work.Devices, command.OnDevice{Device: a.New,
			Do: command.Device{Place: &command.Place{Target: t, Replaces: a.Old, Again: true}}})
	}
	if len(targets) == 0 {
		work.Devices = command.Each([]uuid.UUID{a.New}, command.Device{Open: &command.Open{}})
	}
	return Outcome{Keep: []any{a}, Work: work, Line: Line{Subject: before.Title, Devices: []uuid.UUID{a.Old, a.New},
		Before: before.Addr, After: fmt.Sprintf("by %s at %s", now.Title, now.Addr)}}, nil
}
