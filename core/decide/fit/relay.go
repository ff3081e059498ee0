package fit

import (
	"cmp"
	"slices"

	"unlatch/core/stream/conversion"
	"unlatch/core/stream/intake"
)

// Source returns what of a stream counts for turning it into something else.
func (s Stream) Source() conversion.Source {
	return conversion.Source{Codec: s.Codec, Width: s.Width, Height: s.Height, FPS: s.FPS}
}

// usualGOP is how many seconds lie between the key frames of what is converted, where nobody has said.
const usualGOP = 2

// relaySecret is as long as the passwords that relays are given, and of the same letters.
const relaySecret = "ABCDEFGHIJKLMNOP"

// Through returns a stream as a relay serves it on in a form, by RTSP on a port.
func Through(s Stream, f conversion.Shape, port int) Stream {
	out := s
	out.Transport, out.TLS, out.Port, out.Scheme, out.Password = "tcp", false, port, "digest SHA-256", relaySecret
	if f.Picture() {
		to := f.Becomes(s.Source())
		out.Codec, out.Width, out.Height, out.FPS = to.Codec, to.Width, to.Height, to.FPS
		out.Profile, out.Kbps, out.GOPSeconds = "Main", float64(f.Kbps), cmp.Or(f.GOPSeconds, usualGOP)
		if to.Codec == "MJPEG" {
			out.Profile, out.GOPSeconds = "Baseline", 0
		}
	}
	out.Audio = cmp.Or(f.Sound, s.Audio)
	return out
}

// An Offer is a stream served on by which a target would take a camera.
type Offer struct {
	Role string           `json:"role" doc:"the stream of the camera that is served on"`
	Form conversion.Shape `json:"form" doc:"what it is turned into; empty where it goes on as it comes"`
}

// ByRelay returns the streams of a camera, served on, by which a target would take it: the nearest form of each, the best stream first.
// Those are the streams that are at least as large as what the target gets, the smallest of them first, and then the larger ones of the
// others. port is that on which it would be served.
func ByRelay(streams map[string]Stream, x intake.Intake, port int) (out []Offer) {
	codecs := x.Codecs
	if x.Codecs = slices.DeleteFunc(slices.Clone(codecs), func(c string) bool {
		return !slices.Contains(conversion.Codecs, c)
	}); len(codecs) > 0 && len(x.Codecs) == 0 {
		return nil
	}
	role := RoleFor(x)
	for _, r := range roles {
		s, has := streams[r]
		if !has {
			continue
		}
		plan, conflicts := Nearest(s, []intake.Intake{x})
		f := conversion.Of(plan)
		if cmp.Or(f.Codec, s.Codec) == "MJPEG" {
			f.GOPSeconds = 0
		}
		relayed := Through(s, f, port)
		relayed.Role = role
		if len(conflicts) == 0 && f.Check() == nil && len(Check(relayed, x)) == 0 {
			out = append(out, Offer{r, f})
		}
	}
	slices.SortStableFunc(out, func(a, b Offer) int {
		return cmp.Compare(loss(streams[a.Role], a.Form), loss(streams[b.Role], b.Form))
	})
	return out
}

// loss orders streams by how well they serve for a form: how many pixels come in more than are wanted, and behind all of those the ones
// that have too few.
func loss(s Stream, f conversion.Shape) int {
	to := f.Becomes(s.Source())
	have, want := s.Width*s.Height, to.Width*to.Height
	if have < want {
		return 1<<40 - have
	}
	return have
}
