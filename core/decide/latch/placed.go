package latch

import (
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/fit"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/intake"
	"unlatch/core/wire/target/byhand"
)

// intakeUnderItsName returns what the target accepts, under its own name.
func (t Target) intakeUnderItsName() intake.Intake {
	x := *t.Intake
	x.Name = t.Name
	return x
}

// takes reports whether the target takes one of a camera's streams, or what does not fit. One that takes channels of a recorder judges
// what the recorder sends on, which is not known here.
func (t Target) takes(streams map[string]fit.Stream) ([]fit.Reason, bool) {
	x := t.intakeUnderItsName()
	if t.Relay != nil {
		through, known := t.throughRelay(streams)
		if !known {
			return nil, true
		}
		through.Role = t.roleOf(t.Relay)
		reasons := fit.Check(through, x)
		return reasons, len(reasons) == 0
	}
	switch t.Role {
	case "picture":
		return nil, true // its size is the target's to judge
	case "":
	default:
		x.Roles = []string{t.Role}
	}
	return fit.Best(streams, x)
}

// gives fills in which streams a target shall have, and with whose sign-in.
func (d *deriver) gives(t Target, p *Placement) {
	var label string
	p.SignIn, label, _ = d.s.StreamSignIn()
	switch {
	case p.SignIn == uuid.Nil:
	case d.s.Via != "":
		p.Whose = fmt.Sprintf("the sign-in of %s (%s)", d.s.Via, label)
	case d.s.StreamKey != nil:
		p.Whose = fmt.Sprintf("its stream user (%s)", label)
	default:
		p.Whose = fmt.Sprintf("the camera's own (%s)", label)
	}
	if t.Role == "picture" { // for targets that take nothing else, or have a kind of entry for it
		for _, kind := range []string{"mjpeg", "snapshot"} {
			if b, ok := d.s.Pictures[kind]; ok && b.Diagnosis == nil && !b.None {
				p.Gives = []Given{{"picture", b.URL}}
				return
			}
		}
	}
	roles := d.rolesFor(t)
	for _, role := range roles {
		if i := slices.IndexFunc(d.s.Streams, func(s camera.Stream) bool { return s.Role == role }); i >= 0 {
			p.Gives = append(p.Gives, Given{role, d.s.Streams[i].URL})
		}
	}
	if len(p.Gives) == 0 && len(d.s.Streams) > 0 {
		p.Gives = []Given{{d.s.Streams[0].Role, d.s.Streams[0].URL}}
	}
}

// throughRelay returns the stream that is served on for the target; known is false before the camera's own is proven.
func (t Target) throughRelay(streams map[string]fit.Stream) (through fit.Stream, known bool) {
	s, known := streams[t.Relay.Role]
	u, err := streamurl.Parse(t.Relay.URL)
	if !known || err != nil {
		return through, false
	}
	return fit.Through(s, t.Relay.Form, u.DialPort()), true
}

// roleOf returns as which of a camera's streams the target is given one that is served on: as one that it takes.
func (t Target) roleOf(r *Relay) string {
	switch {
	case t.Role != "":
		return t.Role
	case t.Intake != nil && !t.Intake.TakesRole(r.Role):
		return fit.RoleFor(*t.Intake)
	}
	return r.Role
}

// relayed fills in the stream that is served on for a target.
func (t Target) relayed(streams map[string]fit.Stream, p *Placement) {
	r := t.Relay
	p.Relay, p.As, p.SignIn, p.Whose = r.ID, r.Form.String(), r.Key, "a sign-in of the relay's own"
	p.Gives = []Given{{t.roleOf(r), r.URL}}
	if through, known := t.throughRelay(streams); known {
		p.Through = &through
	}
}

// elsewhere writes the URLs for a target outside the site as they read from there. One that no port leads to cannot be given.
func (d *deriver) elsewhere(t Target, p *Placement) {
	if !t.Elsewhere {
		return
	}
	for i, g := range p.Gives {
		url, led := d.intent.Outside.URL(g.URL)
		if !led {
			p.Gives = nil
			p.Misfit = append(p.Misfit, fit.Reason{Target: t.Name, Field: "outside", Has: "no outside port", Wants: "one that leads to the stream"})
			return
		}
		p.Gives[i].URL = url
	}
}

// rolesFor returns the roles of the streams for a target, the best first.
func (d *deriver) rolesFor(t Target) []string {
	switch {
	case t.Role != "":
		return []string{t.Role}
	case t.Both:
		out := []string{}
		for _, r := range []string{"main", "sub"} {
			if t.Intake == nil || len(t.Intake.Roles) == 0 || slices.Contains(t.Intake.Roles, r) {
				out = append(out, r)
			}
		}
		return out
	case t.Intake != nil:
		return []string{fit.RoleTaken(d.s.FitStreams(), t.intakeUnderItsName())}
	}
	return []string{"main"}
}

// through replaces the camera's own streams by those that another target sends on, for targets that take channels of a recorder.
func (d *deriver) through(t Target, p *Placement) {
	if !t.Through || d.s.Via != "" || t.Relay != nil {
		return
	}
	want := p.Gives
	p.Gives, p.SignIn, p.Whose = nil, uuid.Nil, ""
	for _, exact := range []bool{true, false} { // one that sends on what is wanted goes before one that sends on something else
		for i := range d.s.Placements {
			from := &d.s.Placements[i]
			if from.Target == t.ID || len(from.SendsOn) == 0 || from.Slot == "" {
				continue
			}
			gives := slices.DeleteFunc(slices.Clone(from.SendsOn), func(g Given) bool {
				return !slices.ContainsFunc(want, func(w Given) bool { return w.Role == g.Role })
			})
			if len(gives) == 0 && !exact {
				gives = from.SendsOn[:1]
			}
			if len(gives) > 0 {
				p.Gives, p.From, p.Whose = gives, from.Target, "the sign-in of "+from.Name
				return
			}
		}
	}
}

func (d *deriver) placed() {
	streams := d.s.FitStreams()
	for _, t := range d.intent.Targets {
		p := Placement{Target: t.ID, Kind: t.Kind, Name: t.Name, Intake: t.Intake, Wanted: t.Slot, Role: t.Role}
		if t.Intake != nil && len(streams) > 0 {
			p.Misfit, _ = t.takes(streams)
		}
		if t.Relay != nil {
			t.relayed(streams, &p)
		} else {
			d.gives(t, &p)
			d.elsewhere(t, &p)
		}
		if b, _ := body[evidence.Confirmed](d, t.ID.String()); b != nil {
			for _, g := range b.SendsOn {
				p.SendsOn = append(p.SendsOn, Given(g))
			}
		}
		if b, r := body[evidence.Placed](d, t.ID.String()); b != nil && !b.Removed {
			p.Slot, p.Token, p.Ref, p.Diagnosis, p.Untaken = b.Slot, b.Token, b.Ref, b.Diagnosis, b.Diagnosis != nil
			p.PlacedAt = r.At
		}
		d.s.Placements = append(d.s.Placements, p)
	}
	for i, t := range d.intent.Targets {
		d.through(t, &d.s.Placements[i])
		d.standing(t, &d.s.Placements[i])
		d.s.Placements[i].State = d.s.Placements[i].inOneWord()
	}
	if d.s.Via != "" && len(d.intent.Targets) == 0 && d.s.Latch(Proven).State == Open {
		d.channel()
	}
	d.everyTarget()
	d.waiting()
}

// standing is how one placement stands by what was recorded of it.
func (d *deriver) standing(t Target, p *Placement) {
	b, r := body[evidence.Placed](d, t.ID.String())
	if b == nil || b.Removed {
		return
	}
	d.set(Placed, r, b.Diagnosis, fmt.Sprintf("In %s of %s", b.Slot, t.Name))
	if p.Old = old(b, p); p.Old != "" && b.Diagnosis == nil {
		p.Moved = true
		l := d.s.Latch(Placed)
		l.State, l.Reason = Stale, fmt.Sprintf("%s still has the old %s", t.Name, p.Old)
	}
	c, cr := body[evidence.Confirmed](d, t.ID.String())
	if c == nil || b.Diagnosis != nil || !newer(*cr, *r) {
		return
	}
	p.Confirmed, p.Diagnosis = c.Diagnosis == nil && c.Waits == "", c.Diagnosis
	p.Waits, p.WaitsSince, p.WaitsUntil = c.Waits, c.Since, c.Until
	p.Report, p.Match, p.Still, p.Note = c.Says, c.Match, c.Still, c.Note
	reason := fmt.Sprintf("%s reports %s", t.Name, p.Report)
	if c.Attested != "" {
		reason = fmt.Sprintf("%s has looked at %s: it shows the picture", c.Attested, t.Name)
	}
	d.set(Confirmed, cr, c.Diagnosis, reason)
	if !p.Confirmed {
		return
	}
	p.ConfirmedAt = cr.At
	if t.SilentSince.After(cr.At) && c.Attested == "" {
		p.SilentSince = t.SilentSince
		l := d.s.Latch(Confirmed)
		l.State, l.Since, l.Reason = Stale, &p.SilentSince, t.Name+" cannot be asked any more; it showed the picture when it last was"
	}
}

// old returns what of a placement is no longer so: its URL, or its sign-in; "" where all is as it was. Old records tell the first URL
// alone.
func old(b *evidence.Placed, p *Placement) string {
	if len(p.Gives) == 0 {
		return ""
	}
	if len(b.Gave) == 0 {
		if b.URL != "" && b.URL != p.Gives[0].URL {
			return "URL"
		}
		return ""
	}
	for _, g := range b.Gave {
		i := slices.IndexFunc(p.Gives, func(o Given) bool { return o.Role == g.Role })
		if i >= 0 && p.Gives[i].URL != g.URL {
			return "URL"
		}
	}
	if b.SignIn != uuid.Nil && p.SignIn != uuid.Nil && b.SignIn != p.SignIn {
		return "sign-in"
	}
	return ""
}

// everyTarget keeps a latch shut while one wanted target still lacks it, and stuck where that target says why.
func (d *deriver) everyTarget() {
	for _, p := range d.s.Placements {
		if l := d.s.Latch(Placed); p.Slot == "" && l.State == Open {
			l.State, l.Reason = Closed, "Not yet on "+p.Name
		}
		if l := d.s.Latch(Confirmed); !p.Confirmed && l.State == Open {
			l.State, l.Reason = Closed, "Not yet confirmed by "+p.Name
			if p.Diagnosis != nil && p.Slot != "" && !p.Untaken {
				l.State, l.Diagnosis, l.Reason = Stuck, p.Diagnosis, p.Diagnosis.Summary
			}
		}
	}
}

// waiting shuts the last latch as one that waits, where the picture of a target is waited for and nothing is broken.
func (d *deriver) waiting() {
	l := d.s.Latch(Confirmed)
	if slices.ContainsFunc(d.s.Placements, func(p Placement) bool { return p.Diagnosis != nil }) {
		return
	}
	for i := range d.s.Placements {
		p := &d.s.Placements[i]
		if p.ByHand() && p.Slot != "" && !p.Confirmed {
			p.Waits = trouble.WaitsForPerson
		}
		if p.Waits == "" || l.State == Waiting {
			continue
		}
		l.State, l.Reason, l.Since = Waiting, p.waitsFor(), nil
		if !p.WaitsSince.IsZero() {
			l.Since = &p.WaitsSince
		}
	}
}

// ConnectTime is how long any target may be connecting to a camera before that counts as a fault, and mostConnectTime how long one may
// that has been slow before.
const (
	ConnectTime     = 2 * time.Minute
	mostConnectTime = time.Hour
)

// ConnectPatience returns how long a target may be connecting before that counts as a fault: twice as long as it has taken at most for
// pictures that came, and at least ConnectTime.
func ConnectPatience(longest time.Duration) time.Duration {
	return min(max(ConnectTime, 2*longest), mostConnectTime)
}

// AskAgainAt returns when the target is asked again that was to be asked after wait: not before the moment that it has given itself.
func (p *Placement) AskAgainAt(now time.Time, wait time.Duration) time.Time {
	at := now.Add(wait)
	if p.Waits != "" && p.WaitsUntil.After(at) {
		return p.WaitsUntil
	}
	return at
}

// AskedAgain reports whether the target is to be asked again for the picture of the placement by itself: it may come still. A target that
// was connecting for too long is asked once more too.
func (p *Placement) AskedAgain() bool {
	return p.Slot != "" && (p.Waits != "" && p.Waits != trouble.WaitsForPerson ||
		p.Diagnosis != nil && p.Diagnosis.Cause == trouble.TargetWaiting)
}

// PlacementOn returns the placement on a target; nil for none.
func (s *Status) PlacementOn(target uuid.UUID) *Placement {
	for i := range s.Placements {
		if s.Placements[i].Target == target {
			return &s.Placements[i]
		}
	}
	return nil
}

// waitsFor says what the picture of a placement waits for.
func (p *Placement) waitsFor() string {
	return fmt.Sprintf(map[trouble.Wait]string{
		trouble.WaitsToConnect: "%s is connecting to it",
		trouble.WaitsForFetch:  "No screen has fetched the list of %s with it yet",
		trouble.WaitsForScreen: "No screen of %s shows it yet",
		trouble.WaitsForPerson: "Somebody has to look whether %s shows it",
	}[p.Waits], p.Name)
}

// inOneWord sums a placement up. A diagnosis weighs most, and what is stale before what was confirmed of it.
func (p *Placement) inOneWord() PlacementState {
	switch {
	case p.Diagnosis != nil:
		return PlacementBroken
	case p.Moved, !p.SilentSince.IsZero():
		return PlacementStale
	case p.Confirmed:
		return PlacementConfirmed
	}
	return PlacementWaiting
}

// ShownBy reports whether a list of slots must show the placement if the target still holds it, given when the target was asked for the
// list. A camera that was placed after that may be missing from the list.
func (p *Placement) ShownBy(asked time.Time) bool {
	return p.Slot != "" && p.Token != "" && !p.ByHand() && p.PlacedAt.Before(asked)
}

// ByHand reports whether a placement can be confirmed by nobody but a person.
func (p *Placement) ByHand() bool { return p.Kind == byhand.Kind }
