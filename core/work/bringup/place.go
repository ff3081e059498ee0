package bringup

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/fit"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/hub"
)

// confirmWait is how long a target gets to show the picture.
const confirmWait = 12 * time.Second

// recheckWait is how long one gets that was asked before.
const recheckWait = 3 * time.Second

// A placeStep puts a device onto its targets and confirms that its picture shows there.
type placeStep struct{ *Work }

// place puts the camera on every wanted target that does not have it.
func (w placeStep) place(ctx context.Context) error {
	for _, p := range w.d.Status.Placements {
		if p.Slot != "" && !p.Untaken && !p.Moved {
			continue
		}
		if err := w.placeOn(ctx, p, ""); err != nil {
			return err
		}
	}
	return nil
}

// PlaceOn opens latches as far as they go and puts the camera onto one target, whatever the others are waiting for: a target that does not
// take its streams holds up itself alone. Then the target is asked for its picture.
func (w *Work) PlaceOn(ctx context.Context, want command.Place) error {
	if err := w.Open(ctx); err != nil {
		return err
	}
	p := w.d.Status.PlacementOn(want.Target)
	if p == nil || w.d.Status.Latch(latch.Proven).State != latch.Open {
		return nil // nothing is proven that it could be given
	}
	missing := p.Slot == "" || p.Untaken || p.Moved || want.Again || want.Replaces != uuid.Nil
	if missing && !w.put[p.Target] {
		if err := (placeStep{w}).replace(ctx, *p, want.Replaces); err != nil {
			return err
		}
	}
	if p = w.d.Status.PlacementOn(want.Target); p != nil && p.Slot != "" && p.Diagnosis == nil && !p.Confirmed && p.Waits == "" {
		w.Report.Doing(fmt.Sprintf("%s: waiting for the picture of %s", w.d.Title, p.Name))
		return placeStep{w}.confirmOn(ctx, *p, confirmWait)
	}
	return nil
}

// replace puts the camera onto a target, in the slot of another one where that is given, which is recorded as taken off then.
func (w placeStep) replace(ctx context.Context, p latch.Placement, old uuid.UUID) error {
	if old == uuid.Nil {
		if err := w.placeOn(ctx, p, ""); err != nil {
			return err
		}
		return w.Read(ctx)
	}
	other, err := w.Record.Device(ctx, old)
	if err != nil {
		return err
	}
	if err := w.placeOn(ctx, p, other.Identity()); err != nil {
		return err
	}
	if err := w.Read(ctx); err != nil {
		return err
	}
	if now := w.d.Status.PlacementOn(p.Target); now == nil || now.Diagnosis != nil {
		return nil // the other one is still there
	}
	kept, done := keeping(ctx)
	defer done()
	return w.Record.Add(kept, other, Finding{Subject: p.Target.String(), Body: evidence.Placed{Removed: true}})
}

// placeOn puts the camera onto one target and records how that went.
func (w placeStep) placeOn(ctx context.Context, p latch.Placement, replaces string) error {
	ctx, done := within(ctx, w.budget(latch.Placed)) // each target has its own: a slow one is no reason to say anything of the next
	defer done()
	w.Report.Doing(fmt.Sprintf("%s: placing it on %s", w.d.Title, p.Name))
	w.put[p.Target] = true
	body := evidence.Placed{SignIn: p.SignIn}
	for _, g := range p.Gives {
		body.Gave = append(body.Gave, evidence.Given(g))
	}
	if len(p.Gives) > 0 {
		body.URL = p.Gives[0].URL
	}
	put, diagnosis, err := w.putOn(ctx, p, replaces)
	if err != nil {
		return err
	}
	body.Slot, body.Token, body.Ref, body.Diagnosis = put.Slot, put.Token, string(put.Ref), diagnosis
	if diagnosis != nil && p.Slot != "" { // it stays where it was, as far as is known
		body.Slot, body.Token, body.Ref = p.Slot, p.Token, p.Ref
	}
	return w.Keep(ctx, Finding{Subject: p.Target.String(), Body: body})
}

func (w placeStep) putOn(ctx context.Context, p latch.Placement, replaces string) (put target.Placement, _ *diagnose.Diagnosis, err error) {
	if len(p.Misfit) > 0 {
		return put, &diagnose.Diagnosis{Cause: trouble.IntakeUnmet,
			Summary: fmt.Sprintf("%s takes none of its streams: %s.", p.Name, fit.Words(p.Misfit)),
			Fix:     "Set it to the nearest plan that all its targets take, then place it."}, nil
	}
	t, err := targetDoor(w).connect(ctx, p.Target)
	if err == nil {
		var c target.Camera
		if c, err = w.placing(ctx, p, replaces); err == nil {
			// One at a time on a target: two that look for a free slot at once would both take it.
			err = w.Record.Alone(ctx, p.Target, func(ctx context.Context) (err error) {
				put, err = t.session.Place(ctx, c)
				return err
			})
		}
	}
	diagnosis, err := Explain(ctx, err, t.facts(p.Name))
	return put, diagnosis, err
}

// placing returns what a target is told of the camera.
func (w placeStep) placing(ctx context.Context, p latch.Placement, replaces string) (target.Camera, error) {
	c := target.Camera{Identity: w.d.Identity(), Name: w.d.Title, Address: w.d.Addr, Model: w.d.Status.Model(), Channel: w.d.Channel,
		Slot: p.Wanted, Replaces: replaces}
	var err error
	switch {
	case p.Relay != uuid.Nil:
		if c.SignIn, err = w.Keyring.OfRelay(ctx, p.Relay); err != nil {
			return c, err
		}
		w.secrets.Know(c.SignIn)
	case p.From != uuid.Nil: // a recorder's channel, with the recorder's sign-in
		from, ferr := targetDoor(w).connect(ctx, p.From)
		if ferr != nil {
			return c, ferr
		}
		if from.sendsItself(p.Gives) {
			c.SignIn = from.signIn
		} else {
			w.log.Note("%s sends on from another address than its own: its sign-in is not given to anybody for that", from.name)
		}
	default:
		if !asksNobody(p.Gives) { // a sign-in that nobody asks for is given to nobody
			if c.SignIn, err = w.streamSignIn(ctx); err != nil {
				return c, err
			}
		}
	}
	w.log.Know(c.SignIn)
	if len(p.Gives) == 0 {
		return c, &target.ThroughError{Target: p.Name}
	}
	for _, g := range p.Gives {
		s := target.Stream{Role: g.Role, URL: g.URL}
		if proof, ok := w.d.Status.Proofs[g.Role]; ok && p.From == uuid.Nil && p.Relay == uuid.Nil {
			s.Transport = proof.Transport
			if v := proof.Video; v != nil {
				s.Codec, s.Width, s.Height = v.Codec, v.Width, v.Height
			}
		}
		if p.Through != nil {
			s.Transport, s.Codec, s.Width, s.Height = p.Through.Transport, p.Through.Codec, p.Through.Width, p.Through.Height
		}
		c.Streams = append(c.Streams, s)
	}
	return c, nil
}

// asksNobody reports whether streams all come in datagrams, for which no device is asked.
func asksNobody(list []latch.Given) bool {
	return len(list) > 0 && !slices.ContainsFunc(list, func(g latch.Given) bool {
		u, err := streamurl.Parse(g.URL)
		return err != nil || !u.Datagrams()
	})
}

// confirm asks each target that has the camera for its own state; of a camera on a recorder's own switch that is wanted on no other
// target, the recorder.
func (w placeStep) confirm(ctx context.Context) error {
	if w.d.Via != nil && len(w.d.Status.Placements) == 0 {
		return w.confirmChannel(ctx)
	}
	for _, p := range w.d.Status.Placements {
		if p.Confirmed || p.ByHand() {
			continue
		}
		if err := w.confirmOn(ctx, p, confirmWait); err != nil {
			return err
		}
	}
	return nil
}

// Confirm asks one target again for its word and its picture of the camera, where it has taken it.
func (w *Work) Confirm(ctx context.Context, on uuid.UUID) error {
	p := w.d.Status.PlacementOn(on)
	if p == nil || p.Slot == "" || p.Untaken || p.ByHand() {
		return nil
	}
	w.Report.Doing(fmt.Sprintf("%s: asking %s for its picture", w.d.Title, p.Name))
	return placeStep{w}.confirmOn(ctx, *p, recheckWait)
}

// confirmOn asks one target, and compares the picture that it shows with the camera's own.
func (w placeStep) confirmOn(ctx context.Context, p latch.Placement, wait time.Duration) error {
	if p.ByHand() {
		return nil
	}
	ctx, done := within(ctx, w.budget(latch.Confirmed))
	defer done()
	t, err := targetDoor(w).connect(ctx, p.Target)
	if errors.As(err, new(*diagnose.TargetShutError)) || w.OnlyNews && notForWatch(err) {
		return nil // it had the camera before, and says nothing to anybody now
	}
	var report target.Report
	if err == nil {
		report, err = t.session.Confirm(ctx, target.Ref(p.Ref), wait)
	}
	note := ""
	if err == nil && report.Unchanged && w.put[p.Target] {
		note = "It got no picture by what it was given for its old entry, as one that goes on with an old sign-in, so the entry was made anew."
		report, err = w.anew(ctx, t, &p, wait)
	}
	diagnosis, err := Explain(ctx, err, t.facts(p.Name))
	if err != nil {
		return err
	}
	f := Finding{Subject: p.Target.String()}
	body := evidence.Confirmed{Says: report.Says, AfterMS: report.After.Milliseconds(), Diagnosis: diagnosis, Note: note}
	if diagnosis == nil && !report.Arrived {
		if err := w.waitOrFail(ctx, &body, p, report); err != nil {
			return err
		}
	} else if diagnosis == nil {
		body.WaitedMS = body.AfterMS
		if !p.WaitsSince.IsZero() {
			body.WaitedMS = w.now().Sub(p.WaitsSince).Milliseconds()
		}
	}
	if body.Diagnosis == nil && body.Waits == "" {
		seen, err := comparison(w).compare(ctx, t.session, p)
		if err != nil {
			return err
		}
		if w.OnlyNews && p.Confirmed && p.SilentSince.IsZero() && seen.diagnosis == nil && seen.match == p.Match {
			return nil
		}
		body.Match, body.Diagnosis, body.SendsOn = seen.match, seen.diagnosis, seen.sendsOn
		body.Note = strings.TrimSpace(note + " " + seen.note)
		f.keepStill(&body, seen.still)
	}
	f.Body = body
	return w.Keep(ctx, f)
}

// keepStill adds the picture that a target shows to the finding with its word.
func (f *Finding) keepStill(body *evidence.Confirmed, still []byte) {
	if f.Still = still; still != nil {
		f.StillID = uuid.Must(uuid.NewV7())
		body.Still = &f.StillID
	}
}

// anew makes what a target has of the camera anew, and asks again: it was given another URL or sign-in for what it had, and gets no
// picture. Some take the change and go on with the old sign-in.
func (w placeStep) anew(ctx context.Context, t *connected, p *latch.Placement, wait time.Duration) (target.Report, error) {
	c, err := w.placing(ctx, *p, "")
	if err != nil {
		return target.Report{}, err
	}
	c.Anew = true
	var put target.Placement
	err = w.Record.Alone(ctx, p.Target, func(ctx context.Context) (err error) {
		put, err = t.session.Place(ctx, c)
		return err
	})
	if err != nil {
		return target.Report{}, err
	}
	if err := w.moved(ctx, w.d, p, put); err != nil {
		return target.Report{}, err
	}
	p.Ref, p.Slot, p.Token = string(put.Ref), put.Slot, put.Token
	return t.session.Confirm(ctx, put.Ref, wait)
}

// waitOrFail decides about a picture that has not arrived. It writes into body what the picture waits for, or a diagnosis if that is
// unknown or if it has waited longer than is usual for the target: longer than its longest wait so far, and past the moment that it named
// itself. A picture that waits for a screen may wait as long as that takes.
func (w placeStep) waitOrFail(ctx context.Context, body *evidence.Confirmed, p latch.Placement, r target.Report) error {
	body.Waits, body.Since, body.Until = r.Waits, p.WaitsSince, r.Until
	if body.Since.IsZero() {
		body.Since = w.now()
	}
	waited := w.now().Sub(body.Since)
	fails := r.Waits == ""
	if r.Waits == trouble.WaitsToConnect && waited >= latch.ConnectTime && w.now().Sub(r.Until) >= latch.ConnectTime {
		longest, err := w.Record.LongestWait(ctx, p.Target)
		if err != nil {
			return &OwnError{err}
		}
		fails = waited >= latch.ConnectPatience(longest)
	}
	if fails {
		r.After = max(r.After, waited)
		body.Diagnosis, body.Waits, body.Since, body.Until = notArrived(p.Name, r), "", time.Time{}, time.Time{}
	}
	return nil
}

// notArrived is the diagnosis of a target that has the camera and gets no picture of it.
func notArrived(name string, r target.Report) *diagnose.Diagnosis {
	return &diagnose.Diagnosis{Cause: trouble.TargetWaiting,
		Summary: fmt.Sprintf("%s has the camera and no picture: it reports %s after %s.", diagnose.Capital(name), r.Says,
			r.After.Round(time.Second)),
		Fix: "Unlatch itself plays this stream, so look at the way between target and camera, the sign-in schemes that the target speaks, " +
			"and the camera's session limit.",
		Seen: "it reports " + r.Says}
}

// Remove takes the camera off a target. A target that does not answer keeps the camera, and so does the record.
func (w *Work) Remove(ctx context.Context, from uuid.UUID) error {
	p := w.d.Status.PlacementOn(from)
	if p == nil || p.Slot == "" {
		return nil
	}
	w.Report.Doing(fmt.Sprintf("%s: taking it off %s", w.d.Title, p.Name))
	t, err := targetDoor{w}.connect(ctx, from)
	if errors.As(err, new(*diagnose.TargetShutError)) {
		return fmt.Errorf("%s is not signed in to, so the camera stays on it", p.Name)
	}
	if err == nil && p.Ref != "" {
		err = t.session.Remove(ctx, target.Ref(p.Ref))
	}
	diagnosis, err := Explain(ctx, err, t.facts(p.Name))
	if err != nil {
		return err
	}
	if diagnosis != nil {
		return errors.New(diagnosis.Summary)
	}
	if err := w.Keep(ctx, Finding{Subject: from.String(), Body: evidence.Placed{Removed: true}}); err != nil {
		return err
	}
	_, err = placeStep{w}.relook(ctx, from, t.session, time.Now())
	return err
}

// relook returns the slots of a target as it told them later than since, and keeps them. The layout of a target that tells none is empty.
func (w placeStep) relook(ctx context.Context, on uuid.UUID, s target.Session, since time.Time) (target.Layout, error) {
	l, ok := s.(target.Lister)
	if !ok {
		return target.Layout{}, nil
	}
	layout, asked, err := w.Lists.askedAfter(ctx, on, since, func() (target.Layout, error) { return l.Slots(ctx) })
	if err != nil {
		return layout, ctx.Err() // the target has said of the camera what it could
	}
	if !asked {
		return layout, nil // whoever asked has kept it
	}
	kept, done := keeping(ctx)
	defer done()
	return layout, targetDoor(w).keepSeen(kept, on, TargetSeen{Layout: &layout})
}

// Move puts the camera into another slot of a target. A camera that is there changes places with it, and both are recorded.
func (w *Work) Move(ctx context.Context, on uuid.UUID, to string) error {
	p := w.d.Status.PlacementOn(on)
	if p == nil || p.Slot == "" {
		return errors.New("the camera is not on that target")
	}
	w.Report.Doing(fmt.Sprintf("%s: moving it on %s", w.d.Title, p.Name))
	t, err := targetDoor{w}.connect(ctx, on)
	var put target.Placement
	if err == nil {
		mover, ok := t.session.(target.Mover)
		if !ok {
			return &target.UnableError{Target: p.Name, Ability: "move"}
		}
		err = w.Record.Alone(ctx, on, func(ctx context.Context) (err error) {
			put, err = mover.Move(ctx, target.Ref(p.Ref), to)
			return err
		})
	}
	diagnosis, err := Explain(ctx, err, t.facts(p.Name))
	if err != nil {
		return err
	}
	if diagnosis != nil {
		return errors.New(diagnosis.Summary)
	}
	if err := (placeStep{w}).moved(ctx, w.d, p, put); err != nil {
		return err
	}
	all, err := w.Record.Neighbours(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		for _, o := range all[i].Status.Placements {
			if all[i].ID != w.d.ID && o.Target == on && o.Token == to && o.Slot != "" {
				back := target.Placement{Slot: p.Slot, Token: p.Token, Ref: target.Ref(o.Ref)}
				if err := (placeStep{w}).moved(ctx, &all[i], &o, back); err != nil {
					return err
				}
			}
		}
	}
	if err := w.Read(ctx); err != nil {
		return err
	}
	if p = w.d.Status.PlacementOn(on); p != nil {
		return placeStep{w}.confirmOn(ctx, *p, confirmWait)
	}
	return nil
}

// moved records that a camera stands in another slot, with the streams that it had.
func (w placeStep) moved(ctx context.Context, d *latch.Device, p *latch.Placement, put target.Placement) error {
	body := evidence.Placed{Slot: put.Slot, Token: put.Token, Ref: string(put.Ref), SignIn: p.SignIn}
	for _, g := range p.Gives {
		body.Gave = append(body.Gave, evidence.Given(g))
	}
	if len(p.Gives) > 0 {
		body.URL = p.Gives[0].URL
	}
	kept, done := keeping(ctx)
	defer done()
	return w.Record.Add(kept, d, Finding{Subject: p.Target.String(), Body: body, Exchange: w.log.Take()})
}

// Show has a target show the camera on a screen, and says how long it took.
func (w *Work) Show(ctx context.Context, on uuid.UUID, screen string) (target.Report, error) {
	p := w.d.Status.PlacementOn(on)
	if p == nil || p.Slot == "" {
		return target.Report{}, errors.New("the camera is not on that target")
	}
	t, err := targetDoor{w}.connect(ctx, on)
	var out target.Report
	if err == nil {
		shower, ok := t.session.(target.Shower)
		if !ok {
			return out, &target.UnableError{Target: p.Name, Ability: "show"}
		}
		out, err = shower.Show(ctx, target.Ref(p.Ref), screen)
	}
	diagnosis, err := Explain(ctx, err, t.facts(p.Name))
	if err != nil {
		return out, err
	}
	text := fmt.Sprintf("Showing %s on %s took %d ms", w.d.Title, screen, out.After.Milliseconds())
	if diagnosis == nil && !out.Arrived {
		diagnosis = &diagnose.Diagnosis{Cause: trouble.TargetWaiting,
			Summary: fmt.Sprintf("%s does not show %s on %s: it says %s.", p.Name, w.d.Title, screen, out.Says),
			Fix:     "Look at the screen, and whether it is switched on."}
	}
	if serr := (targetDoor{w}).saw(ctx, on, TargetSeen{What: text, Diagnosis: diagnosis}); serr != nil {
		return out, serr
	}
	if diagnosis != nil {
		return out, errors.New(diagnosis.Summary)
	}
	return out, nil
}

// SetRule has a hub show the camera on a screen when a message comes on a topic; the zero rule takes that back.
func (w *Work) SetRule(ctx context.Context, on uuid.UUID, r hub.Rule) error {
	p := w.d.Status.PlacementOn(on)
	if p == nil || p.Slot == "" {
		return errors.New("the camera is not on that target")
	}
	t, err := targetDoor{w}.connect(ctx, on)
	if err == nil {
		ruler, ok := t.session.(hub.Ruler)
		if !ok {
			return &target.UnableError{Target: p.Name, Ability: "rules"}
		}
		err = ruler.SetRule(ctx, target.Ref(p.Ref), r)
	}
	diagnosis, err := Explain(ctx, err, t.facts(p.Name))
	if err != nil {
		return err
	}
	what := fmt.Sprintf("%s is shown on %s when %s comes", w.d.Title, r.Screen, r.Event)
	if r == (hub.Rule{}) {
		what = w.d.Title + " is shown by no rule"
	}
	if err := (targetDoor{w}).saw(ctx, on, TargetSeen{What: what, Diagnosis: diagnosis}); err != nil || diagnosis == nil {
		return err
	}
	return errors.New(diagnosis.Summary)
}
