package diagnose_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
)

func TestFindingsOfAStream(t *testing.T) {
	ms := func(n int64) *int64 { return &n }
	level := -90.0
	good := media.Measured{Codec: "H.264", BitrateKbps: 2000, Packets: 1000, Frames: 60, KeyIntervals: []float64{1, 1, 1},
		KeyPattern: "constant", MeasuredForMS: 4000}
	with := func(change func(*media.Measured)) *media.Measured {
		v := good
		change(&v)
		return &v
	}
	claims := camera.Settings{Codec: "H.264", BitrateKbps: 2000}
	for _, c := range []struct {
		name  string
		v     *media.Measured
		audio *media.Audio
		want  []trouble.Cause
		says  string
	}{
		{"nothing measured", nil, nil, nil, ""},
		{"all well", &good, &media.Audio{Codec: "AAC"}, nil, ""},
		{"one packet in a thousand", with(func(v *media.Measured) { v.Lost = 1 }), nil, nil, ""},
		{"loss", with(func(v *media.Measured) { v.Lost = 20 }), nil, []trouble.Cause{trouble.PacketLoss}, "2.0 %"},
		{"10 s", with(func(v *media.Measured) { v.KeyIntervals, v.MeasuredForMS = []float64{10}, 12000 }), nil,
			[]trouble.Cause{trouble.LongKeyInterval}, "10 s"},
		{"no second one", with(func(v *media.Measured) { v.KeyIntervals, v.KeyPattern, v.MeasuredForMS = nil, "long", 12000 }), nil,
			[]trouble.Cause{trouble.LongKeyInterval}, "12 s"},
		{"JPEG has no interval", with(func(v *media.Measured) { v.KeyIntervals, v.KeyPattern, v.MeasuredForMS = nil, "", 12000 }), nil,
			nil, ""},
		{"three times the claim", with(func(v *media.Measured) { v.BitrateKbps = 6000 }), nil, []trouble.Cause{trouble.OverBitrate},
			"3.0 times"},
		{"another codec", with(func(v *media.Measured) { v.Codec = "H.265" }), nil, []trouble.Cause{trouble.OtherCodec}, "H.265"},
		{"20 min behind", with(func(v *media.Measured) { v.SenderClockMS = ms(-1_200_000) }), nil, []trouble.Cause{trouble.WrongClock},
			"20 min behind"},
		{"a second ahead", with(func(v *media.Measured) { v.SenderClockMS = ms(1000) }), nil, nil, ""},
		{"another size", with(func(v *media.Measured) {
			v.Segments = []media.Stretch{{Width: 320, Height: 180}, {Width: 160, Height: 90}}
		}), nil,
			[]trouble.Cause{trouble.SizeChanges}, "changes its size"},
		{"time stands still", with(func(v *media.Measured) { v.ClockDrift = "x" }), nil, []trouble.Cause{trouble.WrongRTPClock},
			"stutter"},
		{"silence", &good, &media.Audio{Silent: true, LevelDBFS: &level}, []trouble.Cause{trouble.SilentAudio}, "silent"},
		{"an audio configuration of 40 kB", &good, &media.Audio{Problem: "the configuration is 40000 bytes long"},
			[]trouble.Cause{trouble.BadAudioConfig}, "40000"},
	} {
		var causes []trouble.Cause
		text := ""
		for _, d := range diagnose.Stream(c.v, c.audio, "udp", claims) {
			causes = append(causes, d.Cause)
			text += d.Summary
			assert.NotEmpty(t, d.Fix, c.name)
		}
		assert.Equal(t, c.want, causes, c.name)
		assert.Contains(t, text, c.says, c.name)
	}
	assert.Contains(t, diagnose.Stream(with(func(v *media.Measured) { v.Lost = 20 }), nil, "tcp", claims)[0].Summary, "leaves out 2.0 %",
		"TCP loses nothing by itself")
	smart := with(func(v *media.Measured) { v.KeyIntervals, v.KeyPattern = []float64{3, 5, 16}, "long" })
	assert.Contains(t, diagnose.Stream(smart, nil, "tcp", claims)[0].Fix, "smart coding off")
}
