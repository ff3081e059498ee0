package mpegts_test

import (
	"bytes"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/mpegts"
)

// stream lets ffmpeg write two seconds of picture and sound as a transport stream: a stranger's, and no stand-in of ours.
func stream(t testing.TB, args ...string) []byte {
	out, err := exec.Command("ffmpeg", append(append([]string{"-v", "error", "-f", "lavfi", "-i", "testsrc=size=320x180:rate=10",
		"-f", "lavfi", "-i", "sine=frequency=440:sample_rate=48000", "-t", "2"}, args...), "-f", "mpegts", "pipe:1")...).Output()
	require.NoError(t, err)
	return out
}

// play takes a stream apart, seven packets a datagram, and returns the units of each type.
func play(b []byte) (d *mpegts.Demuxer, units map[mpegts.StreamType][]mpegts.Unit) {
	units = map[mpegts.StreamType][]mpegts.Unit{}
	d = &mpegts.Demuxer{Each: func(u mpegts.Unit) {
		u.Data = bytes.Clone(u.Data)
		units[u.Stream.Type] = append(units[u.Stream.Type], u)
	}}
	at := time.Unix(1000, 0)
	for len(b) > 0 {
		n := min(len(b), 7*mpegts.PacketSize)
		d.Datagram(b[:n], at)
		b, at = b[n:], at.Add(time.Millisecond)
	}
	d.Flush()
	return d, units
}

func TestAStrangersStream(t *testing.T) {
	for name, c := range map[string]struct {
		args         []string
		video, audio mpegts.StreamType
	}{
		"H.264 and AAC": {[]string{"-c:v", "libx264", "-g", "10", "-c:a", "aac"}, mpegts.H264, mpegts.ADTS},
		"H.265 and MPEG audio": {[]string{"-c:v", "libx265", "-x265-params", "log-level=none:keyint=10", "-c:a", "mp2"},
			mpegts.H265, mpegts.MPEG1Audio},
	} {
		d, units := play(stream(t, c.args...))
		streams, known := d.Streams()
		require.True(t, known, name)
		assert.Len(t, streams, 2, name)
		require.Len(t, units[c.video], 20, name)
		assert.NotEmpty(t, units[c.audio], name)
		for i, u := range units[c.video] {
			assert.True(t, u.HasPTS && !u.Damaged, "%s %d", name, i)
			assert.True(t, bytes.HasPrefix(u.Data, []byte{0, 0, 0, 1}) || bytes.HasPrefix(u.Data, []byte{0, 0, 1}), "%s %d", name, i)
		}
		m := d.Measured()
		assert.Equal(t, []int{1, 0, 0, 0}, []int{m.Program, m.Lost, m.Malformed, m.Scrambled}, name)
		assert.Positive(t, m.PCRMostMS, name)
		assert.LessOrEqual(t, m.PCRMostMS, 110.0, name)
	}
}

// A packet that is missing is counted, and its unit is damaged; all others are whole. One that comes twice counts once.
func TestWhatIsMissing(t *testing.T) {
	whole := stream(t, "-c:v", "libx264", "-g", "10", "-an")
	cut := bytes.Clone(whole)
	at := len(cut) / 2 / mpegts.PacketSize * mpegts.PacketSize
	for cut[at+1]&0x1f != 1 || cut[at+2] != 0 || cut[at+1]&0x40 != 0 || cut[at+3]&0x20 != 0 { // from the middle of a picture
		at += mpegts.PacketSize
	}
	cut = append(cut[:at], cut[at+mpegts.PacketSize:]...)
	d, units := play(cut)
	assert.Equal(t, 1, d.Measured().Lost)
	damaged := 0
	for _, u := range units[mpegts.H264] {
		if u.Damaged {
			damaged++
		}
	}
	assert.Equal(t, 1, damaged)
	assert.Len(t, units[mpegts.H264], 20)

	twice := append(bytes.Clone(whole[:at+mpegts.PacketSize]), whole[at:]...)
	d, again := play(twice)
	assert.Zero(t, d.Measured().Lost)
	_, once := play(whole)
	require.Len(t, again[mpegts.H264], len(once[mpegts.H264]))
	for i := range once[mpegts.H264] {
		assert.Equal(t, once[mpegts.H264][i].Data, again[mpegts.H264][i].Data, i)
	}
}

// What nobody should send ends in nothing kept and nothing believed.
func TestHostileStreams(t *testing.T) {
	packet := func(pid uint16, begins bool, n byte, body []byte) []byte {
		b := []byte{0x47, byte(pid >> 8), byte(pid), 0x10 | n}
		if begins {
			b[1] |= 0x40
		}
		b = append(b, body...)
		for len(b) < mpegts.PacketSize {
			b = append(b, 0xff)
		}
		return b[:mpegts.PacketSize]
	}
	for name, b := range map[string][]byte{
		"a pointer behind the end":    packet(0, true, 0, []byte{255}),
		"a table of 4 kB":             packet(0, true, 0, []byte{0, 0, 0xbf, 0xff}),
		"a table of nothing":          packet(0, true, 0, []byte{0, 0, 0xb0, 0}),
		"a table with a wrong CRC":    packet(0, true, 0, []byte{0, 0, 0xb0, 13, 0, 1, 0xc1, 0, 0, 0, 1, 0xf0, 0, 1, 2, 3, 4}),
		"an adaptation without end":   {0x47, 0, 0x20, 0x30},
		"no beginning":                bytes.Repeat([]byte{1, 2, 3}, 500),
		"half a packet":               make([]byte, 100),
		"a picture before its tables": packet(0x100, true, 0, []byte{0, 0, 1, 0xe0, 0, 0, 0x80, 0, 0}),
	} {
		if len(b) == 4 {
			b = append(b, bytes.Repeat([]byte{0xff}, mpegts.PacketSize-4)...)
		}
		d, units := play(b)
		assert.Empty(t, units, name)
		_, known := d.Streams()
		assert.False(t, known, name)
	}
	// A picture without end is cut at the bound, and is damaged.
	whole := stream(t, "-c:v", "libx264", "-g", "10", "-an")
	d := &mpegts.Demuxer{}
	most := 0
	d.Each = func(u mpegts.Unit) {
		most = max(most, len(u.Data))
		if len(u.Data) > 1<<20 {
			assert.True(t, u.Damaged)
		}
	}
	d.Datagram(whole, time.Now())
	streams, known := d.Streams()
	require.True(t, known)
	d.Datagram(packet(streams[0].PID, true, 0, []byte{0, 0, 1, 0xe0, 0, 0, 0x80, 0, 0}), time.Now())
	for n := range 60_000 {
		d.Datagram(packet(streams[0].PID, false, byte(n+1)&0x0f, nil), time.Now())
	}
	d.Flush()
	assert.Less(t, most, 9<<20)
	assert.Greater(t, most, 4<<20)
}

func FuzzDemuxer(f *testing.F) {
	whole := stream(f, "-c:v", "libx264", "-g", "10", "-c:a", "aac", "-t", "0.3")
	f.Add(whole[:min(len(whole), 20*mpegts.PacketSize)])
	f.Add([]byte{0x47, 0x40, 0, 0x10, 0, 0, 0xb0, 13})
	f.Fuzz(func(t *testing.T, b []byte) {
		d := &mpegts.Demuxer{Each: func(u mpegts.Unit) {
			if len(u.Data) > len(b)+8<<20 {
				t.Fatal("more than came")
			}
		}}
		d.Datagram(b, time.Now())
		d.Flush()
		if m := d.Measured(); m.Packets > len(b)/mpegts.PacketSize {
			t.Fatalf("%d packets in %d bytes", m.Packets, len(b))
		}
	})
}
