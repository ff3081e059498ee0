package media

import (
	"encoding/binary"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pictureAt sends one H.264 picture of so many bytes at a moment, as the second given of a stream.
func pictureAt(m *Meter, s *sender, seconds float64, key bool, n int, set []byte) {
	s.stamp = uint32(seconds * 90000)
	at := time.Unix(1000, 0).Add(time.Duration(seconds * float64(time.Second)))
	if key {
		m.Packet(s.packet(false, set...), at)
		m.Packet(s.packet(false, 0x68, 0xee, 1), at)
		m.Packet(s.packet(true, append([]byte{0x65, 0x88}, make([]byte, n)...)...), at) // slice type 7: I
		return
	}
	m.Packet(s.packet(true, append([]byte{0x41, 0x9a}, make([]byte, n)...)...), at) // slice type 5: P
}

func TestRateAndKeyFramesAsTheyCame(t *testing.T) {
	set := sps(77, 0, 40, 30, 1, [4]uint32{})
	for _, c := range []struct {
		name    string
		seconds float64
		key     func(i int) bool
		size    func(i int) int
		pattern string
		control string
	}{
		{"constant", 8, func(i int) bool { return i%20 == 0 }, func(int) int { return 1000 }, "constant", "cbr"},
		{"varying", 8, func(i int) bool { return i%20 == 0 || i == 33 }, func(int) int { return 1000 }, "varying", "cbr"},
		{"long", 14, func(i int) bool { return i == 0 || i == 65 }, func(int) int { return 1000 }, "long", ""},
		{"never again", 7, func(i int) bool { return i == 0 }, func(int) int { return 1000 }, "long", ""},
		{"busy and quiet", 8, func(i int) bool { return i%20 == 0 }, func(i int) int { return 200 + i/20*900 }, "constant", "vbr"},
		{"too short to tell", 2.5, func(i int) bool { return i%20 == 0 }, func(int) int { return 1000 }, "constant", ""},
	} {
		m, s := NewMeter(h264Track), &sender{}
		for i := range int(c.seconds * 10) {
			pictureAt(m, s, float64(i)/10, c.key(i), c.size(i), set)
		}
		got := m.Measured()
		assert.Equal(t, []string{c.pattern, c.control}, []string{got.KeyPattern, got.RateControl}, c.name)
		assert.Len(t, got.PerSecondKbps, int(c.seconds-.05), c.name)
		assert.LessOrEqual(t, got.Bitrate.Least, got.Bitrate.Mean, c.name)
		assert.LessOrEqual(t, got.Bitrate.P95, got.Bitrate.Most, c.name)
		if c.name == "long" {
			assert.Equal(t, []float64{6.5}, got.KeyIntervals)
		}
	}
}

func TestSizesOfFramesByKind(t *testing.T) {
	m, s := NewMeter(h264Track), &sender{}
	set := sps(77, 0, 40, 30, 1, [4]uint32{})
	for i := range 20 {
		pictureAt(m, s, float64(i)/10, i%10 == 0, 500+100*(i%10), set)
	}
	got := m.Measured().Sizes
	require.NotNil(t, got.Key)
	assert.Equal(t, FrameSize{Count: 2, Mean: 502 + len(set) + 3, Most: 502 + len(set) + 3}, *got.Key)
	assert.Equal(t, FrameSize{Count: 18, Mean: 1002, Most: 1402}, *got.Predicted)
	assert.Nil(t, got.Bidirectional)
}

// Some encoders never send an IDR picture again: an intra picture behind a recovery point serves as one.
func TestARecoveryPointIsAKeyFrame(t *testing.T) {
	m, s := NewMeter(h264Track), &sender{}
	set := sps(77, 0, 40, 30, 1, [4]uint32{})
	m.Packet(s.packet(false, set...), time.Now())
	m.Packet(s.packet(false, 0x68, 0xee, 1), time.Now())
	m.Packet(s.packet(false, 0x06, 0x06, 0x01, 0xc4, 0x80), time.Now())
	m.Packet(s.packet(true, 0x41, 0x88, 1, 2, 3), time.Now())
	assert.NotNil(t, m.Keyframe())
	s.stamp += 3600
	m.Packet(s.packet(true, 0x41, 0x88, 1, 2, 3), time.Now())
	assert.Equal(t, 1, m.Measured().Keyframes, "an intra picture alone is none")
}

func TestASizeThatChanges(t *testing.T) {
	m, s := NewMeter(h264Track), &sender{}
	for i := range 30 {
		mbs := uint32(40)
		if i >= 20 {
			mbs = 20
		}
		pictureAt(m, s, float64(i)/10, i%10 == 0, 500, sps(77, 0, mbs, 30, 1, [4]uint32{}))
	}
	got := m.Measured()
	assert.Equal(t, []Stretch{{Width: 640, Height: 480, Frames: 20}, {Width: 320, Height: 480, Frames: 10, FromMS: 2000}}, got.Segments)
	assert.Equal(t, 320, got.Width, "the size is the newest")
}

// Time stamps that stand still end no frame: the marker does, and rates go by arrival.
func TestTimeStampsThatStandStill(t *testing.T) {
	m, s := NewMeter(h264Track), &sender{}
	set := sps(77, 0, 40, 30, 1, [4]uint32{})
	for i := range 50 {
		pictureAt(m, s, 0, i%10 == 0, 500, set) // the packets say nought, and come a tenth of a second apart
	}
	assert.Equal(t, 50, m.Measured().Frames)
	m, s = NewMeter(h264Track), &sender{}
	for i := range 50 {
		at := time.Unix(1000, int64(i)*int64(100*time.Millisecond))
		for _, p := range [][]byte{set, {0x68, 0xee, 1}} {
			m.Packet(s.packet(false, p...), at)
		}
		m.Packet(s.packet(true, 0x65, 0x88, 1, 2, 3), at)
	}
	got := m.Measured()
	assert.InDelta(t, 10, got.FPS, .3)
	assert.NotEmpty(t, got.ClockDrift)
	assert.NotNil(t, m.Keyframe())
}

func TestInterleavedStructuresAreNamed(t *testing.T) {
	for kind, name := range map[byte]string{25: "STAP-B", 26: "MTAP16", 27: "MTAP24", 29: "FU-B"} {
		m := NewMeter(h264Track)
		m.Packet((&sender{}).packet(true, kind, 0, 1, 2, 3, 4, 5), time.Now())
		assert.Equal(t, name, m.Measured().Unread)
	}
}

func TestSequence(t *testing.T) {
	for _, c := range []struct {
		name                        string
		in                          []uint16
		lost, reordered, duplicates int
	}{
		{"in order, over the turn", []uint16{65534, 65535, 0, 1}, 0, 0, 0},
		{"two lost", []uint16{1, 4}, 2, 0, 0},
		{"one came late", []uint16{1, 3, 2, 4}, 0, 1, 0},
		{"one came twice", []uint16{1, 2, 2, 3, 2}, 0, 0, 2},
		{"lost, then late, then twice", []uint16{1, 4, 2, 2}, 1, 1, 1},
		{"the sender began anew", []uint16{500, 501, 100, 101, 102}, 0, 0, 0},
		{"one stray from far behind", []uint16{500, 501, 100, 502}, 0, 0, 0},
	} {
		var s sequence
		for _, n := range c.in {
			s.next(n)
		}
		assert.Equal(t, []int{c.lost, c.reordered, c.duplicates}, []int{s.lost, s.reordered, s.duplicates}, c.name)
	}
}

func TestJitter(t *testing.T) {
	var even, uneven jitter
	for i := range 200 {
		even.packet(uint32(i*3600), time.Duration(i)*40*time.Millisecond, 90000)
		uneven.packet(uint32(i*3600), time.Duration(i)*40*time.Millisecond+time.Duration(i%2)*10*time.Millisecond, 90000)
	}
	assert.Zero(t, even.ms(90000))
	assert.InDelta(t, 10, uneven.ms(90000), .1)
}

// report returns a sender report as RFC 3550 §6.4.1 has it.
func report(sent time.Time) []byte {
	b := make([]byte, 28)
	b[0], b[1], b[3] = 0x80, 200, 6
	d := sent.Sub(ntpEpoch)
	binary.BigEndian.PutUint32(b[8:], uint32(d/time.Second))
	binary.BigEndian.PutUint32(b[12:], uint32(uint64(d%time.Second)<<32/uint64(time.Second)))
	return b
}

func TestTheSendersWallClock(t *testing.T) {
	m := NewMeter(h264Track)
	at := time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)
	assert.Nil(t, m.Measured().SenderClockMS)
	for _, bad := range [][]byte{nil, {0x80}, {0x80, 200, 0xff, 0xff, 0, 0, 0, 0}, make([]byte, 28), report(ntpEpoch)} {
		m.Report(bad, at)
	}
	assert.Nil(t, m.Measured().SenderClockMS)
	sdes := []byte{0x81, 202, 0, 1, 0, 0, 0, 0}
	m.Report(append(sdes, report(at.Add(-20*time.Minute))...), at)
	require.NotNil(t, m.Measured().SenderClockMS)
	assert.InDelta(t, -20*60*1000, *m.Measured().SenderClockMS, 1)
}

func TestMetadataIsNamed(t *testing.T) {
	track := Track{Kind: "application", Payload: 96, Codec: "VND.ONVIF.METADATA", ClockRate: 90000}
	m, s := NewMetadataMeter(track), &sender{}
	assert.Nil(t, m.Measured())
	m.Packet(s.packet(false, []byte(`<tt:MetadataStream xmlns:tt="x"><tt:Video`)...), time.Now())
	m.Packet(s.packet(true, []byte(`Analytics/><tt:Event><a/></tt:Event></tt:MetadataStream>`)...), time.Now())
	m.Packet(s.packet(true, []byte(`<tt:MetadataStream xmlns:tt="x"><tt:PTZ/></tt:MetadataStream>`)...), time.Now())
	m.Packet(s.packet(true, []byte(strings.Repeat("<a>", 300))...), time.Now())
	for range 400 { // a document without end
		m.Packet(s.packet(false, make([]byte, 1200)...), time.Now())
	}
	assert.LessOrEqual(t, len(m.doc), maxDocument+1200)
	assert.Equal(t, Metadata{Packets: 404, Documents: 3, Kinds: []string{"VideoAnalytics", "Event", "PTZ"}, Malformed: 1}, *m.Measured())
}

func TestAudioConfigurationsThatCannotBe(t *testing.T) {
	for name, config := range map[string]string{
		"40 kB": strings.Repeat("12", 40_000), "no hexadecimal": "zz", "a reserved rate": "1690", "cut off": "1",
	} {
		m := NewAudioMeter(Track{Payload: 96, Codec: "MPEG4-GENERIC", ClockRate: 16000, Fmtp: map[string]string{"config": config}})
		m.Packet((&sender{}).packet(true, 0, 16, 1, 2), time.Now())
		assert.NotEmpty(t, m.Measured().Problem, name)
	}
	he := NewAudioMeter(Track{Payload: 96, Codec: "MPEG4-GENERIC", ClockRate: 24000, Fmtp: map[string]string{"config": "2b098800"}})
	he.Packet((&sender{}).packet(true, 0, 16, 1, 2), time.Now())
	assert.Equal(t, []any{"HE-AAC", 48000, 1}, []any{he.Measured().Profile, he.Measured().SampleRate, he.Measured().Channels})
}

func TestSilenceIsTold(t *testing.T) {
	for codec, zero := range map[string]byte{"PCMU": 0xff, "PCMA": 0xd5, "L16": 0} {
		m := NewAudioMeter(Track{Payload: 96, Codec: codec, ClockRate: 8000})
		m.Packet((&sender{}).packet(true, []byte(strings.Repeat(string([]byte{zero}), 160))...), time.Now())
		assert.True(t, m.Measured().Silent, "%s: %v", codec, m.Measured().LevelDBFS)
	}
}

func TestMPEG4ThatCannotBe(t *testing.T) {
	track := Track{Kind: "video", Payload: 96, Codec: "MP4V-ES", ClockRate: 90000}
	for name, payload := range map[string][]byte{
		"no start code": {1, 2, 3}, "a picture cut off": {0, 0, 1, 0xb6}, "a header cut off": {0, 0, 1, 0x20, 0x00, 0, 0, 1, 0xb6, 0x10},
		"0 x 0": append([]byte{0, 0, 1, 0x20}, append(make([]byte, 30), 0, 0, 1, 0xb6, 0x10)...),
	} {
		m := NewMeter(track)
		m.Packet((&sender{}).packet(true, payload...), time.Now())
		assert.Nil(t, m.Keyframe(), name)
	}
}

// Once the buffers have grown, a packet costs no memory, whatever the codec.
func TestNoAllocationPerPacket(t *testing.T) {
	set := sps265(640, 480, 0, [4]uint32{})
	payloads := map[string][][]byte{
		"H264":    {sps(77, 0, 40, 30, 1, [4]uint32{}), {0x68, 0xee, 1}, append([]byte{0x65, 0x88}, make([]byte, 900)...)},
		"H265":    {{hevcVPS << 1, 1, 7, 7}, set, pps265, append(slice265(19, 2), make([]byte, 900)...)},
		"JPEG":    {append([]byte{0, 0, 0, 0, 1, 80, 40, 30}, make([]byte, 900)...)},
		"MP4V-ES": {append([]byte{0, 0, 1, 0xb6, 0x10}, make([]byte, 900)...)},
	}
	for codec, list := range payloads {
		m, s := NewMeter(Track{Kind: "video", Payload: 96, Codec: codec, ClockRate: 90000}), &sender{}
		var packets [][]byte
		for i, p := range list {
			packets = append(packets, s.packet(i == len(list)-1, p...))
		}
		at := time.Unix(1000, 0)
		n := uint16(0)
		give := func() {
			for _, p := range packets {
				binary.BigEndian.PutUint16(p[2:], n)
				binary.BigEndian.PutUint32(p[4:], uint32(n)*3)
				m.Packet(p, at)
				n++
			}
			at = at.Add(100 * time.Microsecond)
		}
		for range 2000 {
			give()
		}
		assert.Zero(t, testing.AllocsPerRun(2000, give), codec)
	}
}

func FuzzFormats(f *testing.F) {
	set := sps265(640, 480, 0, [4]uint32{})
	f.Add([]byte{hevcAP << 1, 1, 0, 4, hevcVPS << 1, 1, 7, 7}, set)
	f.Add([]byte{0, 0, 0, 0, 65, 255, 10, 10, 0, 4, 0, 0, 0, 0, 0, 64, 1}, []byte{0, 0, 0, 0, 1, 80, 10, 10, 1, 2})
	f.Add([]byte{0, 0, 1, 0xb0, 1, 0, 0, 1, 0x20, 0, 0xc8, 0x88}, []byte{0, 0, 1, 0xb6, 0x10, 1})
	f.Add([]byte{0x40, 0x00, 0x26, 0x10}, []byte("<a><b/></a>"))
	f.Fuzz(func(t *testing.T, a, b []byte) {
		for codec := range formats {
			m := NewMeter(Track{Kind: "video", Payload: 96, Codec: codec, ClockRate: 90000, Fmtp: map[string]string{
				"config": fmt.Sprintf("%x", a), "sprop-sps": string(b), "sprop-max-don-diff": fmt.Sprint(len(a) % 2)}})
			s := &sender{}
			for i, p := range [][]byte{a, b, a, b} {
				packet := s.packet(i%2 == 1, p...)
				m.Packet(packet, time.Unix(int64(i), 0))
				packet[0] |= 0x10
				m.Packet(packet, time.Unix(int64(i), 0))
				m.Report(p, time.Unix(int64(i), 0))
			}
			if got := m.Measured(); got.Width < 0 || got.Width > maxDimension || got.Height < 0 || got.Height > maxDimension {
				t.Fatalf("%+v", got)
			}
		}
		for _, codec := range []string{"PCMU", "L16", "MPEG4-GENERIC", "MP4A-LATM"} {
			m := NewAudioMeter(Track{Payload: 96, Codec: codec, ClockRate: 8000, Fmtp: map[string]string{"config": fmt.Sprintf("%x", b)}})
			m.Packet((&sender{}).packet(true, a...), time.Now())
			m.Measured()
		}
		m := NewMetadataMeter(Track{Payload: 96})
		m.Packet((&sender{}).packet(true, a...), time.Now())
		m.Measured()
	})
}
