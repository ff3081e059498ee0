// Package sim is the stand-ins: cameras and recorders that speak WS-Discovery, ONVIF and RTSP on loopback addresses with
// real encoded pictures, defects included. They ship with the product for its demo and its tests.
package sim

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"

	"github.com/google/uuid"
	"go.yaml.in/yaml/v3"

	"unlatch/core/ground/signin"
	"unlatch/sim/scene"
	"unlatch/sim/targets"
)

// A Scenario is the devices of a network, as data.
type Scenario struct {
	Name    string   `yaml:"name"`
	Users   []User   `yaml:"users"` // on every device that lists none of its own
	Devices []Device `yaml:"devices"`
	// Targets are what cameras are put onto, besides the recorders among the devices.
	Targets []targets.Target `yaml:"targets"`
}

// A User is an account of a device.
type User struct {
	Name   string        `yaml:"name"`
	Secret signin.Secret `yaml:"secret"`
	Level  string        `yaml:"level"` // Administrator, Operator, User
}

// A Device is one stand-in, or many of a kind where Count is given.
type Device struct {
	Name     string     `yaml:"name"`
	Kind     string     `yaml:"kind"`  // camera (the default), recorder, or other
	Maker    string     `yaml:"maker"` // corvane, lumenhythe, holloway
	Model    string     `yaml:"model"`
	Firmware string     `yaml:"firmware"`
	Serial   string     `yaml:"serial"`
	Address  netip.Addr `yaml:"address"` // of the first
	Count    int        `yaml:"count"`   // how many, on addresses counting up; 0 means one
	Scene    string     `yaml:"scene"`
	Caption  *string    `yaml:"caption"` // in the picture; the name where none is given
	Users    []User     `yaml:"users"`
	Streams  []Stream   `yaml:"streams"`
	Slots    int        `yaml:"slots"`    // of a recorder; 0 means 8
	Texts    int        `yaml:"texts"`    // how many texts it draws into its pictures at most; 0 for none
	PTZ      *PTZ       `yaml:"ptz"`      // nil for a camera that does not move
	Channels []Channel  `yaml:"channels"` // of a recorder: what is plugged into its own switch
	MAC      string     `yaml:"mac"`      // made from the serial where none is given
	// the name of another device whose address it claims too: it answers discovery there and serves nothing
	Shares       string     `yaml:"shares"`
	Lease        netip.Addr `yaml:"lease"`      // the address that DHCP gives it; a device with a lease starts with DHCP on
	NextLease    netip.Addr `yaml:"next_lease"` // what DHCP gives it after LeaseSeconds: its address changes while it runs
	LeaseSeconds int        `yaml:"lease_seconds"`
	PluggedIn    int        `yaml:"plugged_in"` // seconds after the start at which somebody plugs it in; 0 for at once
	// TLS is the certificate that it shows on its TLS ports: "own" for one of its own, "factory" for the one that its maker puts on every
	// device, "expired" for one of its own whose time is over; "" for no TLS at all.
	TLS string `yaml:"tls"`
	// Announces are the protocols that it answers: ws-discovery, ws-unicast, ws-discovery6 (over IPv6), mdns, ssdp; ws-discovery where the
	// field is missing.
	Announces []string `yaml:"announces"`
	// Setup is what it is set to on its maker's own page at first, in the maker's words.
	Setup   map[string]string `yaml:"setup"`
	Defects Defects           `yaml:"defects"`

	endpoint string
}

// A Channel is a camera on a recorder's private subnet, which the recorder sends on.
type Channel struct {
	Name    string     `yaml:"name"`
	Address netip.Addr `yaml:"address"` // on the private subnet; nothing listens there
	Scene   string     `yaml:"scene"`
	Streams []Stream   `yaml:"streams"`
	Page    int        `yaml:"page"` // the recorder's port that leads to the camera's own page; 0 for none
}

// A Stream is an encoder setting.
type Stream struct {
	Width   int    `yaml:"width"`
	Height  int    `yaml:"height"`
	FPS     int    `yaml:"fps"`
	Kbps    int    `yaml:"kbps"`
	GOP     int    `yaml:"gop"` // frames
	Profile string `yaml:"profile"`
	// Codec is h264 (the default), h265, jpeg or mpeg4.
	Codec scene.Codec `yaml:"codec"`
	Smart bool        `yaml:"smart"` // key frames come irregularly, up to 16 seconds apart
	// Audio is the sound beside the picture: "true" for G.711, aac, latm, g726, opus, or silent, which is G.711 with nothing in it; ""
	// for none.
	Audio    string `yaml:"audio"`
	Metadata bool   `yaml:"metadata"`  // ONVIF metadata beside the picture
	Spare    bool   `yaml:"spare"`     // an encoder that is in no profile until somebody makes one
	Cast     *Cast  `yaml:"multicast"` // how it is sent to a group; nil for a stream that is not
	// Changes is another size, width and height, that the stream has in every other loop.
	Changes [2]int `yaml:"changes"`
}

// Defects are what can be wrong with a device.
type Defects struct {
	ClockOffset  int    `yaml:"clock_offset"`   // seconds its clock is wrong by
	NamesAddress string `yaml:"names_address"`  // the address it puts into its answers
	Answers      int    `yaml:"answers"`        // how often it answers one probe; 0 means once
	LateProbe    bool   `yaml:"late_probe"`     // hears only the second probe of a kind
	XAddrs       string `yaml:"xaddrs"`         // addresses that it lists before its own: dead ones, other networks', IPv6 ones
	PathFirst    bool   `yaml:"path_first"`     // its stream service judges the path before the sign-in
	AnyPath      bool   `yaml:"any_path"`       // its stream service sends its picture for any path
	StreamClosed bool   `yaml:"stream_closed"`  // its RTSP port is closed
	PlainSignIns bool   `yaml:"plain_sign_ins"` // of a recorder: it takes no URL whose sign-in is percent-encoded
	KeepsSignIn  bool   `yaml:"keeps_sign_in"`  // of a recorder: a receiver that gets another URL goes on with the sign-in of the old one
	OneTrack     bool   `yaml:"one_track"`      // of a recorder: a recording takes one stream
	// OwnChannels is how a recorder treats what is on its own switch: "" records it, "idle" has a job for it that does not run, "mixed"
	// records each channel as the next one.
	OwnChannels string `yaml:"own_channels"`
	// Replay is how a recorder plays what it has recorded: "" from the oldest picture on unless it is told from when, "oldest" whatever it
	// is told, "refuses" who does not ask as the standard wants, "unknown" without telling how new its newest picture is.
	Replay         string `yaml:"replay"`
	Encrypts       bool   `yaml:"encrypts"`        // its maker's own encryption is on: packets come, and no picture
	Transport      string `yaml:"transport"`       // the one that its streams take: "" for TCP and UDP, "udp", "multicast", "tls", "tunnel"
	Redirects      string `yaml:"redirects"`       // where its stream service sends every DESCRIBE: "path", "loop", or an rtsp URL
	StaleSeconds   int    `yaml:"stale_seconds"`   // how long a nonce is good; 0 for ever
	KeepsStreams   bool   `yaml:"keeps_streams"`   // accepts that its stream service is switched, and does not switch it
	NoSnapshot     bool   `yaml:"no_snapshot"`     // names no snapshot
	StreamSilent   bool   `yaml:"stream_silent"`   // its RTSP port takes connections and says nothing
	RefusesAddress bool   `yaml:"refuses_address"` // turns a new address down
	LosesAddress   bool   `yaml:"loses_address"`   // takes a new address and comes back at the old one
	RestartSeconds int    `yaml:"restart_seconds"` // how long it is away
	OtherMAC       string `yaml:"other_mac"`       // comes back from a restart with this one
	LocksAfter     int    `yaml:"locks_after"`     // wrong tries after which it judges none for a while; 0 for never
	LockSeconds    int    `yaml:"lock_seconds"`    // for how long; 0 means 60
	LockedSeconds  int    `yaml:"locked_seconds"`  // how long it is locked at the start: somebody has tried before
	// how it says so: "" by 503 and Retry-After, "words" in a 403, "refuses" as if wrong, "drops" the connection
	LockAnswer   string `yaml:"lock_answer"`
	Sessions     int    `yaml:"sessions"`      // viewers it can serve; 0 means many, below 0 none
	NoParameters bool   `yaml:"no_parameters"` // SDP without parameter sets
	StrayFrames  bool   `yaml:"stray_frames"`  // interleaved frames on channels nobody asked for
	StopsAfter   int    `yaml:"stops_after"`   // key frames after which it sends no more; 0 for never
	DropsTracks  bool   `yaml:"drops_tracks"`  // hangs up on who wants another track than the picture
	Drops        int    `yaml:"drops"`         // of a hundred packets of its pictures, how many never go out
	HTTPS        string `yaml:"https"`         // "only" where it has no plain web port, "redirects" where that one sends everybody to TLS
	// Encoder is how it takes settings of its encoders: "" as they are, "clamps" to half the bitrate and ten frames a second and says
	// nothing, "refuses" with a fault, "ignores" them and says yes, "shares" what the first stream gains with what the second one loses,
	// "budget" where all streams share so many pixels a second, "restarts" after each, "reboots" where they count after a restart only,
	// "forgets" them once they were read back, "vbr" where it has no constant bitrate, "drops" the sessions that are in use.
	Encoder    string `yaml:"encoder"`
	Media2Only bool   `yaml:"media2_only"` // it has no Media service of ver10
	KeepsTexts bool   `yaml:"keeps_texts"` // says that it takes a text out of its pictures, and goes on drawing it
	WrongPaths bool   `yaml:"wrong_paths"` // its device service names paths that its streams do not know
	// Page is what its own page does with what it is told: "" does it, "nothing" says OK and does nothing, "lies" shows it and does nothing.
	Page string `yaml:"page"`
}

// LoadScenario reads a YAML file. Unknown fields and impossible values are errors with their line.
func LoadScenario(path string) (*Scenario, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	s, err := ParseScenario(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return s, nil
}

// ParseScenario reads a scenario and expands counts into single devices.
func ParseScenario(raw []byte) (*Scenario, error) {
	var s Scenario
	d := yaml.NewDecoder(bytes.NewReader(raw))
	d.KnownFields(true)
	if err := d.Decode(&s); err != nil {
		return nil, err
	}
	var all []Device
	for i, dev := range s.Devices {
		if err := dev.complete(&s, i); err != nil {
			return nil, err
		}
		all = append(all, dev.expand()...)
	}
	if len(all) > 4096 {
		return nil, fmt.Errorf("%d devices are too many; 4096 is the most", len(all))
	}
	seen := map[netip.Addr]string{}
	for i := range all {
		dev := &all[i]
		if dev.Shares != "" {
			j := slices.IndexFunc(all, func(o Device) bool { return o.Name == dev.Shares && o.Shares == "" })
			if j < 0 {
				return nil, fmt.Errorf("%q shares the address of %q, which is not in the scenario", dev.Name, dev.Shares)
			}
			dev.Address = all[j].Address
			continue
		}
		if other, twice := seen[dev.Address]; twice {
			return nil, fmt.Errorf("%q and %q share the address %s", other, dev.Name, dev.Address)
		}
		seen[dev.Address] = dev.Name
	}
	for _, t := range s.Targets {
		if err := t.Check(); err != nil {
			return nil, err
		}
	}
	s.Devices = all
	return &s, nil
}

func (d *Device) complete(s *Scenario, index int) error {
	if d.Kind == "" {
		d.Kind = "camera"
	}
	if _, ok := makers[d.Maker]; !ok || d.Kind != "camera" && d.Kind != "recorder" && d.Kind != "other" {
		return fmt.Errorf("device %d (%q): no maker %q of a %s", index+1, d.Name, d.Maker, d.Kind)
	}
	if d.Shares == "" && !d.Address.Is4() || d.Shares == "" && !d.Address.IsLoopback() {
		return fmt.Errorf("device %d (%q): address %v is not an IPv4 loopback address", index+1, d.Name, d.Address)
	}
	if d.TLS != "" && d.TLS != "own" && d.TLS != "factory" && d.TLS != "expired" {
		return fmt.Errorf("device %d (%q): tls is own, factory or expired", index+1, d.Name)
	}
	if (d.Defects.Transport == "tls" || d.Defects.HTTPS != "") && d.TLS == "" {
		d.TLS = "own"
	}
	if d.Announces == nil {
		d.Announces = []string{"ws-discovery"}
	}
	if d.Users == nil {
		d.Users = s.Users
	}
	if d.Caption == nil {
		name := d.Name
		d.Caption = &name
	}
	if d.Slots == 0 {
		d.Slots = 8
	}
	if d.Firmware == "" {
		d.Firmware = "1.0.0"
	}
	if d.Shares != "" && d.Serial == "" {
		return fmt.Errorf("device %d (%q): one that shares an address needs a serial of its own", index+1, d.Name)
	}
	if d.Kind == "camera" && d.Shares == "" && len(d.Streams) == 0 {
		return fmt.Errorf("device %d (%q): a camera needs streams", index+1, d.Name)
	}
	lists := [][]Stream{d.Streams}
	for _, c := range d.Channels {
		lists = append(lists, c.Streams)
	}
	for _, list := range lists {
		for i := range list {
			if err := list[i].complete(); err != nil {
				return fmt.Errorf("device %d (%q): stream %d %w", index+1, d.Name, i+1, err)
			}
		}
	}
	return nil
}

func (st *Stream) complete() error {
	if st.GOP == 0 {
		st.GOP = st.FPS
	}
	if st.Profile == "" {
		st.Profile = "main"
	}
	switch st.Codec {
	case "", scene.H264, scene.H265, scene.JPEG, scene.MPEG4:
	default:
		return fmt.Errorf("has no codec %q", st.Codec)
	}
	if _, ok := sounds[st.Audio]; !ok && st.Audio != "" {
		return fmt.Errorf("has no audio %q", st.Audio)
	}
	if st.Width <= 0 || st.Height <= 0 || st.FPS <= 0 || st.Kbps <= 0 || st.Width%2+st.Height%2 != 0 {
		return errors.New("needs an even width and height, fps and kbps")
	}
	return nil
}

func (d Device) expand() []Device {
	var out []Device
	addr := d.Address
	for i := range max(d.Count, 1) {
		one := d
		one.Address, one.Count = addr, 0
		if d.Count > 0 {
			one.Name = fmt.Sprintf("%s %03d", d.Name, i+1)
		}
		if d.Serial == "" && d.Shares == "" || d.Count > 0 {
			one.Serial = fmt.Sprintf("%s%08X", d.Serial, addr.As4())
		}
		if one.MAC == "" {
			sum := sha256.Sum256([]byte(one.Serial))
			one.MAC = net.HardwareAddr{0x02, sum[0], sum[1], sum[2], sum[3], sum[4]}.String() // locally administered
		}
		// The endpoint reference is the device's own, the same at every start.
		one.endpoint = "urn:uuid:" + uuid.NewSHA1(uuid.NameSpaceOID, []byte(one.Maker+"/"+one.Serial)).String()
		out = append(out, one)
		if addr.IsValid() {
			addr = addr.Next()
		}
	}
	return out
}

// A feed is one stream that a device sends: which channel and tier it is, and its pictures.
type feed struct {
	Stream
	channel, tier int // channel counted from 1, tier from 0
	name          string
	format        scene.Format
	clip          *scene.Clip
	other         *scene.Clip // of another size, in every other loop; nil for none
	profile       string      // the name that a person gave to its profile; "" for the maker's
}

// there reports whether a profile uses the encoder.
func (f feed) there() bool { return !f.Spare || f.profile != "" }

// otherFormat returns the format of the other size.
func (f feed) otherFormat() scene.Format {
	o := f.format
	o.Width, o.Height = f.Changes[0], f.Changes[1]
	return o
}

// feeds lists what the device sends, a recorder's channels in order.
func (d *Device) feeds() (out []feed) {
	add := func(channel int, name, scenery, caption string, streams []Stream) {
		for i, st := range streams {
			out = append(out, feed{Stream: st, channel: channel, tier: i, name: name,
				format: scene.Format{Scene: scenery, Caption: caption, Width: st.Width, Height: st.Height, FPS: st.FPS, Kbps: st.Kbps,
					GOP: st.GOP, Profile: st.Profile, Codec: st.Codec, Smart: st.Smart}})
		}
	}
	add(1, d.Name, d.Scene, *d.Caption, d.Streams)
	for i, c := range d.Channels {
		add(i+1, c.Name, c.Scene, c.Name, c.Streams)
	}
	return out
}
