// Package weigh says what plans would do to cameras, to what they stand on and to what records them, before anything is sent.
package weigh

import (
	"slices"

	"github.com/google/uuid"

	"unlatch/core/decide/fit"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/capacity"
	"unlatch/core/stream/sighting"
	"unlatch/core/stream/tuning"
)

// An Outlook is what a plan would do to one camera.
type Outlook struct {
	Device  uuid.UUID       `json:"device"`
	Preview *tuning.Preview `json:"preview,omitempty"`
	Unknown string          `json:"unknown,omitempty" doc:"why nothing can be said before it is sent"`
	Cannot  bool            `json:"cannot,omitempty" doc:"it cannot be set from here at all"`
	Targets []fit.Effect    `json:"targets" doc:"what it makes of the camera on its targets"`
	Before  float64         `json:"kbps_before" doc:"of its main and sub stream together"`
	After   float64         `json:"kbps_after"`
}

// Camera weighs a plan for one camera, whose model's encoders get through budget.
func Camera(d *latch.Device, plan tuning.Plan, budget tuning.Budget) Outlook {
	st := &d.Status
	row := Outlook{Device: d.ID, Targets: []fit.Effect{}}
	switch {
	case st.SignedIn == nil || st.SignedIn.Diagnosis != nil:
		row.Unknown, row.Cannot = "It is not signed in to yet: open its latches first.", true
	case st.SignedIn.StreamOnly:
		row.Unknown, row.Cannot = "It has no device service that could be set: use its own page.", true
	case st.Offers == nil:
		row.Unknown = "It was not asked yet what it offers. It is asked before anything is sent."
	case st.Offers.Diagnosis != nil:
		row.Unknown = st.Offers.Diagnosis.Summary
	}
	if row.Unknown != "" {
		return row
	}
	p := tuning.Look(plan, st.Offers.Offers, budget)
	row.Preview = &p
	changed := map[string]tuning.Encoder{}
	for _, x := range p.Streams {
		if x.Made || len(x.Changes) > 0 {
			changed[x.Role] = x.Want
		}
	}
	if len(changed) > 0 {
		row.Targets = fit.Effects(st.FitStreams(), changed, st.WantedIntakes())
	}
	for role, e := range p.Wanted(st.Offers.Offers) {
		now := kbpsOf(st, role)
		row.Before += now
		if _, sent := changed[role]; sent {
			now = float64(e.Kbps)
		}
		row.After += now
	}
	return row
}

// kbpsOf returns the bitrate of a stream in kbit/s: as measured where it was, else as the camera claims.
func kbpsOf(st *latch.Status, role string) float64 {
	if p, ok := st.Proofs[role]; ok && p.Video != nil {
		return p.Video.BitrateKbps
	}
	x, _ := streamOf(st.Streams, role)
	return float64(x.Claimed.BitrateKbps)
}

// streamOf returns the stream of a role.
func streamOf(list []camera.Stream, role string) (camera.Stream, bool) {
	i := slices.IndexFunc(list, func(s camera.Stream) bool { return s.Role == role })
	if i < 0 {
		return camera.Stream{}, false
	}
	return list[i], true
}

// A Source is one stream that is recorded, with whose it is.
type Source struct {
	capacity.Source
	Device uuid.UUID
}

// Sources returns the streams of cameras as their recording is reckoned with: by what was measured, where the plan of a camera does not say
// that it shall be otherwise. Recorders and strays have none. planOf may be nil.
func Sources(devices []*latch.Device, planOf func(*latch.Device) tuning.Plan) (out []Source) {
	for _, d := range devices {
		st := &d.Status
		if st.Device.Kind != sighting.Camera || st.Device.Stray {
			continue
		}
		plan := tuning.Plan{}
		if planOf != nil {
			plan = planOf(d)
		}
		for _, stream := range st.Streams {
			src := measured(st, stream)
			if want, ok := plan.Streams[stream.Role]; ok {
				apply(&src, want)
			}
			out = append(out, Source{src, d.ID})
		}
		for role, want := range plan.Streams { // of a camera that was not asked yet, or has no such stream
			if _, known := streamOf(st.Streams, role); !known && !want.Off && want.BitrateKbps > 0 {
				src := capacity.Source{Role: role}
				apply(&src, want)
				out = append(out, Source{src, d.ID})
			}
		}
	}
	return out
}

// Bare returns the sources without whose they are.
func Bare(list []Source) []capacity.Source {
	out := make([]capacity.Source, len(list))
	for i, s := range list {
		out[i] = s.Source
	}
	return out
}

// measured returns a stream as it was measured, or as the camera claims where it was not.
func measured(st *latch.Status, stream camera.Stream) capacity.Source {
	src := capacity.Source{Role: stream.Role, Kbps: float64(stream.Claimed.BitrateKbps),
		Pixels: float64(stream.Claimed.Width*stream.Claimed.Height) * stream.Claimed.FPS}
	if v := st.Proofs[stream.Role].Video; v != nil {
		src.Kbps, src.Measured = v.BitrateKbps, true
		src.Pixels = float64(v.Width*v.Height) * v.FPS
		if v.Bitrate != nil {
			src.MostKbps = v.Bitrate.Most
		}
	}
	return src
}

// apply puts a plan in place of what was measured, as far as it says something.
func apply(src *capacity.Source, want tuning.Stream) {
	if want.Off {
		*src = capacity.Source{Role: src.Role}
		return
	}
	if want.BitrateKbps > 0 && float64(want.BitrateKbps) != src.Kbps {
		src.Kbps, src.MostKbps, src.Measured = float64(want.BitrateKbps), 0, false
	}
	if want.Width > 0 && want.FPS > 0 {
		src.Pixels = float64(want.Width*want.Height) * want.FPS
	}
}

// Unmet returns the plan of a camera without the streams that meet it as they were measured, and with draft in place of what it says.
func Unmet(st *latch.Status, draft tuning.Plan) tuning.Plan {
	out := tuning.Plan{Streams: map[string]tuning.Stream{}}
	for role, want := range st.Plan.Streams {
		if st.Tunes[role].State != "meets" {
			out.Streams[role] = want
		}
	}
	return out.With(draft)
}
