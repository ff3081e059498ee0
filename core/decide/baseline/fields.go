package baseline

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
)

// A Field is one thing that is kept of a device, of a stream or of a placement.
type Field string

// The fields of a device.
const (
	Answers         Field = "answers"
	Address         Field = "address"
	Endpoint        Field = "endpoint"
	Serial          Field = "serial"
	HardwareAddress Field = "hardware_address"
	Maker           Field = "maker"
	Model           Field = "model"
	Firmware        Field = "firmware"
	Certificate     Field = "certificate"
	SignIn          Field = "sign_in"
	Clock           Field = "clock"
	View            Field = "view"
)

// The fields of a stream: as the device says that it is set, and as it was measured.
const (
	Path      Field = "path"
	Plays     Field = "plays"
	Set       Field = "set"
	Codec     Field = "codec"
	Size      Field = "size"
	Rate      Field = "rate"
	Bitrate   Field = "bitrate"
	KeyFrames Field = "key_frames"
	Sound     Field = "sound"
	Transport Field = "transport"
)

// The fields of a placement.
const (
	Slot  Field = "slot"
	Given Field = "given"
	Shows Field = "shows"
)

// Served is whether a stream is served on. It is of no state that is agreed on: a relay was wanted by whoever made it.
const Served Field = "served"

// words are what people call the fields.
var words = map[Field]string{
	Answers: "Answers", View: "View", Plays: "Plays",
	Address: "Address", Endpoint: "Endpoint reference", Serial: "Serial number", HardwareAddress: "Hardware address", Maker: "Maker",
	Model: "Model", Firmware: "Firmware", Certificate: "Certificate", SignIn: "Sign-in", Clock: "Clock",
	Path: "Path", Set: "Settings", Codec: "Codec", Size: "Picture size", Rate: "Frame rate", Bitrate: "Bitrate",
	KeyFrames: "Key frames", Sound: "Sound", Transport: "Transport",
	Slot: "Slot", Given: "Stream that it has", Shows: "Picture there",
}

// Fields returns all fields, sorted.
func Fields() []Field { return slices.Sorted(maps.Keys(words)) }

// Words returns what people call the field.
func (f Field) Words() string { return cmp.Or(words[f], string(f)) }

// alike reports whether two facts of the field count as no change.
func (f Field) alike(a, b Fact) bool {
	switch f {
	case Answers, View, Plays: // states of older forms do not have them, and then nothing is said
		return a.Value == b.Value || a.Value == "" || b.Value == ""
	case Rate:
		return near(a.Number, b.Number, 1, 0.15)
	case KeyFrames:
		return near(a.Number, b.Number, 0.5, 0.25)
	case Bitrate: // a scene at night has a quarter of the bits of the same scene in the rain, and nobody has changed anything
		return near(a.Number, b.Number, 100, 0.75)
	}
	return a.Value == b.Value
}

// near reports whether two measures differ by no more than least, or by no more than a share of the larger one.
func near(a, b, least, share float64) bool {
	return math.Abs(a-b) <= max(least, share*max(a, b))
}

// A list collects facts, without those of which nothing is known.
type list []Fact

func (l *list) add(f Fact) {
	if f.Value != "" {
		*l = append(*l, f)
	}
}

// facts returns what is known of a device.
func facts(d *latch.Device) []Fact {
	var out list
	st := &d.Status
	switch {
	case st.Device.Via != nil:
		out.add(Fact{Field: Address, Value: fmt.Sprintf("channel %d of the recorder at %s", st.Device.Channel, st.Device.Addr)})
	case st.Device.Addr.IsValid():
		out.add(Fact{Field: Address, Value: st.Device.Addr.String()})
	}
	if r := st.Reached; r != nil {
		out.add(Fact{Field: Answers, Value: yes(r.Diagnosis == nil)})
	}
	out.add(Fact{Field: Endpoint, Value: st.Device.Endpoint})
	out.add(Fact{Field: HardwareAddress, Value: st.Device.MAC})
	info := camera.Info{Manufacturer: st.Device.Maker, Model: st.Device.Hardware, Serial: st.Device.Serial}
	if in := st.SignedIn; in != nil {
		info = in.Info
		out.add(Fact{Field: SignIn, Value: signIn(in)})
	}
	out.add(Fact{Field: Serial, Value: cmp.Or(info.Serial, st.Device.Serial)})
	out.add(Fact{Field: Maker, Value: info.Manufacturer})
	out.add(Fact{Field: Model, Value: info.Model})
	out.add(Fact{Field: Firmware, Value: info.Firmware})
	out.add(Fact{Field: Certificate, Value: st.Device.Certificate})
	if r := st.Reached; r != nil && r.Diagnosis == nil && r.Stream == "" {
		out.add(Fact{Field: Clock, Value: clock(r)})
	}
	out.add(Fact{Field: View, Value: view(st.View)})
	for _, s := range st.Streams {
		out.stream(st, s)
	}
	for i := range st.Placements {
		out.placement(&st.Placements[i])
	}
	return out
}

// AgreedView is the value of a view that is as it was agreed on.
const AgreedView = "as agreed"

// view returns what a camera shows. One that was never judged shows what it is known by.
func view(v *evidence.View) string {
	if v == nil || v.Obstacle == "" {
		return AgreedView
	}
	return string(v.Obstacle)
}

// yes returns a fact that is so or not as people read it.
func yes(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

// signIn returns which sign-in opens a device, never what it is.
func signIn(in *evidence.SignedIn) string {
	switch {
	case in.Diagnosis != nil:
		return "none opens it"
	case in.Open:
		return "none is wanted"
	case in.User == "":
		return in.Label
	}
	return fmt.Sprintf("%s (user %s)", in.Label, in.User)
}

// clock returns how far a device's clock is off, to the minute, where it is off at all: what the network adds is no change.
func clock(r *evidence.Reached) string {
	if !r.ClockWrong() {
		return "right"
	}
	off, way := time.Duration(r.SkewMS)*time.Millisecond, "ahead"
	if off < 0 {
		off, way = -off, "behind"
	}
	if off < time.Minute {
		return fmt.Sprintf("under a minute %s", way)
	}
	return fmt.Sprintf("%s %s", strings.TrimSuffix(off.Truncate(time.Minute).String(), "0s"), way)
}

// stream adds what is known of one stream.
func (l *list) stream(st *latch.Status, s camera.Stream) {
	add := func(f Field, value string, number float64) {
		l.add(Fact{Field: f, Subject: s.Role, Of: s.Role, Value: value, Number: number})
	}
	add(Path, path(s.URL), 0)
	if c := s.Claimed; c != (camera.Settings{}) {
		add(Set, fmt.Sprintf("%s %d × %d, %.4g fps, %d kbit/s, key frame every %d frames", c.Codec, c.Width, c.Height, c.FPS, c.BitrateKbps,
			c.GOPFrames), 0)
	}
	p, played := st.Proofs[s.Role]
	if played {
		add(Plays, yes(p.OK), 0)
	}
	if !played || p.Video == nil || !p.OK {
		return
	}
	v := p.Video
	add(Codec, v.Codec, 0)
	add(Size, fmt.Sprintf("%d × %d", v.Width, v.Height), 0)
	add(Rate, fmt.Sprintf("%.4g fps", v.FPS), v.FPS)
	add(Bitrate, fmt.Sprintf("%.0f kbit/s", v.BitrateKbps), v.BitrateKbps)
	if v.GOPSeconds > 0 {
		add(KeyFrames, fmt.Sprintf("every %.3g s", v.GOPSeconds), v.GOPSeconds)
	}
	add(Transport, p.Transport, 0)
	switch a := p.Audio; {
	case a == nil:
		add(Sound, "none", 0)
	case a.Silent:
		add(Sound, a.Codec+", silent", 0)
	default:
		add(Sound, a.Codec, 0)
	}
}

// path returns a URL without the device's address, which is a field of its own. The address of a group is part of what is agreed on.
func path(url string) string {
	u, err := streamurl.Parse(url)
	if err != nil {
		return url
	}
	if at, err := netip.ParseAddr(u.Host); err == nil && at.IsMulticast() {
		return url
	}
	return strings.Replace(url, u.Host, "…", 1)
}

// placement adds what is known of one placement.
func (l *list) placement(p *latch.Placement) {
	add := func(f Field, value string) {
		l.add(Fact{Field: f, Subject: p.Target.String(), Of: p.Name, Value: value})
	}
	slot := p.Slot
	if p.Untaken { // it was there, and the target does not hold it any more
		slot = ""
	}
	add(Slot, cmp.Or(slot, "none"))
	var roles []string
	for _, g := range p.Gives {
		roles = append(roles, g.Role)
	}
	add(Given, strings.Join(roles, " and "))
	switch {
	case p.Confirmed && p.Match != "":
		add(Shows, p.Match)
	case p.Confirmed:
		add(Shows, "yes")
	default:
		add(Shows, "no")
	}
}
