package tuning

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"unlatch/core/stream/media"
)

// An Encoder is the setting of one video encoder of a device, whole: a device wants all of it back when a part is to change.
type Encoder struct {
	Token      string  `json:"token"`
	Name       string  `json:"name,omitempty"`
	UseCount   int     `json:"use_count,omitempty" doc:"how many profiles share it: a change changes all of them"`
	Codec      string  `json:"codec"`
	Profile    string  `json:"profile,omitempty"`
	Width      int     `json:"width"`
	Height     int     `json:"height"`
	FPS        float64 `json:"fps"`
	Control    string  `json:"rate_control,omitempty" enum:"cbr,vbr" doc:"missing where the device does not tell"`
	Kbps       int     `json:"bitrate_kbps"`
	GOPFrames  int     `json:"gop_frames"`
	Quality    float64 `json:"quality,omitempty"`
	Interval   int     `json:"encoding_interval,omitempty" doc:"of ver10: every so many frames is encoded"`
	Multicast  string  `json:"-"` // the device's own words for it, given back as they came
	SessionFor string  `json:"-"` // the session timeout, given back as it came
}

// Size returns the size of its picture.
func (e Encoder) Size() Size { return Size{e.Width, e.Height} }

// Plan returns the plan for exactly this setting.
func (e Encoder) Plan() Stream {
	return Stream{Codec: e.Codec, Profile: e.Profile, Width: e.Width, Height: e.Height, FPS: e.FPS, Control: e.Control, BitrateKbps: e.Kbps,
		GOPFrames: e.GOPFrames, Quality: e.Quality}
}

// A Span is from Min to Max; both nought where it is not known.
type Span struct {
	Min float64 `json:"min"`
	Max float64 `json:"max"`
}

func (s Span) known() bool { return s.Max > 0 }

func (s Span) clamp(v float64) float64 {
	if !s.known() {
		return v
	}
	return min(max(v, s.Min), s.Max)
}

// CodecOptions are what an encoder offers with one codec.
type CodecOptions struct {
	Codec    string    `json:"codec"`
	Profiles []string  `json:"profiles,omitempty"`
	Sizes    []Size    `json:"sizes,omitempty"`
	FPS      []float64 `json:"fps,omitempty" doc:"these and no others"`
	FPSSpan  Span      `json:"fps_span"`
	Kbps     Span      `json:"bitrate_kbps"`
	GOP      Span      `json:"gop_frames"`
	Quality  Span      `json:"quality"`
	CBR      bool      `json:"cbr,omitempty" doc:"a constant bitrate can be chosen"`
}

// Options are what one encoder offers, a codec each.
type Options struct {
	Codecs []CodecOptions `json:"codecs"`
}

// Of returns the options of a codec.
func (o Options) Of(codec string) (CodecOptions, bool) {
	i := slices.IndexFunc(o.Codecs, func(c CodecOptions) bool { return c.Codec == codec })
	if i < 0 {
		return CodecOptions{}, false
	}
	return o.Codecs[i], true
}

// A Change is one setting that is to become another.
type Change struct {
	Stream string `json:"stream"`
	Field  string `json:"field"`
	From   string `json:"from"`
	To     string `json:"to"`
	Asked  string `json:"asked" doc:"what the plan asks for, which the device may not offer to the digit"`
}

// Rounded reports whether the device offers something near to what was asked, and not that.
func (c Change) Rounded() bool { return c.Asked != c.To }

// A Refusal is one wish that the device cannot meet at all.
type Refusal struct {
	Stream string `json:"stream"`
	Field  string `json:"field"`
	Asked  string `json:"asked"`
	Why    string `json:"why"`
}

// Towards returns the setting nearest to a plan that an encoder can have: what changes, and what it cannot do. What the plan leaves open
// stays, as far as the rest lets it. Where the device offers no list or range, what was asked is sent, and the device's answer tells.
func Towards(role string, plan Stream, has Encoder, offers Options) (want Encoder, changes []Change, refused []Refusal) {
	want = has
	w := &towards{role: role, want: &want}
	w.codec(plan, offers)
	o, known := offers.Of(want.Codec)
	if !known {
		o = CodecOptions{Codec: want.Codec}
	}
	w.o, w.other = o, want.Codec != has.Codec
	w.profile(plan)
	w.size(plan)
	w.rate(plan)
	w.bitrate(plan)
	w.gop(plan)
	w.quality(plan)
	for _, c := range compare(plan, has, want) {
		if c.changes() {
			changes = append(changes, c.change(role))
		}
	}
	return want, changes, w.refused
}

// A setting is one of an encoder's as it is, as it becomes and as it was asked for. Numbers are compared as numbers and written only where
// somebody will read them: plans of thousands of cameras are weighed while a person types.
type setting struct {
	field               string
	has, want, asked    string // of what is no number
	hasN, wantN, askedN float64
	isNumber            bool
}

func (s setting) changes() bool {
	if s.isNumber {
		return math.Abs(s.hasN-s.wantN) >= 1e-4*math.Abs(s.wantN) && s.hasN != s.wantN
	}
	return s.has != s.want
}

func (s setting) rounded() bool {
	if s.isNumber {
		return math.Abs(s.askedN-s.wantN) >= 1e-4*math.Abs(s.wantN) && s.askedN != s.wantN
	}
	return s.asked != s.want
}

func (s setting) change(role string) Change {
	if s.isNumber {
		return Change{role, s.field, number(s.hasN), number(s.wantN), number(s.askedN)}
	}
	return Change{role, s.field, s.has, s.want, s.asked}
}

// compare lists every setting.
func compare(plan Stream, has, want Encoder) [8]setting {
	word := func(field, has, want, asked string) setting {
		return setting{field: field, has: has, want: want, asked: cmp.Or(asked, want)}
	}
	value := func(field string, has, want, asked float64) setting {
		return setting{field: field, hasN: has, wantN: want, askedN: cmp.Or(asked, want), isNumber: true}
	}
	size := setting{field: "size"}
	if asked := sizeOr(plan.Size(), want.Size()); has.Size() != want.Size() || asked != want.Size() {
		size = setting{field: "size", has: has.Size().String(), want: want.Size().String(), asked: asked.String()}
	}
	return [...]setting{
		word("codec", has.Codec, want.Codec, plan.Codec),
		word("profile", has.Profile, want.Profile, plan.Profile),
		size,
		value("fps", has.FPS, want.FPS, plan.FPS),
		word("rate_control", has.Control, want.Control, plan.Control),
		value("bitrate_kbps", float64(has.Kbps), float64(want.Kbps), float64(plan.BitrateKbps)),
		value("gop_frames", float64(has.GOPFrames), float64(want.GOPFrames), wantedGOP(plan, want.FPS)),
		value("quality", has.Quality, want.Quality, plan.Quality),
	}
}

// Exactly lists what changes when an encoder is set to just that, whatever is offered: a device may have a setting that it does not offer.
func Exactly(role string, has, want Encoder) (changes []Change) {
	for _, c := range compare(want.Plan(), has, want) {
		if c.changes() {
			changes = append(changes, c.change(role))
		}
	}
	return changes
}

// Kept lists what a plan asks for that a device does not offer, where what it has already is the nearest: nothing changes, and it is said.
// What it refuses altogether is not among it.
func Kept(role string, plan Stream, has, want Encoder, refused []Refusal) (out []Change) {
	for _, c := range compare(plan, has, want) {
		told := slices.ContainsFunc(refused, func(r Refusal) bool { return r.Field == c.field })
		if !c.changes() && c.rounded() && !told && !(c.field == "gop_frames" && want.Codec == "MJPEG") {
			out = append(out, c.change(role))
		}
	}
	return out
}

type towards struct {
	role    string
	want    *Encoder
	o       CodecOptions
	other   bool // another codec: what it does not offer of the rest cannot stay
	refused []Refusal
}

func (w *towards) refuse(field, asked, why string) {
	w.refused = append(w.refused, Refusal{w.role, field, asked, why})
}

func (w *towards) codec(plan Stream, offers Options) {
	if plan.Codec == "" || plan.Codec == w.want.Codec {
		return
	}
	if _, ok := offers.Of(plan.Codec); !ok && len(offers.Codecs) > 0 {
		var names []string
		for _, c := range offers.Codecs {
			names = append(names, c.Codec)
		}
		w.refuse("codec", plan.Codec, "it offers "+strings.Join(names, " and "))
		return
	}
	w.want.Codec, w.want.Profile = plan.Codec, "" // a profile belongs to its codec
}

func (w *towards) profile(plan Stream) {
	list := w.o.Profiles
	offered := func(p string) bool { return foldContains(list, p) }
	if plan.Profile != "" && (len(list) == 0 || offered(plan.Profile)) {
		w.want.Profile = plan.Profile
		return
	}
	if plan.Profile != "" {
		w.refuse("profile", plan.Profile, "it offers "+strings.Join(list, " and "))
	}
	if w.other && len(list) > 0 && !offered(w.want.Profile) {
		w.want.Profile = list[len(list)-1]
	}
}

func (w *towards) size(plan Stream) {
	if plan.Width == 0 && !w.other {
		return
	}
	wish := sizeOr(plan.Size(), w.want.Size())
	if len(w.o.Sizes) > 0 && !slices.Contains(w.o.Sizes, wish) {
		wish = NearestSize(wish, w.o.Sizes)
	}
	w.want.Width, w.want.Height = wish.Width, wish.Height
}

// rate takes the offered rate nearest to the wish that is not above it, else the least one: a rate below what was asked costs less, and
// one above it more than somebody reckoned with.
func (w *towards) rate(plan Stream) {
	if plan.FPS == 0 && !w.other {
		return
	}
	wish := cmp.Or(plan.FPS, w.want.FPS)
	if len(w.o.FPS) == 0 {
		w.want.FPS = w.o.FPSSpan.clamp(wish)
		return
	}
	best := slices.Min(w.o.FPS)
	for _, v := range w.o.FPS {
		if v <= wish+1e-9 && v > best {
			best = v
		}
	}
	w.want.FPS = best
}

func (w *towards) bitrate(plan Stream) {
	if plan.BitrateKbps > 0 || w.other {
		w.want.Kbps = int(math.Round(w.o.Kbps.clamp(float64(cmp.Or(plan.BitrateKbps, w.want.Kbps)))))
	}
	switch {
	case plan.Control == "":
	case plan.Control == "cbr" && !w.o.CBR && len(w.o.Codec) > 0 && w.want.Control != "cbr":
		w.refuse("rate_control", "cbr", "it does not offer a constant bitrate by its device service; look on its own page")
	default:
		w.want.Control = plan.Control
	}
}

// wantedGOP returns the wanted interval in frames; 0 for none.
func wantedGOP(plan Stream, fps float64) float64 {
	if plan.GOPFrames > 0 {
		return float64(plan.GOPFrames)
	}
	return math.Round(plan.GOPSeconds * fps)
}

func (w *towards) gop(plan Stream) {
	if w.want.Codec == "MJPEG" {
		w.want.GOPFrames = 0
		return
	}
	asked := wantedGOP(plan, w.want.FPS)
	if wish := cmp.Or(asked, float64(w.want.GOPFrames)); wish > 0 && (asked > 0 || w.other) {
		w.want.GOPFrames = int(math.Round(w.o.GOP.clamp(wish)))
	}
}

func (w *towards) quality(plan Stream) {
	if plan.Quality > 0 || w.other && w.want.Quality > 0 {
		w.want.Quality = w.o.Quality.clamp(cmp.Or(plan.Quality, w.want.Quality))
	}
}

func foldContains(list []string, text string) bool {
	return slices.ContainsFunc(list, func(s string) bool { return strings.EqualFold(s, text) })
}

func sizeOr(a, b Size) Size {
	if a.Width == 0 {
		return b
	}
	return a
}

func number(v float64) string { return fmt.Sprintf("%.4g", v) }

// NearestSize returns the size nearest to a wish: by the share of pixels, smaller before larger, the same shape before another.
func NearestSize(wish Size, list []Size) Size {
	return slices.MinFunc(list, func(a, b Size) int { return cmp.Compare(distance(wish, a), distance(wish, b)) })
}

func distance(wish, c Size) float64 {
	if wish.Pixels() == 0 || c.Pixels() == 0 {
		return math.Inf(1)
	}
	d := math.Abs(math.Log(float64(c.Pixels()) / float64(wish.Pixels())))
	if c.Pixels() > wish.Pixels() {
		d += 10
	}
	return d + 2*math.Abs(math.Log(float64(c.Width)/float64(c.Height)*float64(wish.Height)/float64(wish.Width)))
}

// Tolerances of what was measured against a plan. Size and codec are exact.
const (
	fpsOff  = 0.1  // of the wanted rate
	kbpsOff = 0.25 // of the wanted bitrate, above it; of CBR below it as well
	gopOff  = 1    // frames
)

// A Measure is what was measured of a stream, as far as a plan asks for it.
type Measure struct {
	Codec         string
	Width, Height int
	FPS, Kbps     float64
	GOPFrames     float64
}

// MeasureOf returns a measured stream as a plan asks for it; nil is nothing measured.
func MeasureOf(v *media.Measured) Measure {
	if v == nil {
		return Measure{}
	}
	m := Measure{Codec: v.Codec, Width: v.Width, Height: v.Height, FPS: v.FPS, Kbps: v.BitrateKbps}
	if v.Keyframes < v.Frames { // every frame a key frame is no interval
		m.GOPFrames = v.GOPFrames
	}
	return m
}

// WantsRestart reports whether a device says that it is set as was wanted and sends what it sent before.
func WantsRestart(wanted, before, readBack Encoder, got Measure) bool {
	_, differs, _ := Towards("", wanted.Plan(), readBack, Options{})
	return len(differs) == 0 && len(Meets(wanted.Plan(), wanted, got)) > 0 && before.Codec != "" &&
		len(Meets(Stream{FPS: before.FPS, GOPFrames: before.GOPFrames}, before, got)) == 0
}

// A Difference is one thing that was measured otherwise than it was set.
type Difference struct {
	Field string `json:"field"`
	Set   string `json:"set"`
	Got   string `json:"got"`
}

// words are the fields as people say them.
var words = map[string]string{"fps": "the frame rate", "bitrate_kbps": "the bitrate", "gop_frames": "the key-frame interval",
	"codec": "the codec",
	"size":  "the size"}

func (d Difference) String() string {
	unit := map[string]string{"fps": " fps", "bitrate_kbps": " kbit/s", "gop_frames": " frames"}[d.Field]
	return fmt.Sprintf("%s is %s%s, set was %s%s", words[d.Field], d.Got, unit, d.Set, unit)
}

// Meets lists in what a stream that was measured does not meet what was set; none where it does. Codec and size have to be as they
// were set, or as they were; of the rest only what the plan asks for counts.
func Meets(plan Stream, set Encoder, got Measure) (off []Difference) {
	add := func(bad bool, field, set, got string) {
		if bad {
			off = append(off, Difference{field, set, got})
		}
	}
	add(got.Codec != set.Codec, "codec", set.Codec, got.Codec)
	size := Size{got.Width, got.Height}
	add(size != set.Size(), "size", set.Size().String(), size.String())
	add(plan.FPS > 0 && math.Abs(got.FPS-set.FPS) > max(fpsOff*set.FPS, 0.5), "fps", number(set.FPS), number(got.FPS))
	kbps := float64(set.Kbps)
	add(plan.BitrateKbps > 0 && (got.Kbps > kbps*(1+kbpsOff) || set.Control == "cbr" && got.Kbps < kbps*(1-kbpsOff)), "bitrate_kbps",
		number(kbps), number(got.Kbps))
	interval := plan.GOPFrames > 0 || plan.GOPSeconds > 0
	add(interval && set.GOPFrames > 0 && got.GOPFrames > 0 && math.Abs(got.GOPFrames-float64(set.GOPFrames)) > gopOff, "gop_frames",
		number(float64(set.GOPFrames)), number(got.GOPFrames))
	return off
}
