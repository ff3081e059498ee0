package jobs_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/store/storetest"
)

// A worker that only looks finds, signs in and plays, places nothing, and refuses what would change a device or a target.
func TestAWorkerThatOnlyLooks(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.102", 5)
	b.hooks.OnlyLooks, b.hooks.Places = true, 1
	_, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	b.work()
	b.sweep()
	b.wait(b.open(b.ids("20")))
	camera := b.ids("11", "12", "13") // one after the other: there is one place
	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(b.names["20"], camera...)))
	b.agreeForTarget(b.names["20"])
	opened := b.wait(b.open(camera))
	assert.Empty(t, opened.Problem)
	for _, n := range []string{"11", "12", "13"} {
		assert.Equal(t, latch.Placed, b.device(n).Status.At(), n)
		assert.NotEqual(t, latch.Stuck, b.device(n).Status.Latch(latch.Placed).State, n)
	}
	for name, w := range map[string]command.Work{
		"restart": {Devices: command.Each(camera, command.Device{Tune: &command.Tune{Restart: true}})},
		"place":   {Devices: command.Each(camera, command.Device{Place: &command.Place{Target: b.names["20"]}})},
		"free":    {Targets: []command.OnTarget{{Target: b.names["20"], Do: command.Target{Change: &command.TargetChange{Free: "1"}}}}},
	} {
		w.Kind, w.Title = "change", "Change"
		run := b.ended(b.q.Begin(ctx, b.site.ID, w))
		assert.Contains(t, run.Problem, "only looks", name)
	}
	assert.Equal(t, latch.Placed, b.device("11").Status.At())
}
