package prove_test

import (
	"bytes"
	"context"
	"image/jpeg"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/proof"
	"unlatch/core/ground/address"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/core/work/prove"
	"unlatch/sim/simtest"
)

const codecs = `
name: codecs
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: H.265, maker: lumenhythe, model: L5, address: 127.41.34.11, scene: platform-clock, streams: [&h {width: 640,
       height: 360, fps: 10, kbps: 500, codec: h265, gop: 10}]}
  - {name: Bare, maker: lumenhythe, model: L5, address: 127.41.34.12, scene: platform-clock, streams: [*h], defects: {no_parameters: true}}
  - {name: MJPEG, maker: corvane, model: V1, address: 127.41.34.13, scene: turntable, streams: [{width: 320, height: 184, fps: 5,
       kbps: 900, codec: jpeg}]}
  - {name: MPEG-4, maker: corvane, model: V1, address: 127.41.34.14, scene: coal-stage, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 300, codec: mpeg4, gop: 10}]}
  - {name: Headers in band, maker: corvane, model: V1, address: 127.41.34.15, scene: coal-stage, streams: [*m],
       defects: {no_parameters: true}}
  - {name: AAC, maker: corvane, model: V1, address: 127.41.34.16, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, audio: aac, metadata: true}]}
  - {name: G.726, maker: corvane, model: V1, address: 127.41.34.17, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, audio: g726}]}
  - {name: Silent, maker: corvane, model: V1, address: 127.41.34.18, scene: footbridge, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10, audio: silent}]}
  - {name: Changes, maker: corvane, model: V1, address: 127.41.34.19, scene: footbridge, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10, changes: [160, 90]}]}
  - {name: Smart, maker: corvane, model: V1, address: 127.41.34.20, scene: footbridge, streams: [{width: 320, height: 180, fps: 5,
       kbps: 150, smart: true}]}
  - {name: Lossy, maker: corvane, model: V1, address: 127.41.34.21, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}], defects: {drops: 5}}
  - {name: Touchy, maker: corvane, model: V1, address: 127.41.34.23, scene: footbridge, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10, audio: aac, metadata: true}], defects: {drops_tracks: true}}
  - {name: Stops, maker: corvane, model: V1, address: 127.41.34.24, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10}], defects: {stops_after: 1}}
  - {name: Late, maker: corvane, model: V1, address: 127.41.34.22, scene: footbridge, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 10, audio: "true"}], defects: {clock_offset: -1200}}
`

// Whatever codec a camera sends, its stream is proven with a decoded picture of the right scene and size.
func TestEveryCodecIsProven(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, codecs)
	for _, c := range []struct {
		name          string
		codec         string
		profile       string
		width, height int
		check         func(t *testing.T, p proof.Proof)
	}{
		{"H.265", "H.265", "Main", 640, 360, nil},
		{"Bare", "H.265", "Main", 640, 360, nil},
		{"MJPEG", "MJPEG", "Baseline", 320, 184, func(t *testing.T, p proof.Proof) {
			assert.Equal(t, p.Video.Frames, p.Video.Keyframes)
			assert.Empty(t, p.Video.KeyPattern)
		}},
		{"MPEG-4", "MPEG-4", "Simple", 320, 180, nil},
		{"Headers in band", "MPEG-4", "Simple", 320, 180, nil},
		{"AAC", "H.264", "Constrained Baseline", 320, 180, func(t *testing.T, p proof.Proof) {
			assert.Equal(t, []any{"AAC", "LC", 16000, 1}, []any{p.Audio.Codec, p.Audio.Profile, p.Audio.SampleRate, p.Audio.Channels})
			assert.InEpsilon(t, 32, p.Audio.BitrateKbps, .3)
			require.NotNil(t, p.Metadata)
			assert.Equal(t, []string{"VideoAnalytics", "Event"}, p.Metadata.Kinds)
		}},
		{"G.726", "H.264", "Constrained Baseline", 320, 180, func(t *testing.T, p proof.Proof) {
			assert.Equal(t, []any{"G.726 at 32 kbit/s", 8000}, []any{p.Audio.Codec, p.Audio.SampleRate})
		}},
		{"Silent", "H.264", "Constrained Baseline", 320, 180, func(t *testing.T, p proof.Proof) { assert.True(t, p.Audio.Silent) }},
		{"Late", "H.264", "Constrained Baseline", 320, 180, func(t *testing.T, p proof.Proof) {
			assert.False(t, p.Audio.Silent)
			assert.InDelta(t, -20, *p.Audio.LevelDBFS+9.7, 2)
			assert.InDelta(t, -1_200_000, *p.Video.SenderClockMS, 2000)
		}},
		{"Touchy", "H.264", "Constrained Baseline", 320, 180, func(t *testing.T, p proof.Proof) {
			assert.Nil(t, p.Audio, "it hangs up on who asks for it, and has a picture all the same")
			assert.Contains(t, p.Exchange, "playing without")
		}},
		{"Lossy", "H.264", "Constrained Baseline", 320, 180, func(t *testing.T, p proof.Proof) { assert.Positive(t, p.Video.Lost) }},
		{"Smart", "H.264", "Constrained Baseline", 320, 180, func(t *testing.T, p proof.Proof) {
			// Its key frames come after 3, 5 and 16 s: whoever begins at the first of them sees the short intervals alone, and looks again.
			for tries := 0; p.Video.KeyPattern != "long" && tries < 3; tries++ {
				p = run(t, w.Device("Smart").URL(0), fitter)
			}
			assert.Equal(t, "long", p.Video.KeyPattern)
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := run(t, w.Device(c.name).URL(0), fitter)
			require.True(t, p.OK, "%+v\n%s", p.Diagnosis, p.Exchange)
			assert.Equal(t, []any{c.codec, c.profile, c.width, c.height}, []any{p.Video.Codec, p.Video.Profile, p.Video.Width,
				p.Video.Height})
			assert.Zero(t, p.Video.Malformed)
			assert.NotEmpty(t, p.Video.PerSecondKbps)
			assert.NotNil(t, p.Video.Sizes.Key)
			img, err := jpeg.Decode(bytes.NewReader(p.Still))
			require.NoError(t, err)
			assert.Equal(t, c.width, img.Bounds().Dx())
			if c.check != nil {
				c.check(t, p)
			}
		})
	}
}

// One that stops after its first key frame has shown a picture, and no interval is made up for it.
func TestAStreamThatStopsAfterOneKeyFrame(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.ReplaceAll(codecs, "127.41.34.", "127.41.36."))
	p := run(t, w.Device("Stops").URL(0), fitter)
	require.NotNil(t, p.Video, "%+v", p.Diagnosis)
	assert.Equal(t, 1, p.Video.Keyframes)
	assert.Zero(t, p.Video.GOPSeconds, "no interval is made up")
	assert.NotEmpty(t, p.Still)
}

// Sender reports alone keep a session from being silent, and are no packets of a picture.
func TestReportsAndNoPicture(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, `
name: reports
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Reports, maker: corvane, model: V1, address: 127.41.37.10, scene: footbridge, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}], defects: {drops: 100}}
`)
	u, err := streamurl.Parse(w.Device("Reports").URL(0))
	require.NoError(t, err)
	prover := prove.Prover{Dial: &address.Guard{Allowed: address.MustParse("127.41.0.0/16")}, Still: media.Still}
	p := prover.Prove(context.Background(), prove.Request{URL: u, SignIn: fitter, Timeout: 3 * time.Second, Patience: time.Second})
	require.False(t, p.OK)
	assert.Equal(t, trouble.NoPackets, p.Diagnosis.Cause, "%+v", p.Diagnosis)
}

func TestASizeThatChangesIsToldInSegments(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, strings.ReplaceAll(codecs, "127.41.34.", "127.41.35."))
	p := runWith(t, w.Device("Changes").URL(0), prove.Request{SignIn: fitter, Measure: 5 * time.Second})
	require.True(t, p.OK, "%+v", p.Diagnosis)
	require.GreaterOrEqual(t, len(p.Video.Segments), 2)
	sizes := map[int]bool{p.Video.Segments[0].Width: true, p.Video.Segments[1].Width: true}
	assert.Equal(t, map[int]bool{320: true, 160: true}, sizes)
}

// A stream whose description says one codec and whose packets are of another has no picture, and is not taken for one that has.
func TestADescriptionThatNamesAnotherCodec(t *testing.T) {
	t.Parallel()
	m := media.NewMeter(media.Track{Kind: "video", Payload: 96, Codec: "H264", ClockRate: 90000})
	for seq := range byte(40) { // H.265: VPS, SPS, PPS and fragments of an IDR picture
		head := [][]byte{{32 << 1, 1}, {33 << 1, 1}, {34 << 1, 1}, {49 << 1, 1, 0x80 | 19}}[seq%4]
		m.Packet(append([]byte{0x80, 96 | 0x80, 0, seq, 0, 0, 0, seq, 0, 0, 0, 1}, append(head, bytes.Repeat([]byte{seq}, 60)...)...),
			time.Unix(int64(seq), 0))
	}
	assert.Nil(t, m.Keyframe())
}
