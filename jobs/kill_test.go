package jobs_test

import (
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/jobs"
)

// Every kind of job that changes a device is cut off in its middle, and the queue goes on with it: the device ends as it was
// wanted. That this holds at every point is tested where the changes are made, in core/work/bringup.
func TestAKilledChangeIsGoneOnWith(t *testing.T) {
	t.Parallel()
	var cut jobs.Cutter
	hooks := cut.Hooks()
	hooks.OnlyChanges = true
	b := hooked(t, hooks, strings.ReplaceAll(lone, "NET.11,", "NET.11, defects: {stream_closed: true},")+
		"  - {name: Fresh, maker: corvane, model: V4, serial: F1, address: NET.12, scene: viaduct, users: [], streams: [*s]}\n",
		"127.42.30", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.open(b.ids("11", "12")))
	for undo, n := range []int{4, 9} {
		was := cut.At(n)
		b.wait(b.begin(command.Device{Fix: &command.Fix{Action: evidence.FixStreams, Undo: undo == 1}}, []uuid.UUID{b.names["11"]}))
		require.True(t, was(), "cut off at point %d", n)
		require.Len(t, b.device("11").Status.Fixes, 1-undo)
	}

	key, err := b.s.SignIns.Add(ctx, signin.New{Label: "Its own", User: "keeper", Secret: signin.NewSecret("river-stone-91"),
		Terms: signin.For("", b.ids("12")...)})
	require.NoError(t, err)
	was := cut.At(7)
	b.wait(b.run(command.Work{Kind: "claim", Devices: []command.OnDevice{{Device: b.names["12"],
		Do: command.Device{Claim: &command.Claim{SignIn: key}}}}}))
	require.True(t, was())
	require.Equal(t, key, b.device("12").Status.SignedIn.SignIn)

	was = cut.At(11)
	to := camera.Network{Addr: address.MustParse("127.42.30.31").Prefixes()[0].Addr(), Bits: 24}
	b.wait(b.run(command.Work{Kind: "address", Steps: 2, Devices: command.Each([]uuid.UUID{b.names["11"]}, command.Device{Address: &to})}))
	require.True(t, was())
	assert.Equal(t, to.Addr.String(), b.device("11").Addr)
}
