package fit

import (
	"cmp"
	"fmt"
	"strings"

	"unlatch/core/stream/camera"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
)

var roles = camera.Roles

// Best reports whether a target takes one of a camera's streams. Where it takes none, the reasons are those of the stream that it may be
// given with the fewest.
func Best(streams map[string]Stream, x intake.Intake) (reasons []Reason, ok bool) {
	found := false
	for _, role := range roles {
		s, has := streams[role]
		if !has || !x.TakesRole(role) {
			continue
		}
		r := Check(s, x)
		if len(r) == 0 {
			return nil, true
		}
		if !found || len(r) < len(reasons) {
			reasons, found = r, true
		}
	}
	if !found {
		reasons = []Reason{{Target: x.Name, Field: "role", Has: noStream, Wants: strings.Join(x.Roles, " or ")}}
	}
	return reasons, false
}

// noStream is what a camera has of a stream that it does not have.
const noStream = "no such stream"

// names are the fields as people say them.
var names = map[string]string{"fps": "frame rate", "bitrate_kbps": "bitrate in kbit/s",
	"gop_seconds": "key-frame interval in seconds", "role": "stream"}

// Words are reasons in one line.
func Words(reasons []Reason) string {
	var parts []string
	for _, r := range reasons {
		if r.Field == "role" && r.Has == noStream {
			parts = append(parts, fmt.Sprintf("it wants the %s stream, which the camera does not have", r.Wants))
			continue
		}
		parts = append(parts, fmt.Sprintf("%s is %s, it wants %s", cmp.Or(names[r.Field], r.Field), r.Has, r.Wants))
	}
	return strings.Join(parts, "; ")
}

// RoleFor returns the stream that a target is given: the first that it may have; main where it says nothing.
func RoleFor(x intake.Intake) string {
	for _, role := range roles {
		if x.TakesRole(role) {
			return role
		}
	}
	return "main"
}

// made is where the nearest plan of a stream that is not there yet begins.
var made = Stream{Codec: "H.264", Width: 640, Height: 360, FPS: 10, Kbps: 512, GOPSeconds: 2}

// NearestPlan returns the plan nearest to a camera's streams with which each target takes the stream that it is given, or the demands that
// contradict each other. A target that takes one of the streams already asks for nothing more of another.
func NearestPlan(streams map[string]Stream, all []intake.Intake) (tuning.Plan, []Conflict) {
	given := map[string][]intake.Intake{}
	for _, x := range all {
		role := RoleTaken(streams, x)
		given[role] = append(given[role], x)
	}
	var p tuning.Plan
	var conflicts []Conflict
	for _, role := range roles {
		list := given[role]
		if len(list) == 0 {
			continue
		}
		s, has := streams[role]
		if !has {
			s = made
			s.Role = role
		}
		want, c := Nearest(s, list)
		conflicts = append(conflicts, c...)
		if !has { // all of it has to be said
			full := tuning.Stream{Codec: s.Codec, Width: s.Width, Height: s.Height, FPS: s.FPS, BitrateKbps: int(s.Kbps), GOPSeconds: s.GOPSeconds}
			want = over(full, want)
		}
		if want != (tuning.Stream{}) {
			p = p.With(tuning.Plan{Streams: map[string]tuning.Stream{role: want}})
		}
	}
	return p, conflicts
}

// RoleTaken returns the stream that a target takes as it is; the one that it would be given where it takes none.
func RoleTaken(streams map[string]Stream, x intake.Intake) string {
	for _, role := range roles {
		if s, has := streams[role]; has && x.TakesRole(role) && len(Check(s, x)) == 0 {
			return role
		}
	}
	return RoleFor(x)
}

// over returns a stream's plan with what another says in place of its own.
func over(s, o tuning.Stream) tuning.Stream {
	s.Codec, s.Profile, s.Audio = cmp.Or(o.Codec, s.Codec), cmp.Or(o.Profile, s.Profile), cmp.Or(o.Audio, s.Audio)
	if o.Width > 0 {
		s.Width, s.Height = o.Width, o.Height
	}
	s.FPS, s.BitrateKbps = cmp.Or(o.FPS, s.FPS), cmp.Or(o.BitrateKbps, s.BitrateKbps)
	s.GOPSeconds = cmp.Or(o.GOPSeconds, s.GOPSeconds)
	return s
}

// Becomes returns a stream as it would be with an encoder's setting.
func Becomes(s Stream, e tuning.Encoder) Stream {
	s.Codec, s.Profile, s.Width, s.Height, s.FPS, s.Kbps = e.Codec, cmp.Or(e.Profile, s.Profile), e.Width, e.Height, e.FPS, float64(e.Kbps)
	if s.GOPSeconds = 0; e.FPS > 0 {
		s.GOPSeconds = float64(e.GOPFrames) / e.FPS
	}
	return s
}
