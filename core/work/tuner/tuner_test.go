package tuner_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/rtsp"
	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
	"unlatch/core/work/prove"
	"unlatch/core/work/tuner"
	"unlatch/sim"
	"unlatch/sim/simtest"
)

const makers = `
name: makers
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Plain, maker: corvane, model: V4, address: 127.44.80.11, scene: turntable, streams: [&m {width: 640, height: 360,
       fps: 10, kbps: 400, gop: 10}, &s {width: 320, height: 180, fps: 10, kbps: 200, gop: 10}]}
  - {name: Discrete, maker: lumenhythe, model: L2, address: 127.44.80.12, scene: turntable, streams: [*m, *s]}
  - {name: Clamps, maker: corvane, model: V4, address: 127.44.80.13, scene: turntable, streams: [*m, *s], defects: {encoder: clamps}}
  - {name: Refuses, maker: corvane, model: V4, address: 127.44.80.14, scene: turntable, streams: [*m, *s], defects: {encoder: refuses}}
  - {name: Ignores, maker: corvane, model: V4, address: 127.44.80.15, scene: turntable, streams: [*m, *s], defects: {encoder: ignores}}
  - {name: Shares, maker: corvane, model: V4, address: 127.44.80.16, scene: turntable, streams: [*m, *s], defects: {encoder: shares}}
  - {name: Vbr, maker: lumenhythe, model: L2, address: 127.44.80.18, scene: turntable, streams: [*m, *s], defects: {encoder: vbr,
       media2_only: true}}
  - {name: Budget, maker: corvane, model: V5, address: 127.44.80.19, scene: turntable, streams: [*m, *s, {width: 160, height: 90,
       fps: 10, kbps: 100, gop: 10}], defects: {encoder: budget}}
  - {name: Reboots, maker: corvane, model: V4, address: 127.44.80.20, scene: turntable, streams: [*m], defects: {encoder: reboots}}
  - {name: Restarts, maker: corvane, model: V4, address: 127.44.80.21, scene: turntable, streams: [*m],
       defects: {encoder: restarts, restart_seconds: 1}}
  - {name: Forgets, maker: corvane, model: V4, address: 127.44.80.22, scene: turntable, streams: [*m], defects: {encoder: forgets}}
  - {name: Spare, maker: corvane, model: V4, address: 127.44.80.23, scene: turntable, streams: [*m, {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10, spare: true}], texts: 2}
  - {name: Spare too, maker: lumenhythe, model: L2, address: 127.44.80.24, scene: turntable, streams: [{width: 640, height: 360,
       fps: 10, kbps: 400, gop: 10, audio: "true"}, {width: 320, height: 180, fps: 10, kbps: 200, gop: 10, spare: true}], texts: 2,
       defects: {media2_only: true}}
  - {name: Drops, maker: corvane, model: V4, address: 127.44.80.25, scene: turntable, streams: [*m], defects: {encoder: drops}}
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
	hold := func(ctx context.Context, url string) tuner.Held {
		u, err := streamurl.Parse(url)
		require.NoError(t, err)
		return tuner.Hold(ctx, &prove.Prover{Dial: guard}, prove.Request{URL: u, SignIn: fitter}, nil)
	}
	r := tuner.Request{Plan: p, Name: "Yard", Hold: hold, DryRun: dry, SignIn: fitter, Prover: &prove.Prover{Dial: guard}}
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
		assert.Equal(t, []tuning.Difference{{Field: "fps", Set: "25", Got: "10"}}, r.Off["main"],
			"a bitrate is a ceiling where nobody asked for a constant one")
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
	t.Run("one without a constant bitrate says so, and has Media2 only", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Vbr"), false, map[string]string{"main": "h264,5fps,cbr"})
		assert.False(t, r.Tuned)
		require.Len(t, r.Refused, 1)
		assert.Equal(t, "rate_control", r.Refused[0].Field)
		assert.InDelta(t, 5, r.Measured["main"].FPS, .3, "the rest was set all the same")
	})
	t.Run("streams that share a budget: what fell is told, and becomes a bound", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Budget"), false, map[string]string{"main": "1280x720,12fps"})
		text := strings.Join(r.SideEffects, "\n")
		assert.Contains(t, text, "sub: fps went from 10 to 7 although nobody touched it")
		o := tuning.Observation{Device: "Budget", Wanted: map[string]tuning.Encoder{"main": r.Wanted["main"], "sub": r.Has["sub"],
			"third": r.Has["third"]}, Got: r.ReadBack}
		b := tuning.Learn([]tuning.Observation{o})
		require.True(t, b.Known())
		assert.LessOrEqual(t, b.Pixels, 11.5e6)
		p := tuning.Look(tuning.Plan{Streams: map[string]tuning.Stream{"main": {Width: 1280, Height: 720, FPS: 12}, "sub": {FPS: 10}}},
			r.Offers, b)
		require.NotEmpty(t, p.Warnings, "the next time it is said before it is sent")
		assert.Contains(t, p.Warnings[0], "third can have")
	})
	t.Run("one that goes on as before wants a restart", func(t *testing.T) {
		t.Parallel()
		d := w.Device("Reboots")
		r := tune(t, d, false, map[string]string{"main": "320x180"})
		assert.False(t, r.Tuned)
		assert.True(t, r.Restart)
		assert.Empty(t, r.SideEffects)
		c := client(t, d)
		require.NoError(t, tuner.Restart(context.Background(), c, tuner.Camera{}, 0))
		again := tune(t, d, false, map[string]string{"main": "320x180"})
		assert.True(t, again.Tuned, "%+v", again)
	})
	t.Run("one that restarts is waited for", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Restarts"), false, map[string]string{"main": "320x180"})
		assert.True(t, r.Tuned, "%+v", r)
		assert.Contains(t, strings.Join(r.SideEffects, "\n"), "restarted")
	})
	t.Run("one that drops who watches is told, and is not taken for one that restarts", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Drops"), false, map[string]string{"main": "320x180"})
		assert.True(t, r.Tuned, "%+v", r)
		require.Len(t, r.SideEffects, 1)
		assert.Contains(t, r.SideEffects[0], "drops sessions")
	})
	t.Run("one that forgets after reading back is found out by its pictures", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("Forgets"), false, map[string]string{"main": "320x180"})
		assert.False(t, r.Tuned)
		require.NotEmpty(t, r.Off["main"])
		assert.Equal(t, "size", r.Off["main"][0].Field)
	})
	for _, name := range []string{"Spare", "Spare too"} {
		t.Run("a stream is made where there was none, with a text in the picture, and both are taken away: "+name, func(t *testing.T) {
			t.Parallel()
			d := w.Device(name)
			plan := map[string]string{"sub": "h264,160x90,5fps,gop5", "overlay": "name, time, lower left"}
			dry := tune(t, d, true, plan)
			assert.Equal(t, []string{"sub", "overlay"}, []string{dry.Changes[0].Stream, dry.Changes[1].Stream})
			r := tune(t, d, false, plan)
			assert.True(t, r.Tuned, "%+v", r)
			require.NotNil(t, r.Measured["sub"])
			assert.Equal(t, 160, r.Measured["sub"].Width)
			assert.Equal(t, []string{"Plain Yard", "DateAndTime"}, d.Texts())
			assert.Equal(t, []string{"Unlatch sub"}, r.Before.Made)
			again := tune(t, d, false, plan)
			assert.True(t, again.Tuned)
			assert.Empty(t, again.Changes, "made once")
			back, err := tuner.Tune(context.Background(), client(t, d), tuner.Request{Back: &r.Before})
			require.NoError(t, err)
			assert.Empty(t, back.Refused)
			assert.Empty(t, d.Texts())
			view, err := tuner.Read(context.Background(), client(t, d), tuner.Camera{})
			require.NoError(t, err)
			assert.Len(t, view.Streams, 1)
			assert.True(t, view.Makes)
		})
	}
	t.Run("sound is given another codec, taken away and given back", func(t *testing.T) {
		d := w.Device("Spare too")
		sound := func() tuning.Audio {
			view, err := tuner.Read(context.Background(), client(t, d), tuner.Camera{})
			require.NoError(t, err)
			return view.Streams[0].Audio
		}
		assert.Equal(t, []string{"G.711", "AAC"}, sound().Codecs)
		r := tune(t, d, false, map[string]string{"main": "audio=aac"})
		assert.True(t, r.Tuned, "%+v", r)
		assert.Equal(t, "AAC", sound().Codec)
		none := tune(t, d, false, map[string]string{"main": "audio=none"})
		assert.Empty(t, none.Refused)
		assert.Empty(t, sound().Codec)
		before := none.Before.Before(r.Before)
		_, err := tuner.Tune(context.Background(), client(t, d), tuner.Request{Back: &before})
		require.NoError(t, err)
		assert.Equal(t, "G.711", sound().Codec)
		refused := tune(t, d, true, map[string]string{"main": "audio=opus", "sub": "audio=none"})
		assert.NotEmpty(t, refused.Refused)
	})
	t.Run("a stream that is not there, and a codec that is not offered", func(t *testing.T) {
		t.Parallel()
		r := tune(t, w.Device("One"), true, map[string]string{"main": "h265", "sub": "320x180"})
		assert.Len(t, r.Refused, 2)
		assert.Empty(t, r.Changes)
	})
}

// A recorder records what arrives: the picture of its slot is the camera's, before it was set and after.
func TestARecorderRecordsWhatArrives(t *testing.T) {
	w := simtest.Start(t, `
name: relay
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Camera, maker: corvane, model: V4, address: 127.44.80.31, scene: turntable, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}], defects: {encoder: drops}}
  - {name: Vault, kind: recorder, maker: holloway, model: H8, address: 127.44.80.32, channels: [{name: Own, address: 10.254.9.11,
       scene: coal-stage, streams: [*m]}]}
`)
	ctx := context.Background()
	rec := onvifrecorder.New(client(t, w.Device("Vault")), target.Access{HandOver: func(context.Context, target.Handing) error { return nil }})
	p, err := rec.Place(ctx, target.Camera{Identity: "urn:camera", Name: "Camera", Address: "127.44.80.31",
		Streams: []target.Stream{{Role: "main", URL: w.Device("Camera").URL(0)}}, SignIn: fitter})
	require.NoError(t, err)
	width := func() int {
		report, err := rec.Confirm(ctx, p.Ref, 20*time.Second)
		require.NoError(t, err)
		require.True(t, report.Arrived, "%+v", report)
		from, err := rec.Replay(ctx, p.Ref)
		require.NoError(t, err)
		u, err := streamurl.Parse(from.URL)
		require.NoError(t, err)
		proof := (&prove.Prover{Dial: guard}).Prove(ctx, prove.Request{URL: u, SignIn: fitter, Measure: 4 * time.Second,
			Replay: &rtsp.Replay{From: from.From}})
		require.Nil(t, proof.Diagnosis, "%+v", proof.Diagnosis)
		return proof.Video.Width
	}
	assert.Equal(t, 320, width())
	r := tune(t, w.Device("Camera"), false, map[string]string{"main": "160x90"})
	require.True(t, r.Tuned, "%+v", r)
	assert.Equal(t, 160, width())
}
