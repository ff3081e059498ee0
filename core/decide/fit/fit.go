// Package fit compares streams with what targets accept: it says what does not fit and why, and which settings nearest to the present ones
// would fit all wanted targets at once, or which of their demands contradict each other. All of it is pure.
package fit

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
)

// A Stream is what is known of a stream, measured wherever it could be. The zero value of a field is not known and fits.
type Stream struct {
	Role          string
	Codec         string
	Profile       string
	Width, Height int
	FPS           float64
	Kbps          float64
	GOPSeconds    float64
	Audio         string // its codec, or none
	Transport     string // of a proof; ToOne for one that is sent to one machine
	TLS           bool
	Port          int
	Scheme        string // none, basic, digest MD5, …
	Password      string // is looked at and never told
}

// ToOne is the transport of a transport stream that is sent to one machine, and not to a group: no other machine can take it.
const ToOne = "mpeg-ts to one machine"

// A Reason is one thing that does not fit.
type Reason struct {
	Target string `json:"target,omitempty"`
	Field  string `json:"field"`
	Has    string `json:"has"`
	Wants  string `json:"wants"`
}

func (r Reason) String() string {
	return fmt.Sprintf("%s is %s; %s wants %s", r.Field, r.Has, r.Target, r.Wants)
}

// Check lists what of a stream a target does not accept; none where it fits.
func Check(s Stream, x intake.Intake) (out []Reason) {
	add := func(field, has, wants string) { out = append(out, Reason{x.Name, field, has, wants}) }
	oneOf := func(list []string) string { return strings.Join(list, " or ") }
	if s.Role != "" && !x.TakesRole(s.Role) {
		add("role", s.Role, oneOf(x.Roles))
	}
	if s.Codec != "" && len(x.Codecs) > 0 && !slices.Contains(x.Codecs, s.Codec) {
		add("codec", s.Codec, oneOf(x.Codecs))
	}
	if s.Profile != "" && !takesProfile(x, s.Codec, s.Profile) {
		add("profile", s.Profile, oneOf(x.Profiles))
	}
	if size := (tuning.Size{Width: s.Width, Height: s.Height}); s.Width > 0 && !takesSize(x, size) {
		add("size", size.String(), sizeWanted(x))
	}
	if s.FPS > 0 && !x.FPS.Has(s.FPS) {
		add("fps", fmt.Sprintf("%.4g", s.FPS), x.FPS.String())
	}
	if s.Kbps > 0 && !x.Kbps.Has(s.Kbps) {
		add("bitrate_kbps", fmt.Sprintf("%.0f", s.Kbps), x.Kbps.String())
	}
	if s.GOPSeconds > 0 && !x.GOPSeconds.Has(s.GOPSeconds) {
		add("gop_seconds", fmt.Sprintf("%.3g", s.GOPSeconds), x.GOPSeconds.String())
	}
	if s.Audio != "" && len(x.Audio) > 0 && !contains(x.Audio, s.Audio) {
		add("audio", s.Audio, oneOf(x.Audio))
	}
	if s.Transport != "" && !slices.Contains(x.TakenTransports(), s.Transport) {
		add("transport", s.Transport, oneOf(x.TakenTransports()))
	}
	if x.TLS == "no" && s.TLS {
		add("tls", "encrypted", "not encrypted")
	}
	if x.TLS == "yes" && s.Transport != "" && !s.TLS {
		add("tls", "not encrypted", "encrypted")
	}
	if s.Port > 0 && len(x.Ports) > 0 && !slices.Contains(x.Ports, s.Port) {
		add("port", fmt.Sprint(s.Port), fmt.Sprint(x.Ports))
	}
	if scheme, _, _ := strings.Cut(s.Scheme, " "); scheme != "" && len(x.Schemes) > 0 && !slices.Contains(x.Schemes, scheme) {
		add("scheme", s.Scheme, oneOf(x.Schemes))
	}
	if !x.Password.Takes(s.Password) {
		add("password", "another one", x.Password.String())
	}
	return out
}

func contains(list []string, text string) bool {
	return slices.ContainsFunc(list, func(s string) bool { return strings.EqualFold(s, text) })
}

// takesProfile: only H.264 and H.265 have profiles that targets are particular about.
func takesProfile(x intake.Intake, codec, profile string) bool {
	return len(x.Profiles) == 0 || codec == "MJPEG" || codec == "MPEG-4" || contains(x.Profiles, profile)
}

func takesSize(x intake.Intake, s tuning.Size) bool {
	return (len(x.Sizes) == 0 || slices.Contains(x.Sizes, s)) && s.Width >= x.MinSize.Width && s.Height >= x.MinSize.Height &&
		(x.MaxSize.Width == 0 || s.Width <= x.MaxSize.Width && s.Height <= x.MaxSize.Height)
}

func sizeWanted(x intake.Intake) string {
	var parts []string
	if len(x.Sizes) > 0 {
		var names []string
		for _, s := range x.Sizes {
			names = append(names, s.String())
		}
		parts = append(parts, strings.Join(names, " or "))
	}
	if x.MaxSize.Width > 0 {
		parts = append(parts, "at most "+x.MaxSize.String())
	}
	if x.MinSize.Width > 0 {
		parts = append(parts, "at least "+x.MinSize.String())
	}
	return strings.Join(parts, ", ")
}

// A Conflict is a smallest set of demands that no setting meets: without any one of them there would be one.
type Conflict struct {
	Field   string   `json:"field"`
	Demands []Demand `json:"demands"`
}

// A Demand is what one target wants of a field.
type Demand struct {
	Target string `json:"target"`
	Wants  string `json:"wants"`
}

func (c Conflict) String() string {
	var parts []string
	for _, d := range c.Demands {
		parts = append(parts, d.Target+" wants "+d.Wants)
	}
	return c.Field + ": " + strings.Join(parts, ", ")
}

// A field is one setting of a stream that a plan can change: what it is now, and how a value is found that all intakes take.
type field struct {
	name  string
	wants func(x intake.Intake) string // "" for nothing
	// nearest sets in plan the value nearest to what s has that all take, and reports whether there is one.
	nearest func(s Stream, all []intake.Intake, plan *tuning.Stream) bool
}

var fieldsOfPlan = []field{
	{"codec", func(x intake.Intake) string { return strings.Join(x.Codecs, " or ") }, nearestCodec},
	{"profile", func(x intake.Intake) string { return strings.Join(x.Profiles, " or ") }, nearestProfile},
	{"size", sizeWanted, nearestSize},
	{"fps", func(x intake.Intake) string { return demand(x.FPS) }, nearestFPS},
	{"bitrate_kbps", func(x intake.Intake) string { return demand(x.Kbps) }, nearestKbps},
	{"gop_seconds", func(x intake.Intake) string { return demand(x.GOPSeconds) }, nearestGOP},
	{"audio", func(x intake.Intake) string { return strings.Join(x.Audio, " or ") }, nearestAudio},
}

func demand(r intake.Range) string {
	if r == (intake.Range{}) {
		return ""
	}
	return r.String()
}

// Nearest returns the plan nearest to what a stream has that all targets accept; its zero fields stay as they are. conflicts are the
// demands that contradict each other, of which there are none where the plan satisfies all. What a plan cannot change, a password
// or a port, is not its business: see Check.
func Nearest(s Stream, all []intake.Intake) (plan tuning.Stream, conflicts []Conflict) {
	for _, f := range fieldsOfPlan {
		if !f.nearest(s, all, &plan) {
			conflicts = append(conflicts, f.conflict(s, all, plan))
		}
	}
	return plan, conflicts
}

// conflict leaves out every demand without which there is still no value, one after the other: what remains is a smallest set.
func (f field) conflict(s Stream, all []intake.Intake, plan tuning.Stream) Conflict {
	left := slices.DeleteFunc(slices.Clone(all), func(x intake.Intake) bool { return f.wants(x) == "" })
	for i := 0; i < len(left); {
		without := slices.Delete(slices.Clone(left), i, i+1)
		trial := plan
		if f.nearest(s, without, &trial) {
			i++
		} else {
			left = without
		}
	}
	c := Conflict{Field: f.name}
	for _, x := range left {
		c.Demands = append(c.Demands, Demand{x.Name, f.wants(x)})
	}
	return c
}

// common returns the words that all lists have, in the order of the first that has any; ok is false where there is none. No lists at all
// have no bound: nil and ok.
func common(lists [][]string) (out []string, ok bool) {
	first := true
	for _, l := range lists {
		if len(l) == 0 {
			continue
		}
		if first {
			out, first = slices.Clone(l), false
			continue
		}
		out = slices.DeleteFunc(out, func(s string) bool { return !contains(l, s) })
	}
	return out, first || len(out) > 0
}

func listsOf(all []intake.Intake, of func(intake.Intake) []string) (out [][]string) {
	for _, x := range all {
		out = append(out, of(x))
	}
	return out
}

func nearestCodec(s Stream, all []intake.Intake, plan *tuning.Stream) bool {
	list, ok := common(listsOf(all, func(x intake.Intake) []string { return x.Codecs }))
	if ok && len(list) > 0 && s.Codec != "" && !contains(list, s.Codec) {
		plan.Codec = list[0]
	}
	return ok
}

func nearestProfile(s Stream, all []intake.Intake, plan *tuning.Stream) bool {
	codec := cmp.Or(plan.Codec, s.Codec)
	if codec == "MJPEG" || codec == "MPEG-4" {
		return true
	}
	list, ok := common(listsOf(all, func(x intake.Intake) []string { return x.Profiles }))
	if ok && len(list) > 0 && (plan.Codec != "" || s.Profile != "" && !contains(list, s.Profile)) {
		plan.Profile = list[len(list)-1] // the last one named compresses best, as a rule
	}
	return ok
}

func nearestAudio(s Stream, all []intake.Intake, plan *tuning.Stream) bool {
	list, ok := common(listsOf(all, func(x intake.Intake) []string { return x.Audio }))
	if ok && len(list) > 0 && s.Audio != "" && !contains(list, s.Audio) {
		plan.Audio = list[0]
		if contains(list, "none") {
			plan.Audio = "none" // nothing is transcoded for a target that takes none of it
		}
	}
	return ok
}

func within(all []intake.Intake, of func(intake.Intake) intake.Range) (r intake.Range, ok bool) {
	for _, x := range all {
		o := of(x)
		r.Min = max(r.Min, o.Min)
		if o.Max > 0 && (r.Max == 0 || o.Max < r.Max) {
			r.Max = o.Max
		}
	}
	return r, r.Max == 0 || r.Min <= r.Max
}

func nearestFPS(s Stream, all []intake.Intake, plan *tuning.Stream) bool {
	r, ok := within(all, func(x intake.Intake) intake.Range { return x.FPS })
	if ok && s.FPS > 0 && !r.Has(s.FPS) {
		plan.FPS = r.Nearest(s.FPS)
	}
	return ok
}

func nearestKbps(s Stream, all []intake.Intake, plan *tuning.Stream) bool {
	r, ok := within(all, func(x intake.Intake) intake.Range { return x.Kbps })
	if ok && s.Kbps > 0 && !r.Has(s.Kbps) {
		v := r.Nearest(s.Kbps)
		plan.BitrateKbps = int(math.Floor(v))
		if float64(plan.BitrateKbps) < r.Min {
			plan.BitrateKbps = int(math.Ceil(r.Min))
		}
	}
	return ok
}

func nearestGOP(s Stream, all []intake.Intake, plan *tuning.Stream) bool {
	r, ok := within(all, func(x intake.Intake) intake.Range { return x.GOPSeconds })
	if ok && s.GOPSeconds > 0 && !r.Has(s.GOPSeconds) {
		plan.GOPSeconds = r.Nearest(s.GOPSeconds)
	}
	return ok
}

// nearestSize takes the size that all accept whose number of pixels is nearest, smaller before larger, the same shape before another. Where
// no target lists its sizes the present one is scaled between the bounds, its shape kept as far as they let it.
func nearestSize(s Stream, all []intake.Intake, plan *tuning.Stream) bool {
	var listed []tuning.Size
	lists := false
	least, most := tuning.Size{}, tuning.Size{Width: math.MaxInt32, Height: math.MaxInt32}
	for _, x := range all {
		least = tuning.Size{Width: max(least.Width, x.MinSize.Width), Height: max(least.Height, x.MinSize.Height)}
		if x.MaxSize.Width > 0 {
			most = tuning.Size{Width: min(most.Width, x.MaxSize.Width), Height: min(most.Height, x.MaxSize.Height)}
		}
		if len(x.Sizes) > 0 && !lists {
			listed, lists = x.Sizes, true
		}
	}
	if least.Width > most.Width || least.Height > most.Height {
		return false
	}
	fitsAll := func(c tuning.Size) bool {
		return !slices.ContainsFunc(all, func(x intake.Intake) bool { return !takesSize(x, c) })
	}
	has := tuning.Size{Width: s.Width, Height: s.Height}
	if !lists {
		if s.Width == 0 || fitsAll(has) {
			return true
		}
		c := scaled(has, least, most)
		plan.Width, plan.Height = c.Width, c.Height
		return fitsAll(c)
	}
	candidates := slices.DeleteFunc(slices.Clone(listed), func(c tuning.Size) bool { return !fitsAll(c) })
	if len(candidates) == 0 {
		return false
	}
	if s.Width == 0 || fitsAll(has) {
		return true
	}
	c := tuning.NearestSize(has, candidates)
	plan.Width, plan.Height = c.Width, c.Height
	return true
}

// scaled keeps the shape of a size as far as the bounds let it; sides are even, as codecs want them, where there is room.
func scaled(s, least, most tuning.Size) tuning.Size {
	f := 1.0
	f = min(f, float64(most.Width)/float64(s.Width), float64(most.Height)/float64(s.Height))
	f = max(f, float64(least.Width)/float64(s.Width), float64(least.Height)/float64(s.Height))
	side := func(v, low, high int) int {
		n := min(max(int(math.Round(float64(v)*f)), low), high)
		if n%2 == 1 && n > low && n > 16 {
			n--
		}
		return n
	}
	return tuning.Size{Width: side(s.Width, least.Width, most.Width), Height: side(s.Height, least.Height, most.Height)}
}
