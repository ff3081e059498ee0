package rtsp

import (
	"strings"
	"time"
)

// A Replay asks a recorder for what it has recorded (ONVIF Streaming Specification, "Playback and recording"). Without it a recorder
// plays a recording from its oldest picture on, or refuses.
type Replay struct {
	// From is the moment to begin at, by the recorder's clock; the zero time leaves it to the recorder.
	From time.Time
}

// clockRange is how RTSP writes a moment in UTC (RFC 2326 §3.7).
const clockRange = "20060102T150405.000Z"

// required are the header fields of each request that concerns the recording.
func (r *Replay) required() []Field {
	if r == nil {
		return nil
	}
	return []Field{{"Require", "onvif-replay"}}
}

// playing are the header fields of PLAY. The recorder sends as fast as the connection takes it: one who wants a picture does not wait
// for the time between two.
func (r *Replay) playing() []Field {
	if r == nil {
		return []Field{{"Range", "npt=0.000-"}}
	}
	out := append(r.required(), Field{"Rate-Control", "no"})
	if !r.From.IsZero() {
		out = append(out, Field{"Range", "clock=" + r.From.UTC().Format(clockRange) + "-"})
	}
	return out
}

// RangeFrom returns the moment that a Range of PLAY begins at; ok is false where it names none in UTC (RFC 2326 §12.29).
func RangeFrom(value string) (from time.Time, ok bool) {
	text, ok := strings.CutPrefix(value, "clock=")
	text, _, _ = strings.Cut(text, "-")
	from, err := time.Parse("20060102T150405.999999999Z", text)
	return from, ok && err == nil
}
