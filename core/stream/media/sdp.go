// Package media reads what a stream carries: the tracks of an SDP, RTP packets, H.264 access units and parameter
// sets, and measures rate, size, key-frame interval and loss from the packets themselves. Nothing the device
// says about its stream is taken for a measure.
package media

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"
)

// A Track is one media section of an SDP (RFC 8866 §5.14).
type Track struct {
	Kind      string // "video", "audio", "application"
	Payload   uint8
	Codec     string // as in the rtpmap, upper case: "H264", "PCMU", "MPEG4-GENERIC"
	ClockRate int    // Hz
	Channels  int
	Fmtp      map[string]string // parameters under lower-case names
	Control   string            // as written; may be empty, relative, absolute or "*"
	// Width and Height are the size that the description names apart from the codec (RFC 6064 §4.2.1 framesize, cliprect,
	// x-dimensions), in pixels; 0 where it names none.
	Width, Height int
	// Files means, of JPEG, that each frame is a whole file, as HTTP carries it, and not the payload of RFC 2435.
	Files bool
}

// An SDPError says why a description names no playable stream.
type SDPError struct{ Problem string }

func (e *SDPError) Error() string { return "the stream's description (SDP) " + e.Problem }

// static payload types of RFC 3551 §6 that cameras use without an rtpmap.
var static = map[uint8]Track{
	0: {Codec: "PCMU", ClockRate: 8000, Channels: 1}, 2: {Codec: "G726-32", ClockRate: 8000, Channels: 1},
	8: {Codec: "PCMA", ClockRate: 8000, Channels: 1}, 9: {Codec: "G722", ClockRate: 8000, Channels: 1},
	10: {Codec: "L16", ClockRate: 44100, Channels: 2}, 11: {Codec: "L16", ClockRate: 44100, Channels: 1},
	14: {Codec: "MPA", ClockRate: 90000}, 26: {Codec: "JPEG", ClockRate: 90000}, 33: {Codec: "MP2T", ClockRate: 90000},
}

// An SDP is the part of a session description that playing needs.
type SDP struct {
	Control string // session level; "" or "*" for the base itself
	Tracks  []Track
}

// ParseSDP reads a description leniently: unknown lines are passed over, since cameras write many; only a
// description without a single media section is an error. At most 16 tracks and 2048 lines are read.
func ParseSDP(b []byte) (*SDP, error) {
	if len(bytes.TrimSpace(b)) == 0 {
		return nil, &SDPError{"is empty"}
	}
	var s SDP
	lines := strings.Split(string(b), "\n")
	for i, line := range lines {
		if i == 2048 || len(s.Tracks) > 16 {
			return nil, &SDPError{"is longer than any honest one"}
		}
		line = strings.TrimRight(line, "\r ")
		kind, value, ok := strings.Cut(line, "=")
		if !ok {
			continue
		}
		switch kind {
		case "m":
			s.Tracks = append(s.Tracks, mediaLine(value))
		case "a":
			s.attribute(value)
		}
	}
	if len(s.Tracks) == 0 {
		return nil, &SDPError{"names no media at all"}
	}
	return &s, nil
}

func mediaLine(value string) Track {
	fields := strings.Fields(value)
	t := Track{Fmtp: map[string]string{}}
	if len(fields) > 0 {
		t.Kind = strings.ToLower(fields[0])
	}
	if len(fields) > 3 {
		n, _ := strconv.ParseUint(fields[3], 10, 7)
		t.Payload = uint8(n)
	}
	if known, ok := static[t.Payload]; ok {
		t.Codec, t.ClockRate, t.Channels = known.Codec, known.ClockRate, known.Channels
	}
	return t
}

func (s *SDP) attribute(value string) {
	name, rest, _ := strings.Cut(value, ":")
	if len(s.Tracks) == 0 {
		if name == "control" {
			s.Control = rest
		}
		return
	}
	t := &s.Tracks[len(s.Tracks)-1]
	switch name {
	case "control":
		t.Control = strings.TrimSpace(rest)
	case "rtpmap":
		payload, format, _ := strings.Cut(rest, " ")
		if n, err := strconv.ParseUint(payload, 10, 7); err != nil || uint8(n) != t.Payload {
			return
		}
		parts := strings.Split(strings.TrimSpace(format), "/")
		t.Codec = strings.ToUpper(parts[0])
		if len(parts) > 1 {
			t.ClockRate, _ = strconv.Atoi(parts[1])
		}
		t.Channels = 1
		if len(parts) > 2 {
			t.Channels, _ = strconv.Atoi(parts[2])
		}
	case "framesize", "x-dimensions", "cliprect":
		t.size(name, rest)
	case "fmtp":
		_, params, _ := strings.Cut(rest, " ")
		for _, p := range strings.Split(params, ";") {
			name, v, _ := strings.Cut(strings.TrimSpace(p), "=")
			if name != "" && len(t.Fmtp) < 64 {
				t.Fmtp[strings.ToLower(name)] = v
			}
		}
	}
}

// size reads the attributes that name a picture's size: "framesize:26 2560-1440", "x-dimensions:2560,1440" and
// "cliprect:0,0,1440,2560", which is top, left, bottom, right.
func (t *Track) size(name, value string) {
	numbers := strings.FieldsFunc(value, func(r rune) bool { return r < '0' || r > '9' })
	if name == "framesize" && len(numbers) == 3 {
		numbers = numbers[1:]
	}
	if name == "cliprect" && len(numbers) == 4 {
		numbers = []string{numbers[3], numbers[2]}
	}
	if len(numbers) != 2 {
		return
	}
	w, err := strconv.ParseUint(numbers[0], 10, 16)
	h, err2 := strconv.ParseUint(numbers[1], 10, 16)
	if err == nil && err2 == nil {
		t.Width, t.Height = int(w), int(h)
	}
}

// First returns the first track of a kind, or nil.
func (s *SDP) First(kind string) *Track {
	for i := range s.Tracks {
		if s.Tracks[i].Kind == kind {
			return &s.Tracks[i]
		}
	}
	return nil
}

// ControlURL resolves a track's control attribute against the base of the answer (RFC 2326 §C.1.1). A relative one is
// appended as text, after the query if the base has one: that is how devices with query strings mean it.
func ControlURL(base, control string) string {
	if control == "" || control == "*" {
		return base
	}
	if strings.Contains(control, "://") {
		return control
	}
	if strings.HasSuffix(base, "/") || strings.HasPrefix(control, "?") {
		return base + strings.TrimPrefix(control, "/")
	}
	return base + "/" + strings.TrimPrefix(control, "/")
}

// maxSets bounds the parameter sets taken from one description.
const maxSets = 16

// ParameterSets returns the parameter sets that the description carries under a name: sprop-parameter-sets of H.264 (RFC 6184 §8.1),
// sprop-vps, sprop-sps and sprop-pps of H.265 (RFC 7798 §7.1).
func (t *Track) ParameterSets(name string) (sets [][]byte) {
	for s := range strings.SplitSeq(t.Fmtp[name], ",") {
		if len(sets) == maxSets {
			break
		}
		if raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(s)); err == nil && len(raw) > 0 {
			sets = append(sets, raw)
		}
	}
	return sets
}

// CodecName returns the codec as people write it: "H.264", "AAC", "G.711 µ-law".
func (t *Track) CodecName() string {
	names := map[string]string{"H264": "H.264", "H265": "H.265", "JPEG": "MJPEG", "MP4V-ES": "MPEG-4", "MPEG4-GENERIC": "AAC",
		"MP4A-LATM": "AAC", "PCMU": "G.711 µ-law", "PCMA": "G.711 A-law", "OPUS": "Opus", "G722": "G.722", "L16": "L16", "L24": "L24",
		"MPA": "MPEG audio", "MP2T": "MPEG-TS", "AV1": "AV1", "VP8": "VP8", "VP9": "VP9", "VND.ONVIF.METADATA": "ONVIF metadata"}
	if n, ok := names[t.Codec]; ok {
		return n
	}
	if kbps, _, ok := t.g726(); ok {
		return "G.726 at " + kbps + " kbit/s"
	}
	if t.Codec == "" {
		return fmt.Sprintf("payload type %d", t.Payload)
	}
	return t.Codec
}

// g726 returns the rate of a track of G.726 in kbit/s, as its name has it, and whether its codes begin at the most significant bit of a
// byte, as AAL2 has them (ITU-T I.366.2 annex E), and not at the least significant one (RFC 3551 §4.5.4).
func (t *Track) g726() (kbps string, aal2, ok bool) {
	name, aal2 := strings.CutPrefix(t.Codec, "AAL2-")
	kbps, ok = strings.CutPrefix(name, "G726-")
	return kbps, aal2, ok
}
