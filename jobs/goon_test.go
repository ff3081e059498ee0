package jobs_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/riverqueue/river"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/onvif"
	"unlatch/jobs"
	"unlatch/store/storetest"
)

// kinds counts the records of a device by kind and subject.
func (b *bench) kinds(last string) map[string]int {
	out := map[string]int{}
	for _, r := range mustHistory(b.t, b, last) {
		out[string(r.Kind)+" "+r.Subject]++
	}
	return out
}

// What follows the last proof, pictures over HTTP and the device's own page, is made good when the work was cut off before it; what was
// looked for and not found is not looked for again.
func TestWhatFollowsTheLastProofIsNotLost(t *testing.T) {
	t.Parallel()
	var cut jobs.Cutter
	b := hooked(t, cut.Hooks(), lone, "127.42.33", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	id := b.names["11"]
	cut.When(func() bool {
		d, err := b.s.Devices.Get(ctx, id)
		return err == nil && d.Status.Latch(latch.Proven).State == latch.Open
	})
	b.wait(b.open(b.ids("11")))
	st := b.device("11").Status
	require.Equal(t, latch.Placed, st.At())
	assert.Contains(t, st.Pictures, "snapshot")
	assert.Contains(t, st.Pictures, "mjpeg")
	assert.NotNil(t, st.Web)
	before := b.kinds("11")
	assert.Equal(t, 1, before["proof prof_0"], "what was proven is not proven again")
	b.wait(b.open(b.ids("11")))
	assert.Equal(t, before, b.kinds("11"), "nothing is asked for twice")
}

// A paste of many channels that is cut off in the middle goes on with the channel that it was at.
func TestAPasteGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	var cut jobs.Cutter
	var channels []string
	for n := range 8 {
		channels = append(channels,
			fmt.Sprintf("{name: Channel %d, address: 10.254.4.%d, scene: turntable, streams: [{width: 160, height: "+
				"90, fps: 5, kbps: 60, gop: 5, profile: baseline}]}", n+1, 11+n))
	}
	b := setYard(t, `
name: vault
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Vault, kind: recorder, maker: holloway, model: Eight, address: NET.20, announces: [],
       channels: [`+strings.Join(channels, ", ")+`]}
`, storetest.URL(t), "127.42.34", 0)
	key, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	b.hooks = cut.Hooks()
	b.work()
	cut.When(func() bool {
		located := 0
		for _, d := range b.devices() {
			if d.Via != nil && d.Status.Located != nil {
				located++
			}
		}
		return located == 5
	})
	b.wait(b.paste(command.Paste{URL: "rtsp://127.42.34.20:554/strongroom/1/0",
		Shape: "/strongroom/{channel}/{stream-1}", Recipe: "learned", Channels: 12, SignIn: key}))
	found, asked := 0, map[int]int{}
	for _, d := range b.devices() {
		if d.Via == nil {
			continue
		}
		found++
		records, err := b.s.Devices.History(ctx, d.ID, 100)
		require.NoError(t, err)
		for _, r := range records {
			if r.Kind == evidence.KindLocated {
				asked[d.Channel]++
			}
		}
		assert.Equal(t, latch.Name(""), d.Status.At(), "channel %d", d.Channel)
	}
	assert.Equal(t, 8, found)
	for n := 1; n <= 4; n++ {
		assert.Equal(t, 1, asked[n], "channel %d was looked at once", n)
	}
}

// A person mends the device, by making the user on its own page, and presses Try again: what was refused is sent once more. Without the
// person nothing is sent.
func TestWhatWasRefusedIsTriedAgainWhenAPersonWantsIt(t *testing.T) {
	t.Parallel()
	b := keyed(t, strings.ReplaceAll(lone, "address: NET.11,",
		"address: NET.11, users: [{name: chief, secret: high-signal-7, level: Administrator}],"), "127.42.35", [3]string{"Fitter",
		"fitter", "brass-lamp-41"})
	b.wait(b.open(b.ids("11")))
	stuck := b.device("11").Status.Latch(latch.SignedIn).Diagnosis
	require.NotNil(t, stuck)
	require.Equal(t, trouble.WrongSignIn, stuck.Cause)
	assert.Contains(t, stuck.Fix, "1 of 3 wrong tries in 15 minutes are used", "the bound is shown")
	wrong := b.world.Device("Clock").WrongTries()
	b.wait(b.open(b.ids("11")))
	assert.Equal(t, wrong, b.world.Device("Clock").WrongTries(), "nothing is sent by itself")

	b.wait(b.begin(command.Device{Open: &command.Open{Retry: true}}, b.ids("11")))
	assert.Equal(t, wrong+1, b.world.Device("Clock").WrongTries(), "a wish counts, mended or not")

	chief := onvif.New(b.world.Device("Clock").Service(), onvif.Options{Dial: &address.Guard{Allowed: b.site.Ranges},
		SignIn: signin.SignIn{User: "chief", Secret: signin.NewSecret("high-signal-7")}})
	defer chief.Close()
	require.NoError(t, chief.CreateUser(ctx, "fitter", signin.NewSecret("brass-lamp-41"), "Administrator"))
	b.wait(b.begin(command.Device{Open: &command.Open{Retry: true}}, b.ids("11")))
	assert.Equal(t, latch.Placed, b.device("11").Status.At(), "%+v", b.device("11").Status.Latches)

	// The guard's bound holds for wishes too.
	b.wait(b.open(b.ids("11")))
}

// A device names another host of the site for its streams. It is taken at its word, and where nothing answers there its own address is
// used, and said.
func TestStreamsAtAnotherHost(t *testing.T) {
	t.Parallel()
	b := keyed(t, `
name: apart
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Names a streamer, maker: corvane, model: V4, serial: A1, address: NET.11, scene: platform-clock,
       streams: [&s {width: 160, height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}], defects: {names_address: NET.12}}
  - {name: Streamer, maker: corvane, model: V4, serial: A2, address: NET.12, scene: turntable, streams: [*s]}
  - {name: Names nothing, maker: corvane, model: V4, serial: A3, address: NET.13, scene: viaduct, streams: [*s],
       defects: {names_address: NET.50}}
`, "127.42.36", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	b.wait(b.open(b.ids("11", "13")))
	named := b.device("11").Status
	require.Equal(t, latch.Placed, named.At(), "%+v", named.Latches)
	assert.Equal(t, "rtsp://127.42.36.12:554/vista/ch1/primary", named.Streams[0].URL, "what was named first is tried first")
	assert.Equal(t, "rtsp://127.42.36.11:554/vista/ch1/primary", named.Streams[0].Reserve)
	dead := b.device("13").Status
	require.Equal(t, latch.Placed, dead.At(), "%+v", dead.Latches)
	assert.Equal(t, "rtsp://127.42.36.13:554/vista/ch1/primary", dead.Streams[0].URL)
	assert.Equal(t, "127.42.36.50", dead.Streams[0].Corrected)
	b.wait(b.open(b.ids("11", "13")))
	assert.Equal(t, latch.Placed, b.device("13").Status.At(), "what was found is kept")
}

// Work that the database held up goes on; that whose own time is up has used an attempt; what was refused is not tried again.
func TestWhatBecomesOfWorkThatFailed(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	deadlock := fmt.Errorf("keeping a proof: %w", &pgconn.PgError{Code: "40P01"})
	ended, end := context.WithCancel(ctx)
	end()
	assert.ErrorIs(t, jobs.Finish(ctx, s, deadlock), river.JobSnooze(2*time.Second))
	assert.Equal(t, deadlock, jobs.Finish(ended, s, deadlock), "begun again, and counted")
	late := fmt.Errorf("keeping a proof: %w", context.DeadlineExceeded)
	assert.Equal(t, late, jobs.Finish(ctx, s, late), "the database was too slow: begun again, and counted")
	assert.ErrorIs(t, jobs.Finish(ctx, s, errors.New("no such stream")), river.JobCancel(nil))
	assert.NoError(t, jobs.Finish(ctx, s, nil))
}
