package tuner_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/address"
	"unlatch/core/onvif"
	"unlatch/core/prove"
	"unlatch/core/signin"
	"unlatch/core/tuner"
	"unlatch/core/tuning"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const makers = `
name: makers
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Plain, maker: corvane, model: V4, address: 127.44.80.11, scene: turntable, streams: [&m {width: 640, height: 360, fps: 10, kbps: 400, gop: 10}, &s {width: 320, height: 180, fps: 10, kbps: 200, gop: 10}]}
  - {name: Discrete, maker: lumenhythe, model: L2, address: 127.44.80.12, scene: turntable, streams: [*m, *s]}
  - {name: Clamps, maker: corvane, model: V4, address: 127.44.80.13, scene: turntable, streams: [*m, *s], defects: {encoder: clamps}}
  - {name: Refuses, maker: corvane, model: V4, address: 127.44.80.14, scene: turntable, streams: [*m, *s], defects: {encoder: refuses}}
  - {name: Ignores, maker: corvane, model: V4, address: 127.44.80.15, scene: turntable, streams: [*m, *s], defects: {encoder: ignores}}
  - {name: Shares, maker: corvane, model: V4, address: 127.44.80.16, scene: turntable, streams: [*m, *s], defects: {encoder: shares}}
  - {name: One, maker: corvane, model: V4, address: 127.44.80.17, scene: turntable, streams: [*m]}
`

var (
	guard  = &address.Guard{Allowed: address.MustParse("127.44.80.0/24")}
	fitter = signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}
)

func client(t *testing.T, d sim.Look) *onvif.Client {
	c := onvif.New(d.Service(), onvif.Options{Dial: guard, SignIn: fitter, Timeout: 20 * time.Second})
	t.Cleanup(c.Close)
	return c
}

func tune(t *testing.T, d sim.Look, dry bool, plan map[string]string) *tuner.Result {
	t.Helper()
	p, err := tuning.ParsePlan(plan)
	require.NoError(t, err)
	r := tuner.Request{Plan: p, Name: "Yard", DryRun: dry, SignIn: fitter, Prover: &prove.Prover{Dial: guard}}
	out, err := tuner.Tune(context.Background(), client(t, d), r)
	require.NoError(t, err)
	return out
}

func TestStreams(t *testing.T) {
	w := simtest.Start(t, makers)
	for _, name := range []string{"Plain", "Discrete"} {
		view, err := tuner.Read(context.Background(), client(t, w.Device(name)), tuner.Camera{})
		require.NoError(t, err)
		list := view.Streams
		require.Len(t, list, 2)
		assert.Equal(t, []string{"main", "sub"}, []string{list[0].Role, list[1].Role})
		assert.Equal(t, tuning.Size{Width: 640, Height: 360}, list[0].Encoder.Size())
		o, ok := list[0].Offers.Of("H.264")
		require.True(t, ok)
		assert.Contains(t, o.Sizes, tuning.Size{Width: 1280, Height: 720})
		assert.Equal(t, tuning.Span{Min: 32, Max: 8192}, o.Kbps)
		assert.Equal(t, name == "Discrete", o.CBR)
		assert.Equal(t, name == "Discrete", len(o.FPS) > 0)
	}
}

func TestTune(t *testing.T) {
	w := simtest.Start(t, makers)
	t.Run("what was asked is sent, read back and measured, and undone", func(t *testing.T) {
		t.Parallel()
		d := w.Device("Plain")
		dry := tune(t, d, true, map[string]string{"main": "640x480,5fps,300kbps,gop10", "sub": "160x90"})
		assert.Len(t, dry.Changes, 4)
		assert.Empty(t, dry.Measured)
		r := tune(t, d, false, map[string]string{"main": "640x480,5fps,300kbps,gop10", "sub": "160x90"})
		assert.Equal(t, dry.Changes, r.Changes, "the preview said what was sent")
		assert.True(t, r.Tuned, "%+v", r)
		assert.Empty(t, r.SideEffects)
		assert.Equal(t, []any{640, 480, "H.264"}, []any{r.Measured["main"].Width, r.Measured["main"].Height, r.Measured["main"].Codec})
		assert.InDelta(t, 5, r.Measured["main"].FPS, .3)
		assert.Equal(t, 160, r.Measured["sub"].Width)
		before := r.Before.Encoders["main"]
		back := tune(t, d, false, map[string]string{"main": before.Plan().String()})
		assert.True(t, back.Tuned)
		assert.Equal(t, before.Size(), back.ReadBack["main"].Size())
	})
	t.Run("a device with few rates gets the nearest below, and another codec", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Discrete"), false, map[string]string{"main": "h265,14fps"})
		require.Len(t, r.Changes, 2)
		assert.Equal(t, tuning.Change{Stream: "main", Field: "fps", From: "10", To: "12", Asked: "14"}, r.Changes[1])
		assert.True(t, r.Changes[1].Rounded())
		assert.True(t, r.Tuned, "%+v", r)
		assert.Equal(t, "H.265", r.Measured["main"].Codec)
	})
	t.Run("one that clamps is found out by what it reads back", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Clamps"), false, map[string]string{"main": "25fps,1000kbps"})
		assert.False(t, r.Tuned)
		text := strings.Join(r.SideEffects, "\n")
		assert.Contains(t, text, "main: fps was set to 25 and reads back as 10")
		assert.Contains(t, text, "main: bitrate_kbps was set to 1000 and reads back as 500")
		assert.Equal(t, []tuning.Difference{{Field: "fps", Set: "25", Got: "10"}}, r.Off["main"], "a bitrate is a ceiling where nobody asked for a constant one")
	})
	t.Run("one that refuses says so, and nothing is taken for done", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Refuses"), false, map[string]string{"main": "5fps"})
		assert.False(t, r.Tuned)
		require.Len(t, r.Refused, 1)
		assert.Contains(t, r.Refused[0].Why, "The parameters are not valid")
	})
	t.Run("one that says yes and does nothing is found out", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Ignores"), false, map[string]string{"sub": "160x90"})
		assert.False(t, r.Tuned)
		assert.Contains(t, strings.Join(r.SideEffects, "\n"), "sub: size was set to 160x90 and reads back as 320x180")
		assert.Equal(t, []tuning.Difference{{Field: "size", Set: "160x90", Got: "320x180"}}, r.Off["sub"])
	})
	t.Run("a neighbour that changes is told", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Shares"), false, map[string]string{"main": "1280x720"})
		assert.True(t, r.Tuned, "%+v", r)
		assert.Contains(t, strings.Join(r.SideEffects, "\n"), "sub: fps went from 10 to 5 although nobody touched it")
	})
	t.Run("a stream that is not there, and a codec that is not offered", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("One"), true, map[string]string{"main": "h265", "sub": "320x180"})
		assert.Len(t, r.Refused, 2)
		assert.Empty(t, r.Changes)
	})
}
