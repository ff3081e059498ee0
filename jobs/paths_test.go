package jobs_test

import (
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/jobs"
	"unlatch/sim/simtest"
	"unlatch/store/storetest"
)

const mute = `
name: mute
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Signed, maker: ostrel, model: O1, address: 127.42.13.11, scene: viaduct, streams: [&s {width: 160, height: 90, fps: 5,
       kbps: 100, gop: 5, profile: baseline}, *s], announces: [mdns]}
  - {name: Path first, maker: ostrel, model: O1, address: 127.42.13.12, scene: turntable, streams: [*s], announces: [mdns],
       defects: {path_first: true}}
  - {name: Open, maker: ostrel, model: O1, address: 127.42.13.13, scene: footbridge, streams: [*s], users: [], announces: [mdns]}
  - {name: Any path, maker: ostrel, model: O1, address: 127.42.13.14, scene: footbridge, streams: [*s], users: [],
       announces: [mdns], defects: {any_path: true}}
  - {name: Strange, maker: ostrel, model: O1, address: 127.42.13.15, scene: footbridge, streams: [*s], users: [{name: other,
       secret: nobody-knows, level: User}], announces: [mdns]}
`

// Cameras without a device service are opened by their stream service alone: the sign-in first, then the path by trying likely ones.
func TestWithoutADeviceService(t *testing.T) {
	t.Parallel()
	simtest.Start(t, mute)
	b := &bench{t: t, log: &syncBuffer{}, s: storetest.Open(t)}
	var err error
	b.q, err = jobs.NewQueue(b.s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	b.site, err = b.s.Sites.Create(ctx, "Yard", address.MustParse("127.42.13.0/24"))
	require.NoError(t, err)
	for _, k := range []struct{ label, secret string }{{"Wrong", "tin-lamp"}, {"Fitter", "brass-lamp-41"}} {
		_, err = b.s.SignIns.Add(ctx, signin.New{Label: k.label, User: "fitter", Secret: signin.NewSecret(k.secret)})
		require.NoError(t, err)
	}
	b.work()
	b.sweep()
	// They take a basic sign-in and no other: nothing goes out before a person has agreed, and one answer serves them all.
	b.wait(b.open(b.ids("11", "12", "13", "14", "15")))
	held := b.device("11").Status.Latch(latch.SignedIn).Diagnosis
	require.NotNil(t, held)
	assert.Equal(t, trouble.Readable, held.Cause)
	require.NoError(t, b.s.Consents.Agree(ctx, act.Person{}, b.site.ID, act.Readable{Clear: true}))
	b.wait(b.open(b.ids("11", "12", "13", "14", "15")))
	for _, last := range []string{"11", "12", "13", "14"} {
		d := b.device(last)
		require.Equal(t, latch.Placed, d.Status.At(), "%s: %+v", last, d.Status.Latches)
		assert.NotNil(t, d.Status.Proofs["main"].Still, last)
	}
	signed := b.device("11").Status
	assert.Equal(t, "Fitter", signed.SignedIn.Label)
	assert.Equal(t, "/orrery/{tier:crown|belt|hem}", signed.Located.Shape)
	assert.Len(t, signed.Streams, 2, "the third is not there")
	assert.Equal(t, 160, signed.Pictures["snapshot"].Width)
	// It counts arrivals, so a busy machine measures less than is sent, and never more.
	assert.Greater(t, signed.Pictures["mjpeg"].FPS, 1.0)
	assert.Less(t, signed.Pictures["mjpeg"].FPS, 6.5)
	assert.Equal(t, "basic", signed.Pictures["mjpeg"].Scheme)
	assert.NotNil(t, signed.Pictures["mjpeg"].Still)
	assert.Equal(t, "The stream service wants no sign-in", b.device("13").Status.Latch(latch.SignedIn).Reason)

	strange := b.device("15").Status.Latch(latch.SignedIn)
	require.Equal(t, latch.Stuck, strange.State)
	assert.Equal(t, trouble.WrongSignIn, strange.Diagnosis.Cause)
	asked := 0
	b.wait(b.open(b.ids("15")))
	history, err := b.s.Devices.History(ctx, b.names["15"], 20)
	require.NoError(t, err)
	for _, r := range history {
		if r.Kind == "signed_in" {
			asked++
		}
	}
	assert.Equal(t, 3, asked)
	assert.Contains(t, b.device("15").Status.Latch(latch.SignedIn).Diagnosis.Summary, "was refused before",
		"what was refused is not sent again")
}
