package jobs_test

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/tuning"
	"unlatch/store/storetest"
)

// Cameras on a recorder's own switch are opened through the recorder, with its sign-in, up to a picture of their own.
func TestCamerasBehindARecorder(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.9", 4)
	b.work()
	b.sweep()
	b.wait(b.open([]uuid.UUID{b.names["20"]}))
	assert.Empty(t, b.behind(), "a recorder that is not signed in to tells nothing")
	_, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	for range 2 { // asked again, it is the same two channels
		b.wait(b.open([]uuid.UUID{b.names["20"]}))
		require.Len(t, b.behind(), 2)
	}
	b.sweep()
	require.Len(t, b.behind(), 2, "what a sweep hears at the recorder's address is the recorder and not a channel of it")

	b.wait(b.open(b.behind()))
	stills := map[uuid.UUID]bool{}
	for _, id := range b.behind() {
		d, err := b.s.Devices.Get(ctx, id)
		require.NoError(t, err)
		assert.Empty(t, d.Status.At(), "%+v", d.Status.Latches)
		assert.Contains(t, d.Status.Latch(latch.SignedIn).Reason, `"Fitter" opens`, "whose sign-in it is")
		assert.Equal(t, "Holloway H8 reports recording Active, and its recording shows this picture", d.Status.Latch(latch.Confirmed).Reason)
		assert.NotContains(t, d.Status.Latch(latch.Reachable).Reason, "claim", "sharing the recorder's address is no conflict")
		assert.Equal(t, d.Channel, d.Status.Streams[0].Channel)
		stills[*d.Status.Proofs["main"].Still] = true
	}
	assert.Len(t, stills, 2)
	assert.NotEqual(t, latch.Stuck, b.device("20").Status.Latch(latch.Reachable).State)

	// A channel is set through the recorder, and only the one that was meant.
	plan, err := tuning.ParsePlan(map[string]string{"main": "320x180"})
	require.NoError(t, err)
	b.wait(b.begin(command.Device{Tune: &command.Tune{Plan: plan}}, []uuid.UUID{b.behind()[0]}))
	b.wait(b.openAgain(b.behind()))
	for i, id := range b.behind() {
		d, err := b.s.Devices.Get(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, i == 0, d.Status.Proofs["main"].Video.Width == 320, d.Status.Device.Name)
		assert.Equal(t, []latch.State{latch.Open, latch.Waived}[i], d.Status.Latch(latch.Tuned).State, "%+v", d.Status.Latch(latch.Tuned))
	}
}

// A channel whose recorder has lost its sign-in says that it is the recorder's.
func TestAChannelSaysThatItsRecorderIsShut(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.10", 4)
	b.work()
	b.sweep()
	key, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	b.wait(b.open([]uuid.UUID{b.names["20"]}))
	require.Len(t, b.behind(), 2)
	require.NoError(t, b.s.SignIns.Delete(ctx, key))
	b.wait(b.open(b.behind()[:1]))
	d, err := b.s.Devices.Get(ctx, b.behind()[0])
	require.NoError(t, err)
	l := d.Status.Latch(d.Status.At())
	require.Equal(t, latch.Stuck, l.State)
	assert.Contains(t, []trouble.Cause{trouble.RecorderShut, trouble.NoSignIn}, l.Diagnosis.Cause)
}

func (b *bench) behind() (out []uuid.UUID) {
	for _, d := range b.devices() {
		if d.Via != nil {
			out = append(out, d.ID)
		}
	}
	return out
}
