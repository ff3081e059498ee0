// Package conversion says what a stream can be turned into for a target that takes it in no other way, and what that costs on a machine.
// It converts nothing itself.
package conversion

import (
	"cmp"
	"fmt"
	"strings"
	"unicode"

	"unlatch/core/stream/tuning"
)

// A Shape is what a stream is turned into. The zero value of a field leaves it as it comes.
type Shape struct {
	Codec      string  `json:"codec,omitempty" enum:"H.264,H.265,MJPEG" doc:"of the picture"`
	Width      int     `json:"width,omitempty" minimum:"0" maximum:"8192" doc:"pixels; the picture keeps its shape, with black beside it"`
	Height     int     `json:"height,omitempty" minimum:"0" maximum:"8192"`
	FPS        float64 `json:"fps,omitempty" minimum:"0" maximum:"60"`
	Kbps       int     `json:"kbps,omitempty" minimum:"0" maximum:"100000"`
	GOPSeconds float64 `json:"gop_seconds,omitempty" minimum:"0" maximum:"60" doc:"between key frames"`
	Sound      string  `json:"sound,omitempty" enum:"none,AAC,Opus" doc:"none leaves it out"`
	Turn       int     `json:"turn,omitempty" enum:"0,90,180,270" doc:"degrees to the right"`
	Text       string  `json:"text,omitempty" maxLength:"60" doc:"a line that stands in the picture, at the bottom left"`
}

// Of returns the form of a stream that a plan asks for.
func Of(p tuning.Stream) Shape {
	return Shape{Codec: p.Codec, Width: p.Width, Height: p.Height, FPS: p.FPS, Kbps: p.BitrateKbps, GOPSeconds: p.GOPSeconds,
		Sound: soundOf(p.Audio)}
}

// soundOf returns the form's word for a plan's audio.
func soundOf(audio string) string {
	if audio == "none" || audio == "" {
		return audio
	}
	if audio == "Opus" {
		return audio
	}
	return "AAC"
}

// IsZero reports whether the stream goes on as it comes.
func (f Shape) IsZero() bool { return f == Shape{} }

// Picture reports whether the picture is made anew, and not the sound alone.
func (f Shape) Picture() bool {
	f.Sound = ""
	return !f.IsZero()
}

// Key names the form: two that want the same share one conversion.
func (f Shape) Key() string {
	return fmt.Sprintf("%s %dx%d %g %d %g %s %d %q", f.Codec, f.Width, f.Height, f.FPS, f.Kbps, f.GOPSeconds, f.Sound, f.Turn, f.Text)
}

// String says the form in words, as in "MJPEG, 640×360, 5 frames a second"; "as it comes" for none.
func (f Shape) String() string {
	var parts []string
	add := func(there bool, format string, a ...any) {
		if there {
			parts = append(parts, fmt.Sprintf(format, a...))
		}
	}
	add(f.Codec != "", "%s", f.Codec)
	add(f.Width > 0, "%d×%d", f.Width, f.Height)
	add(f.FPS > 0, "%.3g frames a second", f.FPS)
	add(f.Kbps > 0, "%d kbit/s", f.Kbps)
	add(f.GOPSeconds > 0, "a key frame every %.3g s", f.GOPSeconds)
	add(f.Turn > 0, "turned by %d°", f.Turn)
	add(f.Sound == "none", "no sound")
	add(f.Text != "", "with the text “%s”", f.Text)
	add(f.Sound != "" && f.Sound != "none", "%s sound", f.Sound)
	if len(parts) == 0 {
		return "as it comes"
	}
	return strings.Join(parts, ", ")
}

// A Source is what is known of the stream that is turned into something else, as it was measured.
type Source struct {
	Codec         string
	Width, Height int
	FPS           float64
}

// pixels returns megapixels a second.
func (s Source) pixels() float64 { return float64(s.Width*s.Height) * s.FPS / 1e6 }

// mostJPEG is the largest size of a picture in JPEG over RTP (RFC 2435 §3.1.5).
const mostJPEG = 2040

// Becomes returns what comes out: all of it is known, where the source is. The size of JPEG is a multiple of eight, as RTP counts it, and
// that of others even.
func (f Shape) Becomes(s Source) Source {
	out := s
	if f.Turn == 90 || f.Turn == 270 {
		out.Width, out.Height = s.Height, s.Width
	}
	if f.Width > 0 && f.Height > 0 {
		out.Width, out.Height = f.Width, f.Height
	}
	out.FPS = cmp.Or(f.FPS, s.FPS)
	out.Codec = cmp.Or(f.Codec, s.Codec)
	if encoders[out.Codec] == "" {
		out.Codec = "H.264"
	}
	step := 2
	if out.Codec == "MJPEG" {
		step = 8
		if most := max(out.Width, out.Height); most > mostJPEG {
			out.Width, out.Height = out.Width*mostJPEG/most, out.Height*mostJPEG/most
		}
	}
	out.Width, out.Height = out.Width/step*step, out.Height/step*step
	return out
}

// Codecs are those that a picture can be turned into.
var Codecs = []string{"H.264", "H.265", "MJPEG"}

// encoders are the software encoders, by codec, as ffmpeg calls them.
var encoders = map[string]string{"H.264": "libx264", "H.265": "libx265", "MJPEG": "mjpeg"}

// A ShapeError says why a stream cannot be turned into a form.
type ShapeError struct{ Problem, Fix string }

func (e *ShapeError) Error() string { return e.Problem }

// Check reports a *ShapeError for a form that no stream can be turned into.
func (f Shape) Check() error {
	switch {
	case (f.Width > 0) != (f.Height > 0):
		return &ShapeError{"The size has a width or a height, and not both.", "Give both, or neither."}
	case f.Width > 0 && (f.Width < 16 || f.Height < 16):
		return &ShapeError{fmt.Sprintf("%d×%d is too small for a picture.", f.Width, f.Height), "Give at least 16 pixels each way."}
	case f.Codec == "MJPEG" && max(f.Width, f.Height) > mostJPEG:
		return &ShapeError{fmt.Sprintf("MJPEG over RTSP is at most %d pixels wide and high.", mostJPEG), "Give a smaller size."}
	case f.Codec == "MJPEG" && f.Sound != "" && f.Sound != "none":
		return &ShapeError{"Sound that is turned into something else does not go with MJPEG here.", "Leave the sound as it comes, or out."}
	case strings.IndexFunc(f.Text, unicode.IsControl) >= 0:
		return &ShapeError{"The text for the picture holds line ends or other control characters.", "Write it in one line."}
	case f.Codec == "MJPEG" && f.GOPSeconds > 0:
		return &ShapeError{"MJPEG has no key frames: every picture stands by itself.", "Leave the key frames out."}
	}
	return nil
}
