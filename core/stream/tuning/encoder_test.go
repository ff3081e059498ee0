package tuning

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var has = Encoder{Token: "e", Codec: "H.264", Profile: "Main", Width: 1280, Height: 720, FPS: 25, Kbps: 4000, GOPFrames: 50}

var offers = Options{Codecs: []CodecOptions{
	{Codec: "H.264", Profiles: []string{"Baseline", "Main"}, Sizes: []Size{{1280, 720}, {640, 360}, {640, 480}}, FPS: []float64{12, 25},
		Kbps: Span{64, 8000}, GOP: Span{1, 100}},
	{Codec: "MJPEG", Sizes: []Size{{640, 360}}, FPSSpan: Span{1, 10}, Kbps: Span{64, 8000}},
}}

func plan(t *testing.T, text string) Stream {
	s, err := ParseStream(text)
	require.NoError(t, err)
	return s
}

func TestTowards(t *testing.T) {
	for _, c := range []struct {
		plan    string
		want    string // of the setting, as a plan
		changes []Change
		refused []string
	}{
		{"keep", "h264,main,1280x720,25fps,4000kbps,gop50", nil, nil},
		{"15fps", "h264,main,1280x720,12fps,4000kbps,gop50", []Change{{"main", "fps", "25", "12", "15"}}, nil},
		{"800x600,gop2s,9000kbps", "h264,main,640x480,25fps,8000kbps,gop50", []Change{{"main", "size", "1280x720", "640x480", "800x600"},
			{"main", "bitrate_kbps", "4000", "8000", "9000"}}, nil},
		{"h265,cbr", "h264,main,1280x720,25fps,4000kbps,gop50", nil, []string{"codec", "rate_control"}},
		{"jpeg", "mjpeg,640x360,10fps,4000kbps", []Change{{"main", "codec", "H.264", "MJPEG", "MJPEG"}, {"main", "profile", "Main", "", ""},
			{"main", "size", "1280x720", "640x360", "640x360"}, {"main", "fps", "25", "10", "10"}, {"main", "gop_frames", "50", "0",
				"0"}}, nil},
		{"high", "h264,main,1280x720,25fps,4000kbps,gop50", nil, []string{"profile"}},
	} {
		want, changes, refused := Towards("main", plan(t, c.plan), has, offers)
		got := Stream{Codec: want.Codec, Profile: want.Profile, Width: want.Width, Height: want.Height, FPS: want.FPS,
			BitrateKbps: want.Kbps, GOPFrames: want.GOPFrames}
		assert.Equal(t, c.want, got.String(), c.plan)
		assert.Equal(t, c.changes, changes, c.plan)
		var fields []string
		for _, r := range refused {
			fields = append(fields, r.Field)
			assert.NotEmpty(t, r.Why)
		}
		assert.Equal(t, c.refused, fields, c.plan)
	}
	_, changes, _ := Towards("sub", plan(t, "320x180,5fps"), has, Options{})
	require.Len(t, changes, 2, "a device that tells no options is sent what was asked")
	assert.False(t, changes[0].Rounded())
}

// Rounding never leaves what is offered, whatever is asked.
func TestRoundingStaysWithinWhatIsOffered(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 5000 {
		o := CodecOptions{Codec: "H.264", Kbps: Span{float64(r.IntN(100)), float64(100 + r.IntN(9000))}, GOP: Span{1, float64(1 +
			r.IntN(300))}}
		for range 1 + r.IntN(6) {
			o.Sizes = append(o.Sizes, Size{16 + r.IntN(3000), 16 + r.IntN(2000)})
		}
		if r.IntN(2) == 0 {
			for range 1 + r.IntN(4) {
				o.FPS = append(o.FPS, float64(1+r.IntN(60)))
			}
		} else {
			o.FPSSpan = Span{float64(1 + r.IntN(5)), float64(6 + r.IntN(60))}
		}
		p := Stream{Width: 16 + r.IntN(4000), Height: 16 + r.IntN(3000), FPS: float64(1+r.IntN(1200)) / 10, BitrateKbps: 1 +
			r.IntN(20000), GOPFrames: 1 + r.IntN(500)}
		want, changes, _ := Towards("main", p, has, Options{Codecs: []CodecOptions{o}})
		require.Contains(t, o.Sizes, want.Size())
		if len(o.FPS) > 0 {
			require.Contains(t, o.FPS, want.FPS)
			require.True(t, want.FPS <= p.FPS || want.FPS == slices.Min(o.FPS))
		} else {
			require.True(t, want.FPS >= o.FPSSpan.Min && want.FPS <= o.FPSSpan.Max)
		}
		require.True(t, float64(want.Kbps) >= o.Kbps.Min && float64(want.Kbps) <= o.Kbps.Max)
		require.True(t, float64(want.GOPFrames) <= max(o.GOP.Max, 1))
		for _, c := range changes {
			require.NotEqual(t, c.From, c.To)
		}
	}
}

func TestMeets(t *testing.T) {
	set := Encoder{Codec: "H.264", Width: 640, Height: 360, FPS: 10, Kbps: 1000, Control: "cbr", GOPFrames: 20}
	good := Measure{Codec: "H.264", Width: 640, Height: 360, FPS: 10.2, Kbps: 1100, GOPFrames: 20}
	all := set.Plan()
	assert.Empty(t, Meets(all, set, good))
	for field, change := range map[string]func(*Measure){"codec": func(m *Measure) { m.Codec = "H.265" },
		"size": func(m *Measure) { m.Height = 368 }, "fps": func(m *Measure) { m.FPS = 12 }, "bitrate_kbps": func(m *Measure) { m.Kbps = 500 },
		"gop_frames": func(m *Measure) { m.GOPFrames = 50 }} {
		m := good
		change(&m)
		off := Meets(all, set, m)
		require.Len(t, off, 1, field)
		assert.Equal(t, field, off[0].Field)
		if field != "codec" && field != "size" {
			assert.Empty(t, Meets(Stream{Width: 640, Height: 360}, set, m), "nobody asked for %s", field)
		}
	}
	assert.Equal(t, "the frame rate is 12 fps, set was 10 fps", Difference{"fps", "10", "12"}.String())
	set.Control = "vbr"
	assert.Empty(t, Meets(all, set, Measure{Codec: "H.264", Width: 640, Height: 360, FPS: 10, Kbps: 100, GOPFrames: 20}),
		"a ceiling is not a floor")
}
