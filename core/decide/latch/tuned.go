package latch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/fit"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/tuning"
)

// A Tune is how one stream stands to its plan.
type Tune struct {
	State string              `json:"state" enum:"meets,differs,unknown,off" doc:"off: no such stream is wanted, and there is none"`
	Sent  bool                `json:"sent" doc:"the plan was sent to the device"`
	Want  tuning.Encoder      `json:"want" doc:"the plan, rounded to what the device offers"`
	Off   []tuning.Difference `json:"off,omitempty" doc:"in what the stream differs"`
}

// tuned is open when what was measured of each stream meets its plan. Where nobody has a plan, it is open when every wanted target takes
// one of the streams; and where nobody has said what the targets take either, there is nothing to check.
func (d *deriver) tuned() {
	b, r := body[evidence.Tuned](d, "")
	if b != nil && b.Undone && b.Diagnosis == nil && !b.Pending {
		b, d.s.PutBack.Tuning = nil, true
	}
	d.s.Tuning = b
	if d.intent.Plans != nil {
		d.s.Plan, d.s.Whose = tuning.Resolve(d.intent.Plans(d.s.Model()))
	}
	if b != nil && b.Diagnosis != nil {
		d.set(Tuned, r, b.Diagnosis, "")
		return
	}
	plan := maps.Clone(d.s.Plan.Streams)
	if b != nil { // what was set on the bench and is nobody's plan counts too
		plan = tuning.Plan{Streams: b.Plan}.With(d.s.Plan).Streams
	}
	d.s.Tunes = d.compare(plan, b)
	if len(d.s.Tunes) == 0 {
		d.fits()
		return
	}
	d.tunedTo(plan, b, r)
}

// compare puts what was measured of each planned stream beside its plan.
func (d *deriver) compare(plan map[string]tuning.Stream, b *evidence.Tuned) map[string]Tune {
	out := map[string]Tune{}
	for role, want := range plan {
		i := slices.IndexFunc(d.s.Streams, func(s camera.Stream) bool { return s.Role == role })
		t := Tune{State: "unknown", Sent: b != nil && !b.Pending && b.Plan[role] == want}
		switch {
		case want == (tuning.Stream{}):
			continue
		case want.Off && i < 0:
			t.State = "off"
		case want.Off:
			t.State, t.Off = "differs", []tuning.Difference{{Field: "stream", Set: "off", Got: "on"}}
		case i < 0:
			if len(d.s.Streams) > 0 {
				t.State, t.Off = "differs", []tuning.Difference{{Field: "stream", Set: want.String(), Got: "none"}}
			}
		default:
			d.measure(role, want, b, &t)
		}
		out[role] = t
	}
	return out
}

// measure compares one stream that is there.
func (d *deriver) measure(role string, want tuning.Stream, b *evidence.Tuned, t *Tune) {
	i := slices.IndexFunc(d.s.Streams, func(s camera.Stream) bool { return s.Role == role })
	p := d.s.Proofs[role]
	proven := p.Video != nil && d.s.Proves(d.s.Streams[i])
	got := tuning.MeasureOf(p.Video)
	sent, ok := tuning.Encoder{}, false
	if t.Sent {
		sent, ok = b.Wanted[role]
	}
	switch offer, known := d.offer(role); {
	case ok:
		t.Want = sent
	case known:
		t.Want, _, _ = tuning.Towards(role, want, offer.Encoder, offer.Options)
	default:
		t.Want = tuning.Encoder{Codec: cmp.Or(want.Codec, got.Codec), Width: cmp.Or(want.Width, got.Width),
			Height: cmp.Or(want.Height, got.Height), FPS: want.FPS, Kbps: want.BitrateKbps, Control: want.Control, GOPFrames: want.GOPFrames}
	}
	if !proven {
		return
	}
	t.State = "meets"
	if t.Off = tuning.Meets(want, t.Want, got); len(t.Off) > 0 {
		t.State = "differs"
	}
}

func (d *deriver) offer(role string) (tuning.Offer, bool) {
	if d.s.Offers == nil {
		return tuning.Offer{}, false
	}
	return d.s.Offers.Of(role)
}

// tunedTo is the latch where there is a plan.
func (d *deriver) tunedTo(plan map[string]tuning.Stream, b *evidence.Tuned, r *evidence.Record) {
	l := d.s.Latch(Tuned)
	if b != nil {
		if text := d.drift(plan, b, r); text != "" {
			l.State, l.Reason = Stale, text
			return
		}
	}
	var off []string
	sent, measured := true, true
	for _, role := range camera.Roles {
		t, ok := d.s.Tunes[role]
		if !ok {
			continue
		}
		sent = sent && t.Sent
		measured = measured && t.State != "unknown"
		if t.State == "differs" && d.restarts(role, b) {
			d.set(Tuned, r, &diagnose.Diagnosis{Cause: trouble.WantsRestart,
				Summary: fmt.Sprintf("The %s stream reads back as it was set, and is sent as it was before: the device wants a restart.", role),
				Fix:     "Restart it. It is away for a minute or two, and its streams are played anew when it is back.",
				Seen:    t.Off[0].String()}, "")
			return
		}
		for _, f := range t.Off {
			off = append(off, fmt.Sprintf("Of the %s stream %s", role, f))
		}
	}
	if b != nil {
		for _, x := range b.Refused {
			if want, ok := plan[x.Stream]; ok && want == b.Plan[x.Stream] {
				off = append([]string{fmt.Sprintf("Of the %s stream %s %s was refused: %s", x.Stream, x.Field, x.Asked, x.Why)}, off...)
			}
		}
	}
	proven := d.s.Latch(Proven)
	switch {
	case len(off) > 0 && sent:
		d.set(Tuned, r, &diagnose.Diagnosis{Cause: trouble.NotTuned, Summary: off[0] + ".",
			Seen: strings.Join(append(off, b.SideEffects...), "; "),
			Fix:  "Ask for what it offers, or put the settings back. What its device service does not take may stand on its own page."}, "")
	case len(off) > 0:
		l.State, l.Reason = Next, "Its plan is not on it yet: "+strings.ToLower(off[0][:1])+off[0][1:]
		if proven.State != Open {
			l.State = Closed
		}
	case b != nil && (b.Pending || !measured):
		l.State, l.Reason = Stale, "Its streams were set and have not been played since"
	case measured && b != nil && sent:
		d.set(Tuned, r, nil, "What was measured is what was set")
	case measured:
		l.State, l.Since, l.Evidence, l.Reason = Open, proven.Since, proven.Evidence, "What was measured meets its plan"
	}
}

// drift says what of a stream is otherwise now than it read back when it was set; "" where nothing is.
func (d *deriver) drift(plan map[string]tuning.Stream, b *evidence.Tuned, set *evidence.Record) string {
	if _, named := body[evidence.Located](d, ""); b.Pending || named == nil || !newer(*named, *set) {
		return "" // what it claims is older than what it was set to
	}
	for _, st := range d.s.Streams {
		was, ok := b.ReadBack[st.Role]
		now := st.Claimed
		if _, planned := plan[st.Role]; !ok || !planned || now == (camera.Settings{}) {
			continue
		}
		for _, f := range []struct{ what, was, now string }{
			{"codec", was.Codec, now.Codec},
			{"size", was.Size().String(), tuning.Size{Width: now.Width, Height: now.Height}.String()},
			{"frame rate", fmt.Sprint(was.FPS), fmt.Sprint(now.FPS)},
			{"bitrate", fmt.Sprint(was.Kbps), fmt.Sprint(now.BitrateKbps)},
			{"key-frame interval", fmt.Sprint(was.GOPFrames), fmt.Sprint(now.GOPFrames)},
		} {
			if f.was != f.now {
				return fmt.Sprintf("Somebody has changed it since: the %s of the %s stream was %s, and is %s", f.what, st.Role, f.was, f.now)
			}
		}
	}
	return ""
}

// restarts reports whether a stream that was set is still sent as before although it reads back as set.
func (d *deriver) restarts(role string, b *evidence.Tuned) bool {
	p, ok := d.s.Proofs[role]
	if b == nil || b.Pending || !ok || p.Video == nil {
		return false
	}
	wanted, sent := b.Wanted[role]
	before, had := b.Has[role]
	return sent && had && tuning.WantsRestart(wanted, before, b.ReadBack[role], tuning.MeasureOf(p.Video))
}

// fits is the latch where nobody has a plan: every wanted target has to take one of the streams.
func (d *deriver) fits() {
	l, proven := d.s.Latch(Tuned), d.s.Latch(Proven)
	said := 0
	first := ""
	streams := d.s.FitStreams()
	for _, t := range d.intent.Targets {
		if t.Intake == nil {
			continue
		}
		said++
		reasons, ok := t.takes(streams)
		if ok {
			continue
		}
		if first == "" {
			first = fmt.Sprintf("%s takes none of its streams: %s", t.Name, fit.Words(reasons))
		}
	}
	switch {
	case said == 0:
		l.State, l.Reason = Waived, "Nobody has said how its streams shall be set"
	case proven.State != Open:
	case first == "":
		l.State, l.Since, l.Evidence, l.Reason = Open, proven.Since, proven.Evidence, "Every wanted target takes a stream of it"
	default:
		l.State, l.Since, l.Evidence = Stuck, proven.Since, proven.Evidence
		l.Diagnosis = &diagnose.Diagnosis{Cause: trouble.IntakeUnmet, Summary: first + ".",
			Fix: "Set it to the nearest plan that all its targets take. What changes is shown before anything is sent."}
		l.Reason = l.Diagnosis.Summary
	}
}

// FitStreams returns its proven streams as targets look at them, by role.
func (s *Status) FitStreams() map[string]fit.Stream {
	out := map[string]fit.Stream{}
	for _, st := range s.Streams {
		p, ok := s.Proofs[st.Role]
		u, err := streamurl.Parse(st.URL)
		if ok && err == nil && p.Video != nil && s.Proves(st) {
			out[st.Role] = fit.OfProof(p.Proof, st.Role, u, signin.SignIn{})
		}
	}
	return out
}
