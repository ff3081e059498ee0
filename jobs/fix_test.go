package jobs_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
)

const mending = `
name: mending
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Apart one, maker: brackwell, model: B2, serial: B1, address: NET.11, scene: viaduct, streams: [&s {width: 160,
       height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}, *s], defects: {locks_after: 5}}
  - {name: Apart two, maker: brackwell, model: B2, serial: B2, address: NET.12, scene: turntable, streams: [*s], defects: {locks_after: 5}}
  - {name: Off, maker: corvane, model: V4, serial: C1, address: NET.13, scene: viaduct, streams: [*s],
       defects: {stream_closed: true, clock_offset: 900}}
  - {name: Keeps, maker: corvane, model: V4, serial: C2, address: NET.14, scene: viaduct, streams: [*s],
       defects: {stream_closed: true, keeps_streams: true}}
`

func (b *bench) fix(action evidence.FixAction, undo bool, key uuid.UUID, lasts ...string) {
	b.wait(b.begin(command.Device{Fix: &command.Fix{Action: action, SignIn: key, Undo: undo}}, b.ids(lasts...)))
}

// Cameras whose streams have users of their own get one that may watch and nothing else; undo takes it away.
func TestAStreamUserOnManyDevices(t *testing.T) {
	t.Parallel()
	b := keyed(t, mending, "127.42.17", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.open(b.ids("11", "12")))
	for _, last := range []string{"11", "12"} {
		l := b.device(last).Status.Latch(latch.SignedIn)
		require.Equal(t, latch.Stuck, l.State, "%+v", l)
		require.Equal(t, trouble.StreamRefuses, l.Diagnosis.Cause)
	}
	b.wait(b.open(b.ids("11")))
	assert.Equal(t, 1, b.world.Device("Apart one").WrongTries(), "what the streams refused is not sent again")
	require.Equal(t, trouble.StreamRefuses, b.device("11").Status.Latch(latch.SignedIn).Diagnosis.Cause)

	key, err := b.s.SignIns.Add(ctx, signin.New{Label: "Stream user", User: "watcher", Secret: signin.NewSecret("river-stone-91")})
	require.NoError(t, err)
	require.NoError(t, b.s.SignIns.SetTerms(ctx, key, "Stream user", signin.Terms{Purpose: signin.Streams}))
	b.fix(evidence.FixStreamUser, false, key, "11", "12")
	for _, last := range []string{"11", "12"} {
		st := b.device(last).Status
		require.Equal(t, latch.Placed, st.At(), "%s: %+v", last, st.Latches)
		assert.Equal(t, "watcher", st.StreamKey.User)
		assert.Equal(t, "Administrator", st.SignedIn.Level)
		assert.True(t, st.StreamKey.Made)
		snapshot := st.Pictures["snapshot"]
		assert.Nil(t, snapshot.Diagnosis)
		assert.Equal(t, 160, snapshot.Width)
		assert.Equal(t, "Fitter", snapshot.Label, "the web side takes the administrator")
		assert.NotNil(t, st.Web)
	}
	assert.LessOrEqual(t, b.world.Device("Apart one").WrongTries(), 1)

	b.fix(evidence.FixStreamUser, true, uuid.Nil, "12")
	st := b.device("12").Status
	assert.Nil(t, st.StreamKey)
	assert.Equal(t, latch.SignedIn, st.At(), "%+v", st.Latches)
	assert.Empty(t, st.Fixes)
	assert.Equal(t, latch.Placed, b.device("11").Status.At())
}

// A stream service that is switched off is switched on, read back and proven; a device that only says yes is found out.
func TestTheStreamServiceIsSwitchedOn(t *testing.T) {
	t.Parallel()
	b := keyed(t, mending, "127.42.18", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.open(b.ids("13", "14")))
	require.Equal(t, trouble.StreamsOff, b.device("13").Status.Latch(latch.Proven).Diagnosis.Cause)
	b.fix(evidence.FixStreams, false, uuid.Nil, "13")
	st := b.device("13").Status
	require.Equal(t, latch.Placed, st.At(), "%+v", st.Latches)
	require.Len(t, st.Fixes, 1)
	assert.Equal(t, "off", st.Fixes[0].Before)
	b.fix(evidence.FixStreams, true, uuid.Nil, "13")
	require.Equal(t, trouble.StreamsOff, b.device("13").Status.Latch(latch.Proven).Diagnosis.Cause)

	run, err := b.begin(command.Device{Fix: &command.Fix{Action: evidence.FixStreams}}, b.ids("14"))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		newest := mustHistory(t, b, "14")[0]
		if newest.Kind != evidence.KindFix {
			return false
		}
		body, err := evidence.Decode[evidence.Fix](newest)
		return err == nil && !body.Pending // what is about to be done is recorded before it is
	}, time.Minute, 50*time.Millisecond)
	assert.Contains(t, mustHistory(t, b, "14")[0].Sum(), "did not make it", run.ID)

	assert.InDelta(t, 900_000, b.device("13").Status.Reached.SkewMS, 5000)
	b.fix(evidence.FixClock, false, uuid.Nil, "13")
	assert.InDelta(t, 0, b.device("13").Status.Reached.SkewMS, 3000)
	b.fix(evidence.FixClock, true, uuid.Nil, "13")
	assert.InDelta(t, 900_000, b.device("13").Status.Reached.SkewMS, 5000)
}

// A password of awkward characters opens the camera; a recorder that cannot take it in a URL says so, and a stream user mends that.
func TestAPasswordThatATargetCannotTake(t *testing.T) {
	t.Parallel()
	const awkward = "@:/#%&+ ä"
	b := keyed(t, `
name: awkward
users: [{name: fitter, secret: "`+awkward+`", level: Administrator}]
devices:
  - {name: Odd, maker: corvane, model: V4, serial: O1, address: NET.11, scene: viaduct, streams: [{width: 160, height: 90, fps: 5,
       kbps: 100, gop: 5, profile: baseline}]}
  - {name: Plain, kind: recorder, maker: holloway, model: H8, address: NET.20, users: [{name: fitter, secret: "`+awkward+`",
       level: Administrator}], defects: {plain_sign_ins: true}}
`, "127.42.39", [3]string{"Fitter", "fitter", awkward})
	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(b.ids("20")[0], b.ids("11")...)))
	b.agreeForTarget(b.ids("20")[0])
	b.wait(b.open(b.ids("20")))
	b.wait(b.open(b.ids("11")))
	l := b.device("11").Status.Latch(latch.Placed)
	require.Equal(t, latch.Stuck, l.State, "%+v", b.device("11").Status.Latches)
	assert.Equal(t, trouble.UnfitSignIn, l.Diagnosis.Cause)
	key, err := b.s.SignIns.Add(ctx, signin.New{Label: "Stream user", User: "watcher", Secret: signin.NewSecret("river-stone-91")})
	require.NoError(t, err)
	b.fix(evidence.FixStreamUser, false, key, "11")
	st := b.device("11").Status
	require.Empty(t, st.At(), "%+v", st.Latches)
	assert.NotContains(t, b.everything(), awkward)
}
