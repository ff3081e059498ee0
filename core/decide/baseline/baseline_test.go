package baseline

import (
	"encoding/json"
	"net/netip"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/identity"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/proof"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
)

var (
	ticketHall = uuid.MustParse("00000000-0000-0000-0000-000000000001")
	recorder   = uuid.MustParse("00000000-0000-0000-0000-000000000009")
)

// known returns a camera of which everything is known.
func known() *latch.Device {
	video := media.Measured{Codec: "H.264", Width: 1920, Height: 1080, FPS: 25, BitrateKbps: 4000, GOPSeconds: 2}
	return &latch.Device{ID: ticketHall, Title: "Ticket hall", Status: latch.Status{
		Device:  identity.Device{Addr: netip.MustParseAddr("192.0.2.7"), Endpoint: "urn:uuid:1", MAC: "02:00:00:00:00:07", Certificate: "ab"},
		Reached: &evidence.Reached{SkewMS: 900},
		SignedIn: &evidence.SignedIn{Label: "Fitter", User: "fitter", Info: camera.Info{Manufacturer: "Corvane", Model: "V4",
			Firmware: "4.1", Serial: "C7"}},
		Streams: []camera.Stream{{Role: "main", Token: "p1", URL: "rtsp://192.0.2.7:554/vista/1",
			Claimed: camera.Settings{Codec: "H.264", Width: 1920, Height: 1080, FPS: 25, BitrateKbps: 4096, GOPFrames: 50}}},
		Proofs: map[string]evidence.Proof{"main": {Proof: proof.Proof{OK: true, Transport: "tcp", Video: &video,
			Audio: &media.Audio{Codec: "AAC"}}}},
		Placements: []latch.Placement{{Target: recorder, Name: "Vault", Slot: "3", Gives: []latch.Given{{Role: "main"}}, Confirmed: true,
			Match: "right camera"}},
	}}
}

// state returns the state of one device, through its written form.
func state(t *testing.T, devices ...*latch.Device) State {
	raw, err := json.Marshal(Of(devices))
	require.NoError(t, err)
	s, err := Read(raw)
	require.NoError(t, err)
	return s
}

// sentences returns what differs in words.
func sentences(was, is State) (out []string) {
	for _, c := range Compare(was, is) {
		if c.Is != Changed {
			out = append(out, c.Title+": "+string(c.Is))
		}
		for _, f := range c.Fields {
			out = append(out, f.String())
		}
	}
	return out
}

// Every change is told in the words of its field, and what is within the tolerance of a measure is none.
func TestCompare(t *testing.T) {
	video := func(d *latch.Device) *media.Measured { return d.Status.Proofs["main"].Video }
	for name, c := range map[string]struct {
		change func(d *latch.Device)
		says   []string
	}{
		"nothing":                 {func(*latch.Device) {}, nil},
		"another name alone":      {func(d *latch.Device) { d.Title = "Hall" }, nil},
		"a clock, by the network": {func(d *latch.Device) { d.Status.Reached.SkewMS = -1400 }, nil},
		"measures of a busy scene": {func(d *latch.Device) {
			video(d).FPS, video(d).BitrateKbps, video(d).GOPSeconds = 22, 1100, 1.6
		}, nil},
		"slower": {func(d *latch.Device) { video(d).FPS = 12 }, []string{"Frame rate, main: was 25 fps, is 12 fps."}},
		"smaller": {func(d *latch.Device) { video(d).Width, video(d).Height = 640, 360 },
			[]string{"Picture size, main: was 1920 × 1080, is 640 × 360."}},
		"starved":         {func(d *latch.Device) { video(d).BitrateKbps = 300 }, []string{"Bitrate, main: was 4000 kbit/s, is 300 kbit/s."}},
		"rare key frames": {func(d *latch.Device) { video(d).GOPSeconds = 8 }, []string{"Key frames, main: was every 2 s, is every 8 s."}},
		"another address": {func(d *latch.Device) { d.Status.Device.Addr = netip.MustParseAddr("192.0.2.99") },
			[]string{"Address: was 192.0.2.7, is 192.0.2.99."}},
		"firmware":        {func(d *latch.Device) { d.Status.SignedIn.Info.Firmware = "4.2" }, []string{"Firmware: was 4.1, is 4.2."}},
		"certificate":     {func(d *latch.Device) { d.Status.Device.Certificate = "cd" }, []string{"Certificate: was ab, is cd."}},
		"a clock far off": {func(d *latch.Device) { d.Status.Reached.SkewMS = -3_700_000 }, []string{"Clock: was right, is 1h1m behind."}},
		"another sign-in": {func(d *latch.Device) { d.Status.SignedIn.Label, d.Status.SignedIn.User = "Depot", "" },
			[]string{"Sign-in: was Fitter (user fitter), is Depot."}},
		"settings put back": {func(d *latch.Device) { d.Status.Streams[0].Claimed.FPS = 15 }, []string{"Settings, main: " +
			"was H.264 1920 × 1080, " +
			"25 fps, 4096 kbit/s, key frame every 50 frames, is H.264 1920 × 1080, 15 fps, 4096 kbit/s, key frame every 50 frames."}},
		"sound is gone": {func(d *latch.Device) {
			p := d.Status.Proofs["main"]
			p.Audio = nil
			d.Status.Proofs["main"] = p
		}, []string{"Sound, main: was AAC, is none."}},
		"streams of a device that has moved": {func(d *latch.Device) {
			d.Status.Streams[0].URL = "rtsp://192.0.2.99:554/vista/1"
		}, nil},
		"a group in place of the device": {func(d *latch.Device) { d.Status.Streams[0].URL = "udp://239.192.1.4:20000" },
			[]string{"Path, main: was rtsp://…:554/vista/1, is udp://239.192.1.4:20000."}},
		"slot taken": {func(d *latch.Device) {
			d.Status.Placements[0].Slot, d.Status.Placements[0].Confirmed, d.Status.Placements[0].Match = "", false, ""
		}, []string{"Slot, Vault: was 3, is none.", "Picture there, Vault: was right camera, is no."}},
		"played no more": {func(d *latch.Device) { d.Status.Streams, d.Status.Placements = nil, nil }, []string{
			"Path, main: was rtsp://…:554/vista/1, nothing is known now.",
			"Settings, main: was H.264 1920 × 1080, 25 fps, 4096 kbit/s, key frame every 50 frames, nothing is known now.",
			"Codec, main: was H.264, nothing is known now.", "Picture size, main: was 1920 × 1080, nothing is known now.",
			"Frame rate, main: was 25 fps, nothing is known now.", "Bitrate, main: was 4000 kbit/s, nothing is known now.",
			"Key frames, main: was every 2 s, nothing is known now.", "Sound, main: was AAC, nothing is known now.",
			"Transport, main: was tcp, nothing is known now.", "Slot, Vault: was 3, nothing is known now.",
			"Stream that it has, Vault: was main, nothing is known now.", "Picture there, Vault: was right camera, nothing is known now."}},
	} {
		t.Run(name, func(t *testing.T) {
			now := known()
			c.change(now)
			assert.Equal(t, c.says, sentences(state(t, known()), state(t, now)))
		})
	}
}

// A device that is in one of the states alone is told once, with nothing of its fields.
func TestNewAndGone(t *testing.T) {
	other := known()
	other.ID, other.Title = recorder, "Kiosk"
	assert.Equal(t, []string{"Ticket hall: gone", "Kiosk: new"}, sentences(state(t, known()), state(t, other)))
	both := state(t, known(), other)
	assert.Equal(t, []string{"Kiosk: gone"}, sentences(both, state(t, known())))
}

// A state that a newer program wrote is refused and not half understood.
func TestANewerForm(t *testing.T) {
	_, err := Read([]byte(`{"version": 2, "devices": "of another form"}`))
	newer := new(VersionError)
	require.ErrorAs(t, err, &newer)
	assert.Equal(t, 2, newer.Version)
	_, err = Read([]byte(`{"version": 1, "devices": 7}`))
	assert.Error(t, err)
}

// What was not finished, and what was passed over, is kept with the state.
func TestUnfinished(t *testing.T) {
	d := &latch.Device{ID: ticketHall, Status: latch.Derive(nil, latch.Intent{})}
	s := state(t, d)
	assert.Equal(t, 1, s.Unfinished())
	assert.Equal(t, latch.Heard, s.Devices[0].Unfinished)
}
