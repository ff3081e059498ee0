package bringup

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/stream/tuning"
	"unlatch/sim/simtest"
)

const marks = `
name: marks
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Dome, maker: corvane, model: V4, address: 127.44.76.11, scene: viaduct, texts: 2, ptz: {home: {pan: 0.25, tilt: -0.1,
       zoom: 0.5}}, streams: [&s {width: 160, height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Full, maker: lumenhythe, model: L5, address: 127.44.76.12, scene: turntable, texts: 1, streams: [*s]}
  - {name: Mute, maker: corvane, model: V4, address: 127.44.76.13, scene: viaduct, ptz: {defect: mute}, streams: [*s]}
  - {name: Loose, maker: corvane, model: V4, address: 127.44.76.14, scene: viaduct, ptz: {defect: relative}, streams: [*s]}
  - {name: Stuck, maker: corvane, model: V4, address: 127.44.76.15, scene: viaduct, ptz: {defect: stuck}, streams: [*s]}
  - {name: Keeps, maker: corvane, model: V4, address: 127.44.76.16, scene: viaduct, texts: 2, defects: {keeps_texts: true}, streams: [*s]}
`

// A nudge and a label are cut off at every point: what was before is there again once the work is gone on with.
func TestAKillAtEveryPointOfAMark(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.76.0/24"
	world := simtest.Start(t, marks)
	m := newMemory(t)
	m.takes = 30 * time.Millisecond
	m.key("Fitter", "fitter", "brass-lamp-41")
	at := func(name string) *latch.Device {
		d := m.heard(name, world.Device(name).Address(), world.Device(name).Service(), sighting.Camera)
		require.NoError(t, m.work(d, ranges).Open(ctx))
		return d
	}
	dome, full := at("Dome"), at("Full")
	// The one text that it can draw is there already, and says something else meanwhile.
	c, _, err := m.work(full, ranges).signedClient(ctx)
	require.NoError(t, err)
	_, err = c.CreateOverlay(ctx, "vsc", tuning.Text{Kind: "Plain", Plain: "Turntable", At: "upper left", Size: 20})
	require.NoError(t, err)
	home := camera.Position{Pan: .25, Tilt: -.1, Zoom: .5}
	for _, x := range []struct {
		device *latch.Device
		how    evidence.Mark
		asIs   func()
	}{
		{dome, evidence.Nudge, func() {
			looks, _ := world.Device("Dome").Looks()
			assert.Equal(t, home, looks)
		}},
		{dome, evidence.Label, func() { assert.Empty(t, world.Device("Dome").Texts()) }},
		{full, evidence.Label, func() { assert.Equal(t, []string{"Plain Turntable"}, world.Device("Full").Texts()) }},
	} {
		points := 0
		for n := 1; n < mostPoints; n++ {
			cut := m.cutAt(t, n, x.device.ID, ranges, func(ctx context.Context, w *Work) error { return w.Mark(ctx, x.how, "", false) })
			x.asIs()
			d, _ := m.Device(ctx, x.device.ID)
			require.Nil(t, d.Status.Marked, "%s of %s, cut off at point %d", x.how, x.device.Title, n)
			if !cut {
				break
			}
			points++
		}
		assert.Greater(t, points, 10, "%s of %s was cut off up to that point", x.how, x.device.Title)
		assert.Less(t, points, mostPoints-4)
	}
	_, moved := world.Device("Dome").Looks()
	assert.Greater(t, moved, 10, "it did move")
}

// onlooker has a work look at the device while its mark stands.
type onlooker struct {
	*memory
	look func()
}

func (s onlooker) Sleep(ctx context.Context, d time.Duration) error {
	if d >= nudgeFor {
		s.look()
	}
	return s.memory.Sleep(ctx, d)
}

func TestMarks(t *testing.T) {
	t.Parallel()
	const ranges = "127.44.81.0/24"
	world := simtest.Start(t, strings.ReplaceAll(marks, "127.44.76.", "127.44.81."))
	m := newMemory(t)
	m.takes = 30 * time.Millisecond
	m.key("Fitter", "fitter", "brass-lamp-41")
	work := func(name string, look func()) *Work {
		var d *latch.Device
		for _, have := range m.devices {
			if have.Title == name {
				d = have
			}
		}
		if d == nil {
			d = m.heard(name, world.Device(name).Address(), world.Device(name).Service(), sighting.Camera)
			require.NoError(t, m.work(d, ranges).Open(ctx))
		}
		if look == nil {
			look = func() {}
		}
		fresh, err := m.Device(ctx, d.ID)
		require.NoError(t, err)
		return Start(fresh, Config{Record: m, Keyring: m, Report: m, Clock: onlooker{m, look}, OnlyChange: true,
			Guard: &address.Guard{Allowed: address.MustParse(ranges)}})
	}
	newest := func(name string) evidence.Marked {
		list := m.records[work(name, nil).d.ID]
		i := len(list) - 1
		for list[i].Kind != evidence.KindMarked {
			i--
		}
		b, err := evidence.Decode[evidence.Marked](list[i])
		require.NoError(t, err)
		return b
	}
	stood := false
	require.NoError(t, work("Dome", func() {
		looks, _ := world.Device("Dome").Looks()
		stood = stood || looks.Pan > .25+nudgeBy/2
	}).Mark(ctx, evidence.Nudge, "", false))
	assert.True(t, stood, "it looks aside for a while")
	require.NoError(t, work("Dome", func() { assert.Equal(t, []string{"Plain gate 4"}, world.Device("Dome").Texts()) }).Mark(ctx,
		evidence.Label, " gate\n4", false))
	assert.Equal(t, `Label "gate 4": made, and put back`, evidence.Record{Kind: evidence.KindMarked,
		Body: mustEncode(t, newest("Dome"))}.Sum())

	// Stopped while the label stands: it is taken away all the same.
	stopping, stop := context.WithCancel(ctx)
	assert.NoError(t, work("Dome", stop).Mark(stopping, evidence.Label, "", false), "it is not made once more")
	assert.Empty(t, world.Device("Dome").Texts())
	assert.False(t, newest("Dome").Pending)

	for name, x := range map[string]struct {
		how  evidence.Mark
		says string
	}{
		"Mute":  {evidence.Nudge, "never says where it looks"},
		"Loose": {evidence.Nudge, "cannot be sent to a position"},
		"Full":  {evidence.Nudge, "no moving parts"},
		"Stuck": {evidence.Label, "draws no text"},
	} {
		require.NoError(t, work(name, nil).Mark(ctx, x.how, "", false))
		b := newest(name)
		require.NotNil(t, b.Diagnosis, name)
		assert.Equal(t, trouble.NoMark, b.Diagnosis.Cause)
		assert.Contains(t, b.Diagnosis.Summary, x.says)
		assert.False(t, b.Pending, "%s: nothing was sent", name)
	}
	// What cannot be put back stands as such, and can be put back later; nothing new is begun meanwhile.
	for name, x := range map[string]struct {
		how  evidence.Mark
		says string
	}{"Stuck": {evidence.Nudge, "does not look where it did"}, "Keeps": {evidence.Label, "still draws it"}} {
		require.NoError(t, work(name, nil).Mark(ctx, x.how, "", false))
		for range 2 {
			b := newest(name)
			require.NotNil(t, b.Diagnosis, name)
			assert.Equal(t, trouble.MarkStands, b.Diagnosis.Cause)
			assert.Contains(t, b.Diagnosis.Summary, x.says)
			assert.True(t, b.Pending)
			require.NotNil(t, work(name, nil).d.Status.Marked)
			require.NoError(t, work(name, nil).Mark(ctx, x.how, "another", true))
		}
		// A put-back that is stopped before it has asked the camera anything leaves the mark told of as standing.
		stopped, stop := context.WithCancel(ctx)
		stop()
		assert.ErrorIs(t, work(name, nil).Mark(stopped, x.how, "", true), context.Canceled)
		assert.NotNil(t, work(name, nil).d.Status.Marked, "%s: nothing was put back", name)
	}
}

func mustEncode(t *testing.T, b evidence.Body) []byte {
	raw, err := evidence.Encode(b)
	require.NoError(t, err)
	return raw
}
