package bringup

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/latch"
	"unlatch/core/ground/linkbudget"
	"unlatch/core/stream/sighting"
	"unlatch/sim/simtest"
)

const pairs = `
name: pairs
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Both, maker: corvane, model: V4, address: 127.44.70.11, scene: turntable, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 10}, &s {width: 160, height: 90, fps: 5, kbps: 80, gop: 5, profile: baseline}]}
  - {name: One, maker: corvane, model: V4, address: 127.44.70.12, scene: turntable, streams: [*m, *s], defects: {sessions: 1}}
  - {name: Narrow, maker: corvane, model: V4, address: 127.44.70.13, scene: turntable, streams: [*m, *s]}
`

// Main and sub are measured together where the device takes two sessions and the link has room for both, and one after the other where not.
// They are proven in any case.
func TestMainAndSubTogether(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, pairs)
	for _, c := range []struct {
		name     string
		link     *linkbudget.Budget
		together bool
	}{
		{"Both", nil, true},
		{"One", nil, false},
		{"Narrow", linkbudget.New(250), false},
	} {
		m := newMemory(t)
		m.key("Fitter", "fitter", "brass-lamp-41")
		d := m.heard(c.name, strings.TrimSuffix(w.Device(c.name).RTSP(), ":554"), w.Device(c.name).Service(), sighting.Camera)
		work := m.work(d, "127.44.70.0/24")
		work.Link = c.link
		require.NoError(t, work.Open(ctx))
		now, err := m.Device(ctx, d.ID)
		require.NoError(t, err)
		require.Equal(t, latch.Open, now.Status.Latch(latch.Proven).State, "%s: %+v", c.name, now.Status.Latch(latch.Proven))
		assert.Equal(t, 320, now.Status.Proofs["main"].Video.Width)
		assert.Equal(t, 160, now.Status.Proofs["sub"].Video.Width)
		text := strings.Join(m.said, "\n")
		assert.Contains(t, text, "playing the main stream", c.name)
		assert.Equal(t, !c.together, strings.Contains(text, "playing the sub stream"), "%s: %s", c.name, text)
		assert.Equal(t, c.link != nil, strings.Contains(text, "Mbit/s in flight"), text)
		assert.Equal(t, 2, strings.Count(strings.Join(m.kinds(d), " "), "proof prof_"))
	}
}
