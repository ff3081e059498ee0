package tuning

import (
	"fmt"
	"math"
)

// A StreamPreview is what a plan would do to one stream.
type StreamPreview struct {
	Role    string    `json:"role"`
	Made    bool      `json:"made,omitempty" doc:"it has no such stream yet: it is made"`
	Has     Encoder   `json:"has"`
	Want    Encoder   `json:"want"`
	Changes []Change  `json:"changes"`
	Kept    []Change  `json:"kept,omitempty" doc:"asked for and not offered, where what it has is the nearest"`
	Refused []Refusal `json:"refused"`
}

// A Preview is what a plan would do to a device, as far as is known before anything is sent.
type Preview struct {
	Streams  []StreamPreview `json:"streams"`
	Overlay  string          `json:"overlay,omitempty" doc:"what is drawn into the picture from then on; missing where that stays"`
	Warnings []string        `json:"warnings" doc:"what one change does to another"`
}

// Changed reports whether anything would be sent.
func (p Preview) Changed() bool {
	for _, s := range p.Streams {
		if len(s.Changes) > 0 {
			return true
		}
	}
	return p.Overlay != ""
}

// Wanted returns all streams as they would be, those that nobody touches among them.
func (p Preview) Wanted(offers Offers) map[string]Encoder {
	out := map[string]Encoder{}
	for _, o := range offers.Streams {
		out[o.Role] = o.Encoder
	}
	for _, s := range p.Streams {
		if s.Made || len(s.Changes) > 0 {
			out[s.Role] = s.Want
		}
	}
	return out
}

// Look returns what a plan would do to a device with such offers, within a budget that its model has shown.
func Look(plan Plan, offers Offers, budget Budget) Preview {
	out := Preview{Streams: []StreamPreview{}, Warnings: []string{}}
	for _, role := range roles {
		want, asked := plan.Streams[role]
		if !asked || want == (Stream{}) {
			continue
		}
		s := StreamPreview{Role: role, Changes: []Change{}, Refused: []Refusal{}}
		o, has := offers.Of(role)
		switch {
		case want.Off && !has:
			continue
		case want.Off:
			s.Has, s.Want = o.Encoder, o.Encoder
			s.Refused = append(s.Refused, Refusal{role, "stream", "off", "a stream is switched off on the device's own page"})
		case has:
			s.Has = o.Encoder
			s.Want, s.Changes, s.Refused = Towards(role, want, o.Encoder, o.Options)
			s.Kept = Kept(role, want, o.Encoder, s.Want, s.Refused)
			s.audio(want, o.Audio)
			for _, other := range offers.Streams {
				if other.Role != role && other.Encoder.Token == o.Encoder.Token && len(s.Changes) > 0 {
					out.Warnings = append(out.Warnings, fmt.Sprintf("%s shares its encoder setting with %s: both change", other.Role, role))
				}
			}
		case offers.Makes:
			s.Made, s.Want = true, New(want)
			s.Changes = append(s.Changes, Change{role, "stream", "none", want.String(), want.String()})
		default:
			s.Refused = append(s.Refused, Refusal{role, "stream", want.String(), "it has no such stream; make one on the device's own page"})
		}
		if s.Changes == nil {
			s.Changes = []Change{}
		}
		if s.Refused == nil {
			s.Refused = []Refusal{}
		}
		out.Streams = append(out.Streams, s)
	}
	if plan.Overlay != (Overlay{}) {
		if offers.Overlays.Most == 0 {
			out.Warnings = append(out.Warnings, "it draws no text by its device service: look on its own page")
		} else {
			out.Overlay = plan.Overlay.String()
		}
	}
	out.warn(offers, budget)
	return out
}

func (s *StreamPreview) audio(plan Stream, has Audio) {
	if plan.Audio == "" || plan.Audio == has.Codec || plan.Audio == "none" && has.Token == "" {
		return
	}
	why := ""
	switch {
	case has.Token == "":
		why = "the stream has no sound"
	case plan.Audio != "none" && !foldContains(has.Codecs, plan.Audio):
		why = fmt.Sprintf("it offers %v", has.Codecs)
	}
	if why != "" {
		s.Refused = append(s.Refused, Refusal{s.Role, "audio", plan.Audio, why})
		return
	}
	s.Changes = append(s.Changes, Change{s.Role, "audio", has.Codec, plan.Audio, plan.Audio})
}

// warn tells what the streams are to each other: a sub stream larger than the main one, more streams than there are encoders, more pixels
// than the encoder gets through.
func (p *Preview) warn(offers Offers, budget Budget) {
	wanted := p.Wanted(offers)
	main, sub := wanted["main"], wanted["sub"]
	if main.Width > 0 && sub.Size().Pixels() > main.Size().Pixels() {
		p.Warnings = append(p.Warnings, fmt.Sprintf("the sub stream (%s) is larger than the main stream (%s)", sub.Size(), main.Size()))
	}
	if offers.Instances > 0 && len(wanted) > offers.Instances {
		p.Warnings = append(p.Warnings, fmt.Sprintf("it says that it has %d streams at once, and %d are wanted", offers.Instances, len(wanted)))
	}
	if !p.Changed() {
		return
	}
	if text := budget.Over(wanted, offers); text != "" {
		p.Warnings = append(p.Warnings, text)
	}
}

// New returns the setting of a stream that is to be made, with what nobody has said in a usual way.
func New(plan Stream) Encoder {
	e := Encoder{Codec: plan.Codec, Profile: plan.Profile, Width: plan.Width, Height: plan.Height, FPS: plan.FPS, Control: plan.Control,
		Kbps: plan.BitrateKbps, Quality: plan.Quality}
	if e.Codec == "" {
		e.Codec = "H.264"
	}
	if e.Width == 0 {
		e.Width, e.Height = 640, 360
	}
	if e.FPS == 0 {
		e.FPS = 10
	}
	if e.Kbps == 0 {
		e.Kbps = 512
	}
	if e.GOPFrames = int(math.Round(wantedGOP(plan, e.FPS))); e.GOPFrames == 0 {
		e.GOPFrames = int(2 * e.FPS)
	}
	return e
}
