// Package tuner sets the streams of one device to a plan by its device service: it sends, reads back, plays and compares. What it is asked
// for and what a device offers is weighed in package tuning.
package tuner

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"unlatch/core/ground/signin"
	"unlatch/core/stream/media"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/onvif"
	"unlatch/core/work/prove"
)

// A Request is what to set on a device.
type Request struct {
	Camera
	Plan   tuning.Plan
	Name   string        // of the camera, for the text in its picture
	Back   *tuning.State // puts this back, in place of a plan
	DryRun bool          // nothing is sent
	SignIn signin.SignIn // for playing
	Leave  signin.Leave
	Prover *prove.Prover     // nil plays nothing
	Doing  func(what string) // may be nil
	// Before, where not nil, is told how the device is set before anything is sent: with that it can be undone whatever happens then.
	// Its error ends the work.
	Before func(tuning.State) error
	// Hold, where not nil, keeps a session of a stream open while it is set, see Hold. Its URL is without a sign-in.
	Hold func(ctx context.Context, url string) Held
	// Patience is how long a device that restarts may be away; 0 for a minute.
	Patience time.Duration
	// Sleep waits, or returns the error of ctx where that ends first; nil for by the system's clock.
	Sleep func(ctx context.Context, d time.Duration) error
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// A Result is what came of it.
type Result struct {
	Changes     []tuning.Change                `json:"changes"`
	Refused     []tuning.Refusal               `json:"refused"`
	SideEffects []string                       `json:"side_effects"`
	ReadBack    map[string]tuning.Encoder      `json:"read_back" doc:"by role, after sending"`
	Measured    map[string]*media.Measured     `json:"measured" doc:"by role, of the streams of the plan"`
	Off         map[string][]tuning.Difference `json:"differs,omitempty" doc:"by role, in what what was measured is not what was set"`
	Tuned       bool                           `json:"tuned"`
	Problems    []string                       `json:"problems,omitempty"`
	// Restart says that the device has taken the settings and goes on as before: it wants a restart.
	Restart bool                      `json:"wants_restart,omitempty"`
	Before  tuning.State              `json:"before" doc:"what undo puts back"`
	Wanted  map[string]tuning.Encoder `json:"-"` // by role, what was sent
	Offers  tuning.Offers             `json:"-"` // as they were read before sending
	// Has is how all its streams were set before.
	Has map[string]tuning.Encoder `json:"-"`
}

// work is one device under way.
type work struct {
	Request
	c    *onvif.Client
	out  *Result
	view *View
	// sent says that something was, restarted that the device was away afterwards.
	sent, restarted bool
}

// Tune sets the streams of a device to a plan. Its error is of asking the device; what it refuses or does otherwise is in the result.
func Tune(ctx context.Context, c *onvif.Client, r Request) (*Result, error) {
	if r.Doing == nil {
		r.Doing = func(string) {}
	}
	if r.Patience == 0 {
		r.Patience = time.Minute
	}
	if r.Sleep == nil {
		r.Sleep = sleep
	}
	view, err := Read(ctx, c, r.Camera)
	if err != nil {
		return nil, err
	}
	w := &work{Request: r, c: c, view: view, out: &Result{Changes: []tuning.Change{}, Refused: []tuning.Refusal{}, SideEffects: []string{},
		ReadBack: map[string]tuning.Encoder{}, Measured: map[string]*media.Measured{}, Wanted: map[string]tuning.Encoder{},
		Has: map[string]tuning.Encoder{}}}
	for _, s := range view.Streams {
		w.out.Has[s.Role] = s.Encoder
	}
	if r.Back != nil {
		w.Plan = tuning.Plan{Streams: map[string]tuning.Stream{}}
		for role, e := range r.Back.Encoders {
			w.Plan.Streams[role] = e.Plan()
		}
	}
	preview := w.look()
	if r.DryRun {
		return w.out, nil
	}
	if err := w.remember(preview); err != nil {
		return w.out, err
	}
	held := w.hold(ctx, preview)
	defer held.Close()
	if err := w.send(ctx, preview); err != nil {
		return w.out, err
	}
	back, err := w.readBack(ctx)
	if err == nil && held.Dropped() && !w.restarted {
		w.out.SideEffects = append(w.out.SideEffects, "it drops sessions that are in use when a stream is set: who watches has to begin anew")
	}
	held.Close()
	if err != nil {
		return w.out, err
	}
	w.out.Tuned = len(w.out.Refused) == 0
	if r.Prover == nil {
		return w.out, nil
	}
	return w.out, w.playAll(ctx, back)
}

// look weighs the plan against what the device offers now.
func (w *work) look() tuning.Preview {
	w.out.Offers = w.view.Offers()
	preview := tuning.Look(w.Plan, w.out.Offers, tuning.Budget{})
	if w.Back != nil {
		preview = w.backwards()
	}
	w.out.SideEffects = append(w.out.SideEffects, preview.Warnings...)
	for _, s := range preview.Streams {
		w.out.Changes, w.out.Refused = append(w.out.Changes, s.Changes...), append(w.out.Refused, s.Refused...)
		if i := w.view.of(s.Role); i >= 0 && !w.Plan.Streams[s.Role].Off {
			w.out.Wanted[s.Role] = s.Want
		}
	}
	texts, refused := w.Plan.Overlay.Changes(w.Name, w.view.Overlays)
	w.out.Refused = append(w.out.Refused, refused...)
	if len(texts) > 0 {
		w.out.Changes = append(w.out.Changes, tuning.Change{Stream: "overlay", Field: "overlay", From: texted(w.view.Overlays.Has),
			To: w.Plan.Overlay.String(), Asked: w.Plan.Overlay.String()})
	}
	return preview
}

// backwards returns what puts a state back: each encoder exactly as it was, also where that is not offered.
func (w *work) backwards() (p tuning.Preview) {
	for _, s := range w.view.Streams {
		e, ok := w.Back.Encoders[s.Role]
		if !ok {
			continue
		}
		e.Token, e.Name, e.UseCount = s.Encoder.Token, s.Encoder.Name, s.Encoder.UseCount
		p.Streams = append(p.Streams, tuning.StreamPreview{Role: s.Role, Has: s.Encoder, Want: e, Changes: tuning.Exactly(s.Role, s.Encoder, e)})
	}
	return p
}

// texted returns what a device draws, in short.
func texted(list []tuning.Text) string {
	var parts []string
	for _, t := range list {
		parts = append(parts, strings.TrimSpace(t.Kind+" "+t.Plain))
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, ", ")
}

// profileName returns what a stream that is made is called on the device: by it a work that was cut off finds it again, and undo takes it
// away.
func profileName(role string) string { return "Unlatch " + role }

// remember keeps how the device is set, as far as the plan touches it.
func (w *work) remember(preview tuning.Preview) error {
	b := tuning.State{Encoders: map[string]tuning.Encoder{}}
	for _, s := range preview.Streams {
		switch i := w.view.of(s.Role); {
		case s.Made:
			b.Made = append(b.Made, profileName(s.Role))
		case i >= 0:
			b.Encoders[s.Role] = w.view.Streams[i].Encoder
			if w.Plan.Streams[s.Role].Audio != "" {
				if b.Audio == nil {
					b.Audio = map[string]tuning.Audio{}
				}
				b.Audio[s.Role] = w.view.Streams[i].Audio
			}
		}
	}
	if w.Plan.Overlay != (tuning.Overlay{}) {
		texts := append([]tuning.Text{}, w.view.Overlays.Has...) // none is kept as none, and not as nothing known
		b.Texts = &texts
	}
	w.out.Before = b
	if w.Request.Before == nil || w.Back == nil && !preview.Changed() {
		return nil
	}
	return w.Request.Before(b)
}

// hold keeps a session of the first stream open whose encoder is to be set.
func (w *work) hold(ctx context.Context, preview tuning.Preview) Held {
	for _, s := range preview.Streams {
		if i := w.view.of(s.Role); w.Hold != nil && i >= 0 && s.Has != s.Want && w.view.Streams[i].URL != "" {
			return w.Hold(ctx, w.view.Streams[i].URL)
		}
	}
	return Held{}
}

// send sends what differs.
func (w *work) send(ctx context.Context, preview tuning.Preview) error {
	for _, s := range preview.Streams {
		var err error
		switch {
		case s.Made:
			err = w.make(ctx, s.Role)
		case s.Has != s.Want:
			err = w.set(ctx, s.Role, s.Want)
		}
		if err == nil && !s.Made && slices.ContainsFunc(s.Changes, func(c tuning.Change) bool { return c.Field == "audio" }) {
			err = w.setAudio(ctx, s.Role, w.Plan.Streams[s.Role].Audio)
		}
		if err != nil {
			return err
		}
	}
	texts, _ := w.Plan.Overlay.Changes(w.Name, w.view.Overlays)
	if w.Back != nil {
		if err := w.putBack(ctx); err != nil {
			return err
		}
		if w.Back.Texts != nil {
			texts = tuning.PutBack(*w.Back.Texts, w.view.Overlays.Has)
		}
	}
	return w.draw(ctx, texts)
}

// refused keeps a fault as the device's no; any other error is returned.
func (w *work) refused(err error, stream, field, asked string) error {
	var fault *onvif.Fault
	if !errors.As(err, &fault) {
		return err
	}
	w.out.Refused = append(w.out.Refused, tuning.Refusal{Stream: stream, Field: field, Asked: asked, Why: "the device says: " + fault.Reason})
	return nil
}

func (w *work) set(ctx context.Context, role string, e tuning.Encoder) error {
	w.sent = true
	w.Doing("setting the " + role + " stream")
	err := w.c.SetEncoder(ctx, e)
	if fault := new(onvif.Fault); errors.As(err, &fault) {
		delete(w.out.Wanted, role) // what was refused was not set
	}
	if err = w.refused(err, role, "setting", w.Plan.Streams[role].String()); err != nil && ctx.Err() == nil {
		// A device that restarts may hang up before it has answered: reading back tells.
		w.restarted = true
		w.out.SideEffects = append(w.out.SideEffects, fmt.Sprintf("it gave no answer when the %s stream was set", role))
		return w.wait(ctx)
	}
	return err
}

func (w *work) setAudio(ctx context.Context, role, codec string) error {
	w.Doing("setting the sound of the " + role + " stream")
	return w.refused(w.c.SetAudio(ctx, w.view.encoders[w.view.of(role)], codec), role, "audio", codec)
}

// make makes a stream that is not there, of an encoder that nothing uses, and sets it.
func (w *work) make(ctx context.Context, role string) error {
	w.sent = true
	w.Doing("making the " + role + " stream")
	plan := w.Plan.Streams[role]
	name := profileName(role)
	names, err := w.c.ProfileNames(ctx)
	if err != nil {
		return err
	}
	if token, left := names[name]; left { // of a work that was cut off before it had an encoder
		if err := w.refused(w.c.DeleteProfile(ctx, token), role, "stream", plan.String()); err != nil {
			return err
		}
	}
	if len(w.view.free) == 0 {
		w.out.Refused = append(w.out.Refused, tuning.Refusal{Stream: role, Field: "stream", Asked: plan.String(),
			Why: "no encoder is left for it"})
		return nil
	}
	token, err := w.c.CreateProfile(ctx, name, w.view.source, w.view.free[0].Token)
	if err != nil {
		return w.refused(err, role, "stream", plan.String())
	}
	if w.Roles == nil {
		w.Roles = map[string]string{}
	}
	w.Roles = maps.Clone(w.Roles)
	w.Roles[token] = role
	for _, s := range w.view.Streams {
		w.Roles[s.Token] = s.Role
	}
	w.view.free = w.view.free[1:]
	fresh, err := Read(ctx, w.c, w.Camera)
	if err != nil {
		return err
	}
	i := fresh.of(role)
	if i < 0 {
		w.out.Refused = append(w.out.Refused, tuning.Refusal{Stream: role, Field: "stream", Asked: plan.String(),
			Why: "the device said that it was made, and does not list it"})
		return nil
	}
	w.view, w.out.Offers = fresh, fresh.Offers()
	s := fresh.Streams[i]
	want, _, refused := tuning.Towards(role, plan, s.Encoder, s.Offers)
	w.out.Refused = append(w.out.Refused, refused...)
	w.out.Wanted[role] = want
	if want == s.Encoder {
		return nil
	}
	return w.set(ctx, role, want)
}

// putBack undoes what a plan's streams alone cannot: streams that were made, and sounds.
func (w *work) putBack(ctx context.Context) error {
	for role, a := range w.Back.Audio {
		i := w.view.of(role)
		if i < 0 || a.Token == "" || w.view.Streams[i].Audio.Codec == a.Codec {
			continue
		}
		e := w.view.encoders[i]
		if e.AudioToken == "" {
			if err := w.refused(w.c.AddAudio(ctx, e.Profile, a.Token), role, "audio", a.Codec); err != nil {
				return err
			}
			e.AudioToken = a.Token
		}
		if err := w.refused(w.c.SetAudio(ctx, e, a.Codec), role, "audio", a.Codec); err != nil {
			return err
		}
	}
	if len(w.Back.Made) == 0 {
		return nil
	}
	names, err := w.c.ProfileNames(ctx)
	if err != nil {
		return err
	}
	for _, name := range w.Back.Made {
		token, there := names[name]
		if !there {
			continue
		}
		w.Doing("taking away the stream that was made")
		if err := w.refused(w.c.DeleteProfile(ctx, token), name, "stream", "none"); err != nil {
			return err
		}
	}
	return nil
}

// draw changes the texts in the picture.
func (w *work) draw(ctx context.Context, changes []tuning.OverlayChange) error {
	for _, x := range changes {
		w.Doing("setting the text in its picture")
		var err error
		switch {
		case x.Create != nil:
			_, err = w.c.CreateOverlay(ctx, w.view.source, *x.Create)
		case x.Set != nil:
			err = w.c.SetOverlay(ctx, w.view.source, *x.Set)
		default:
			err = w.c.DeleteOverlay(ctx, x.Delete)
		}
		if err := w.refused(err, "overlay", "overlay", w.Plan.Overlay.String()); err != nil {
			return err
		}
	}
	return nil
}

// wait waits until a device that went away answers again: it asks once a second as long as its patience lasts.
func (w *work) wait(ctx context.Context) error {
	w.Doing("waiting until it is back")
	for left := w.Patience; ; left -= time.Second {
		_, err := readStreams(ctx, w.c, w.Camera)
		if fault := new(onvif.Fault); err == nil || errors.As(err, &fault) || left <= 0 {
			return err
		}
		if err := w.Sleep(ctx, time.Second); err != nil {
			return err
		}
	}
}

// readBack tells what the device has made of the settings, and of streams that nobody touched.
func (w *work) readBack(ctx context.Context) (*View, error) {
	if w.sent { // one that restarts still answers for a moment
		if err := w.Sleep(ctx, settleFor); err != nil {
			return nil, err
		}
	}
	w.Doing("reading back")
	back, err := readStreams(ctx, w.c, w.Camera)
	if fault := new(onvif.Fault); err != nil && !errors.As(err, &fault) && ctx.Err() == nil {
		if err := w.wait(ctx); err != nil {
			return nil, err
		}
		w.restarted = true
		w.out.SideEffects = append(w.out.SideEffects, "it restarted when its streams were set")
		back, err = readStreams(ctx, w.c, w.Camera)
	}
	if err != nil {
		return nil, err
	}
	for _, s := range back.Streams {
		w.out.ReadBack[s.Role] = s.Encoder
		to, sent := w.out.Wanted[s.Role]
		before, had := w.out.Has[s.Role]
		_, asked := w.Plan.Streams[s.Role]
		if !sent && !had {
			continue
		}
		if !sent {
			to = before
		}
		_, differs, _ := tuning.Towards(s.Role, to.Plan(), s.Encoder, tuning.Options{})
		for _, d := range differs {
			text := fmt.Sprintf("%s: %s was set to %s and reads back as %s", s.Role, d.Field, d.To, d.From)
			if !asked {
				text = fmt.Sprintf("%s: %s went from %s to %s although nobody touched it: the streams share an encoder", s.Role, d.Field,
					d.To, d.From)
			}
			w.out.SideEffects = append(w.out.SideEffects, text)
		}
	}
	if w.Plan.Overlay != (tuning.Overlay{}) && w.view.source != "" {
		has, err := w.c.Overlays(ctx, w.view.source)
		if left, _ := w.Plan.Overlay.Changes(w.Name, has); err == nil && len(left) > 0 && !w.refusedOverlay() {
			w.out.SideEffects = append(w.out.SideEffects, "overlay: it was set and reads back as "+texted(has.Has))
		}
	}
	return back, ctx.Err()
}

func (w *work) refusedOverlay() bool {
	return slices.ContainsFunc(w.out.Refused, func(r tuning.Refusal) bool { return r.Stream == "overlay" })
}
