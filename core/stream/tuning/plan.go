// Package tuning is wanted stream settings and how they are reached: plans, what a device offers for them, the list of changes that leads
// from what it has to what it can be nearest to, and whether what was measured meets the plan. All of it is pure.
package tuning

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// A Size is a picture's width and height in pixels. The zero Size is none.
type Size struct{ Width, Height int }

var sizeText = regexp.MustCompile(`^(\d{1,5})\s*[x×*]\s*(\d{1,5})$`)

// ParseSize reads a size like 1280x720.
func ParseSize(text string) (Size, error) {
	m := sizeText.FindStringSubmatch(strings.ToLower(strings.TrimSpace(text)))
	if m == nil {
		return Size{}, &ParseError{text, "write a size like 1280x720"}
	}
	w, _ := strconv.Atoi(m[1])
	h, _ := strconv.Atoi(m[2])
	if w < 16 || h < 16 || w > 16384 || h > 16384 {
		return Size{}, &ParseError{text, "a picture has from 16 to 16384 pixels a side"}
	}
	return Size{w, h}, nil
}

func (s Size) String() string { return fmt.Sprintf("%dx%d", s.Width, s.Height) }

// Pixels is width times height.
func (s Size) Pixels() int { return s.Width * s.Height }

// Codecs are the video codecs that a plan can ask for, as they are measured, by what people and standards call them.
var codecs = map[string]string{"h264": "H.264", "h.264": "H.264", "avc": "H.264", "h265": "H.265", "h.265": "H.265", "hevc": "H.265",
	"jpeg": "MJPEG", "mjpeg": "MJPEG", "mpeg4": "MPEG-4", "mpeg-4": "MPEG-4", "mpv4-es": "MPEG-4"}

// CodecOf returns the name of a codec as it is measured; ok is false for one that is not known.
func CodecOf(text string) (codec string, ok bool) {
	codec, ok = codecs[strings.ToLower(strings.TrimSpace(text))]
	return codec, ok
}

// A Stream is what is wanted of one stream. The zero value of a field leaves it as it is, and the zero Stream leaves all.
type Stream struct {
	Off         bool    `json:"off,omitempty" doc:"the stream is not wanted at all"`
	Codec       string  `json:"codec,omitempty" enum:"H.264,H.265,MJPEG,MPEG-4"`
	Profile     string  `json:"profile,omitempty"`
	Width       int     `json:"width,omitempty"`
	Height      int     `json:"height,omitempty"`
	FPS         float64 `json:"fps,omitempty"`
	Control     string  `json:"rate_control,omitempty" enum:"cbr,vbr"`
	BitrateKbps int     `json:"bitrate_kbps,omitempty" doc:"of VBR the ceiling"`
	Quality     float64 `json:"quality,omitempty" doc:"in the device's own scale"`
	GOPFrames   int     `json:"gop_frames,omitempty" doc:"frames between key frames"`
	GOPSeconds  float64 `json:"gop_seconds,omitempty" doc:"seconds between key frames; frames count before it"`
	Audio       string  `json:"audio,omitempty" doc:"an audio codec, or none"`
}

// Size returns the wanted size; zero for none.
func (s Stream) Size() Size { return Size{s.Width, s.Height} }

// A ParseError says what of a plan cannot be read.
type ParseError struct{ Text, Wanted string }

func (e *ParseError) Error() string { return fmt.Sprintf("%q cannot be read: %s", e.Text, e.Wanted) }

var (
	fpsText  = regexp.MustCompile(`^(\d+(?:\.\d+)?)\s*(?:fps|/s)$`)
	kbpsText = regexp.MustCompile(`^(\d+(?:\.\d+)?)\s*(kbps|kbit/s|mbps|mbit/s)$`)
	gopText  = regexp.MustCompile(`^gop\s*=?\s*(\d+(?:\.\d+)?)(s?)$`)
	qText    = regexp.MustCompile(`^q(?:uality)?\s*=?\s*(\d+(?:\.\d+)?)$`)
	profiles = map[string]string{"baseline": "Baseline", "main": "Main", "high": "High", "extended": "Extended", "main10": "Main 10",
		"simple":          "Simple",
		"advanced simple": "Advanced Simple"}
)

// ParseStream reads a wanted stream like "h264,1280x720,15fps,2000kbps,cbr,gop30"; "off" is none. Every part may be missing, and "keep" is
// a stream that stays as it is. Its errors are *ParseError.
func ParseStream(text string) (Stream, error) {
	var s Stream
	for _, part := range strings.Split(text, ",") {
		part = strings.ToLower(strings.TrimSpace(part))
		if part == "" {
			return s, &ParseError{text, "a part is empty"}
		}
		if err := s.take(part); err != nil {
			return s, err
		}
	}
	return s, s.Check()
}

func (s *Stream) take(part string) error {
	codec, isCodec := CodecOf(part)
	profile, isProfile := profiles[part]
	number := func(m []string) float64 { v, _ := strconv.ParseFloat(m[1], 64); return v }
	audio, isAudio := strings.CutPrefix(part, "audio=")
	switch m := []string(nil); {
	case part == "keep":
	case part == "off":
		s.Off = true
	case isCodec:
		s.Codec = codec
	case part == "cbr" || part == "vbr":
		s.Control = part
	case isProfile:
		s.Profile = profile
	case isAudio && audio != "":
		s.Audio = audio
	case match(fpsText, part, &m):
		s.FPS = number(m)
	case match(kbpsText, part, &m):
		v := number(m)
		if m[2][0] == 'm' {
			v *= 1000
		}
		s.BitrateKbps = int(math.Round(v))
		if s.BitrateKbps == 0 {
			return &ParseError{part, "a stream needs some bitrate"}
		}
	case match(gopText, part, &m):
		v := number(m)
		switch {
		case v == 0:
			return &ParseError{part, "a key-frame interval is at least one frame"}
		case m[2] == "s":
			s.GOPSeconds = v
		case v != math.Trunc(v):
			return &ParseError{part, "write whole frames as gop30, or seconds as gop2s"}
		default:
			s.GOPFrames = int(v)
		}
	case match(qText, part, &m):
		s.Quality = number(m)
	default:
		size, err := ParseSize(part)
		if err != nil {
			return &ParseError{part,
				"write codec, size, rate, bitrate, cbr or vbr, and key-frame interval like h264,1280x720,15fps,2000kbps,cbr,gop30"}
		}
		s.Width, s.Height = size.Width, size.Height
	}
	return nil
}

func match(re *regexp.Regexp, text string, m *[]string) bool {
	*m = re.FindStringSubmatch(text)
	return *m != nil
}

// Check returns a *ParseError where a plan asks for what no stream has.
func (s Stream) Check() error {
	bad := func(what string, v any) error {
		return &ParseError{fmt.Sprintf("%s %v", what, v), "no stream has that"}
	}
	switch {
	case (s.Width == 0) != (s.Height == 0), s.Width < 0, s.Height < 0, s.Width > 16384, s.Height > 16384:
		return bad("size", s.Size())
	case s.FPS < 0 || s.FPS > 240 || math.IsNaN(s.FPS):
		return bad("frame rate", s.FPS)
	case s.BitrateKbps < 0 || s.BitrateKbps > 1_000_000:
		return bad("bitrate", s.BitrateKbps)
	case s.GOPFrames < 0 || s.GOPFrames > 10_000 || s.GOPSeconds < 0 || s.GOPSeconds > 600:
		return bad("key-frame interval", s.GOPFrames)
	case s.Quality < 0 || s.Control != "" && s.Control != "cbr" && s.Control != "vbr":
		return bad("rate control", s.Control)
	}
	return nil
}

// String writes the stream in the form that ParseStream reads.
func (s Stream) String() string {
	if s.Off {
		return "off"
	}
	var parts []string
	add := func(when bool, text string) {
		if when {
			parts = append(parts, text)
		}
	}
	add(s.Codec != "", strings.ToLower(strings.NewReplacer(".", "", "-", "").Replace(s.Codec)))
	add(s.Profile != "", strings.ToLower(strings.ReplaceAll(s.Profile, "Main 10", "Main10")))
	add(s.Width > 0, s.Size().String())
	add(s.FPS > 0, strconv.FormatFloat(s.FPS, 'f', -1, 64)+"fps")
	add(s.BitrateKbps > 0, strconv.Itoa(s.BitrateKbps)+"kbps")
	add(s.Control != "", s.Control)
	add(s.GOPFrames > 0, "gop"+strconv.Itoa(s.GOPFrames))
	add(s.GOPFrames == 0 && s.GOPSeconds > 0, "gop"+strconv.FormatFloat(s.GOPSeconds, 'f', -1, 64)+"s")
	add(s.Quality > 0, "q"+strconv.FormatFloat(s.Quality, 'f', -1, 64))
	add(s.Audio != "", "audio="+s.Audio)
	if len(parts) == 0 {
		return "keep"
	}
	return strings.Join(parts, ",")
}
