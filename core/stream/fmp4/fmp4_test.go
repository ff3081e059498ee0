package fmp4

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/media"
	"unlatch/sim/scene"
	"unlatch/sim/simtest"
)

// A box is one box with its inner ones, read strictly: sizes are exact, and nothing is left over.
type box struct {
	kind  string
	data  []byte
	inner []box
}

var containers = map[string]int{"moov": 0, "trak": 0, "mdia": 0, "minf": 0, "dinf": 0, "stbl": 0, "mvex": 0, "moof": 0, "traf": 0,
	"stsd": 8, "dref": 8, "avc1": 78, "hvc1": 78, "mp4a": 28, "Opus": 28}

func boxes(b []byte) (out []box, err error) {
	for len(b) > 0 {
		if len(b) < 8 {
			return nil, fmt.Errorf("%d bytes are left over", len(b))
		}
		n := int(binary.BigEndian.Uint32(b))
		if n < 8 || n > len(b) {
			return nil, fmt.Errorf("a %q of %d bytes where %d are left", b[4:8], n, len(b))
		}
		x := box{kind: string(b[4:8]), data: b[8:n]}
		if skip, ok := containers[x.kind]; ok {
			if len(x.data) < skip {
				return nil, fmt.Errorf("%s is too short", x.kind)
			}
			if x.inner, err = boxes(x.data[skip:]); err != nil {
				return nil, fmt.Errorf("%s: %w", x.kind, err)
			}
		}
		out, b = append(out, x), b[n:]
	}
	return out, nil
}

func find(list []box, path string) *box {
	name, rest, deeper := strings.Cut(path, "/")
	for i := range list {
		if list[i].kind == name {
			if !deeper {
				return &list[i]
			}
			return find(list[i].inner, rest)
		}
	}
	return nil
}

// clip returns a drawn picture as a stand-in sends it, in frames of a byte stream.
func clip(t testing.TB, width, height int) (frames [][]byte, keys []bool) {
	return coded(t, scene.H264, width, height)
}

func coded(t testing.TB, codec scene.Codec, width, height int) (frames [][]byte, keys []bool) {
	c, err := (&scene.Library{Dir: simtest.MediaDir(t)}).Clip(context.Background(), scene.Format{Scene: "turntable", Width: width,
		Height: height, FPS: 10, Kbps: 200, GOP: 5,
		Profile: "main", Codec: codec})
	require.NoError(t, err)
	for _, f := range c.Frames {
		var b []byte
		add := func(nal []byte) { b = append(append(b, 0, 0, 0, 1), nal...) }
		if f.Key {
			if c.VPS != nil {
				add(c.VPS)
			}
			add(c.SPS)
			add(c.PPS)
		}
		for _, nal := range f.NALs {
			add(nal)
		}
		frames, keys = append(frames, b), append(keys, f.Key)
	}
	return frames, keys
}

// What is written is what the standard says, box by box, and a strict reader finds the times and the bytes again.
func TestFragments(t *testing.T) {
	frames, keys := clip(t, 320, 180)
	var m Muxer
	out, ok := m.Frame(nil, frames[1], false, 0)
	assert.False(t, ok, "nothing is shown before a key frame")
	assert.Empty(t, out)
	stamp := uint32(0xffffff00) // it wraps in the middle
	var before uint64
	for i, f := range frames {
		out, ok = m.Frame(out[:0], f, keys[i], stamp)
		require.True(t, ok)
		list, err := boxes(out)
		require.NoError(t, err)
		require.Len(t, list, 2)
		at := binary.BigEndian.Uint64(find(list, "moof/traf/tfdt").data[4:])
		if i > 0 {
			assert.Equal(t, before+9000, at)
		}
		before = at
		trun := find(list, "moof/traf/trun").data
		offset, size := binary.BigEndian.Uint32(trun[8:]), binary.BigEndian.Uint32(trun[16:])
		mdat := find(list, "mdat").data
		assert.Equal(t, int(size), len(mdat))
		assert.Equal(t, mdat, out[offset:], "the offset leads to the first byte")
		assert.Equal(t, keys[i], trun[20] == 2)
		for n := 0; n < len(mdat); {
			n += 4 + int(binary.BigEndian.Uint32(mdat[n:]))
			assert.LessOrEqual(t, n, len(mdat))
		}
		stamp += 9000
	}
	init, err := boxes(m.Init(nil))
	require.NoError(t, err)
	assert.NotNil(t, find(init, "moov/trak/mdia/minf/stbl/stsd/avc1/avcC"))
	w, h := m.Size()
	assert.Equal(t, []int{320, 180, 2}, []int{w, h, m.Generation})
	assert.Regexp(t, `^video/mp4; codecs="avc1\.[0-9A-F]{6}"$`, m.MIME())

	// Another size begins anew; a clock that jumps back moves the time on all the same.
	other, _ := clip(t, 160, 90)
	_, ok = m.Frame(nil, other[0], true, 5)
	require.True(t, ok)
	assert.Greater(t, m.Generation, 2)
	assert.Equal(t, before+9000, m.Time())
	_, ok = m.Frame(nil, other[1], false, 4)
	require.True(t, ok)
	assert.Greater(t, m.Time(), before+9000)
}

// Another program reads it as it is meant: codec, size and every frame.
func TestFFprobeReadsIt(t *testing.T) {
	for _, c := range []struct {
		codec       scene.Codec
		mime, entry string
	}{
		{scene.H264, `avc1\.[0-9A-F]{6}`, "avc1/avcC"},
		{scene.H265, `hvc1\.1\.6\.L[0-9]+(\.[0-9A-F]+)*`, "hvc1/hvcC"},
	} {
		frames, keys := coded(t, c.codec, 320, 180)
		m := Muxer{H265: c.codec == scene.H265}
		var all []byte
		for i, f := range frames {
			var ok bool
			if all, ok = m.Frame(all, f, keys[i], uint32(i)*9000); !ok {
				t.Fatal("a frame was left out")
			}
		}
		assert.Regexp(t, `^video/mp4; codecs="`+c.mime+`"$`, m.MIME())
		init := m.Init(nil)
		list, err := boxes(init)
		require.NoError(t, err)
		assert.NotNil(t, find(list, "moov/trak/mdia/minf/stbl/stsd/"+c.entry))
		name := map[scene.Codec]string{scene.H264: "h264", scene.H265: "hevc"}[c.codec]
		assert.Equal(t, fmt.Sprintf("%s,320,180,%d", name, len(frames)),
			ffprobe(t, append(init, all...), "codec_name,width,height,nb_read_frames"))
	}
}

func TestFFprobeReadsSound(t *testing.T) {
	adts, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "sine=frequency=440:sample_rate=16000", "-t", "1", "-f",
		"adts", "pipe:1").Output()
	require.NoError(t, err)
	s := Sound{Config: []byte{0x14, 0x08}, Object: 2, Rate: 16000, Channels: 1}
	all, n := s.Init(nil), 0
	for len(adts) >= 7 { // ISO/IEC 13818-7 §6.2
		size := int(adts[3]&3)<<11 | int(adts[4])<<3 | int(adts[5])>>5
		all = s.Frame(all, adts[7:size])
		adts, n = adts[size:], n+1
	}
	list, err := boxes(all)
	require.NoError(t, err)
	assert.NotNil(t, find(list, "moov/trak/mdia/minf/stbl/stsd/mp4a/esds"))
	assert.Equal(t, `audio/mp4; codecs="mp4a.40.2"`, s.MIME())
	assert.Equal(t, fmt.Sprintf("aac,16000,1,%d", n), ffprobe(t, all, "codec_name,sample_rate,channels,nb_read_frames"))
}

// Packets of Opus last as long as their first byte says.
func TestFFprobeReadsOpus(t *testing.T) {
	s := Sound{Opus: true, Rate: 48000, Channels: 2}
	all := s.Init(nil)
	// Three packets of silence: 20 ms in the hybrid mode, and as the sole frame of CELT of 2.5 and 20 ms.
	for _, packet := range [][]byte{{0x78, 0xff, 0xfe}, {0xe0, 0xff, 0xfe}, {0xf8, 0xff, 0xfe}} {
		all = s.Frame(all, packet)
	}
	list, err := boxes(all)
	require.NoError(t, err)
	assert.NotNil(t, find(list, "moov/trak/mdia/minf/stbl/stsd/Opus/dOps"))
	assert.Equal(t, `audio/mp4; codecs="opus"`, s.MIME())
	assert.Equal(t, "opus,48000,2,3", ffprobe(t, all, "codec_name,sample_rate,channels,nb_read_frames"))
	for packet, lasts := range map[string]uint32{"\x00": 480, "\x08": 960, "\x18": 2880, "\x60": 480, "\x68": 960, "\x80": 120, "\xf8": 960,
		"\xf9": 1920, "\xfa": 1920, "\xfb\x03": 2880, "\xfb": 0, "\x1b\x3f": 5760, "": 0} {
		assert.Equal(t, lasts, media.OpusSamples([]byte(packet)), "%x", packet)
	}
}

func ffprobe(t *testing.T, file []byte, entries string) string {
	name := filepath.Join(t.TempDir(), "live.mp4")
	require.NoError(t, os.WriteFile(name, file, 0o600))
	out, err := exec.Command("ffprobe", "-v", "error", "-count_frames", "-show_entries", "stream="+entries, "-of", "csv=p=0",
		name).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

// Once its buffers have grown a frame costs no allocation.
func TestNoAllocationAFrame(t *testing.T) {
	frames, keys := clip(t, 320, 180)
	var m Muxer
	out := make([]byte, 0, 1<<20)
	n := 0
	write := func() {
		out, _ = m.Frame(out[:0], frames[n%len(frames)], keys[n%len(frames)], uint32(n)*9000)
		n++
	}
	for range 2 * len(frames) {
		write()
	}
	assert.Zero(t, testing.AllocsPerRun(200, write))
}

func FuzzFrame(f *testing.F) {
	f.Add([]byte{0, 0, 0, 1, 0x67, 0x42, 0xc0, 0x1e, 0xd9, 0, 0xa0, 0x47, 0xfe, 0xc8, 0, 0, 1, 0x68, 0xce, 0, 0, 1, 0x65, 1},
		uint32(0), uint32(90000))
	f.Add(bytes.Repeat([]byte{0, 0, 1}, 100), uint32(1), uint32(0))
	f.Add([]byte{0, 0, 1, 0x40, 1, 1, 0, 0, 1, 0x42, 1, 1, 1, 0x60, 0, 0, 1, 0x44, 1, 1, 0, 0, 1, 0x26, 1}, uint32(2), uint32(9000))
	f.Fuzz(func(t *testing.T, frame []byte, first, second uint32) {
		m := Muxer{H265: first%4 == 2}
		var before uint64
		for i, stamp := range []uint32{first, second, first} {
			out, ok := m.Frame(nil, frame, i == 0, stamp)
			if !ok {
				continue
			}
			if m.Time() < before {
				t.Fatal("the time went back")
			}
			before = m.Time()
			for _, b := range [][]byte{out, m.Init(nil)} {
				if _, err := boxes(b); err != nil {
					t.Fatal(err)
				}
			}
		}
	})
}
