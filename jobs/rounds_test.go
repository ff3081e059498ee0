package jobs_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/watchround"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/viabridge"
	"unlatch/jobs"
	"unlatch/sim"
	"unlatch/store"
	"unlatch/store/storetest"
)

// watchedYard is four cameras and a bridge, each camera of a scene of its own.
const watchedYard = `
name: watched
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, serial: W1, address: NET.11, scene: platform-clock, streams: [&s {width: 320,
       height: 180, fps: 10, kbps: 200, gop: 10, profile: baseline}]}
  - {name: Bridge, maker: corvane, model: V4, serial: W2, address: NET.12, scene: footbridge, streams: [*s]}
  - {name: Turntable, maker: lumenhythe, model: L2, serial: W3, address: NET.13, scene: turntable, streams: [*s]}
  - {name: Coal, maker: lumenhythe, model: L2, serial: W4, address: NET.14, scene: coal-stage, streams: [*s]}
targets: [{name: Vault, kind: software, maker: Overlea, model: Desk, address: NET.30, port: 8090, user: desk, secret: desk-latch-77,
	slots: 8}]
`

// A watch is a bench whose site was agreed on and is watched.
type watch struct {
	*bench
	vault  uuid.UUID
	person act.Person
	desk   jobs.Desk
	// workers are those that look.
	workers *jobs.Workers
}

// watched opens the yard, puts its cameras onto the bridge, agrees on that and begins to watch it.
func watched(t *testing.T, net string, rule watchround.WatchRule) *watch {
	t.Helper()
	return watchedWith(t, net, rule, jobs.Hooks{})
}

// watchedWith is watched with workers that a test has its hand in.
func watchedWith(t *testing.T, net string, rule watchround.WatchRule, hooks jobs.Hooks) *watch {
	t.Helper()
	b := setYard(t, watchedYard, storetest.URL(t), net, 0)
	b.hooks = hooks
	b.hooks.RoundsEvery, b.hooks.DoubtLater = 50*time.Millisecond, 100*time.Millisecond
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(b.log)
		}
	})
	w := &watch{bench: b, vault: uuid.New(), desk: jobs.Desk{Store: b.s, Queue: b.q}}
	var err error
	w.person, err = b.s.People.CreateFirst(ctx, "Owner Olive", "x")
	require.NoError(t, err)
	_, err = b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	key := uuid.New()
	_, err = b.s.SignIns.AddAll(ctx, signin.New{ID: key, Label: "Desk", User: "desk", Secret: signin.NewSecret("desk-latch-77"),
		Terms: signin.Terms{Purpose: signin.Target}})
	require.NoError(t, err)
	w.workers = b.work()
	b.sweep()
	for last, name := range map[string]string{"11": "Clock", "12": "Bridge", "13": "Turntable", "14": "Coal"} {
		require.NoError(t, b.s.Devices.Rename(ctx, b.names[last], name))
	}
	form := act.TargetForm{Kind: viabridge.Kind, Name: "Vault", Address: "http://" + net + ".30:8090", SignIn: &key}
	require.NoError(t, b.s.Targets.Put(ctx, b.site.ID, act.PutTarget{ID: w.vault, New: true, TargetForm: form,
		Reach: []netip.AddrPort{netip.MustParseAddrPort(net + ".30:8090")}}))
	require.NoError(t, b.s.Targets.Agree(ctx, act.Person{}, act.Agreed{Target: w.vault, Secrets: []target.Secret{target.OwnSignIn,
		target.CameraSignIn}}))
	cameras := b.ids("11", "12", "13", "14")
	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(w.vault, cameras...)))
	b.wait(b.open(cameras))
	for _, l := range []string{"11", "12", "13", "14"} {
		require.Empty(t, b.device(l).Status.At(), "%s %+v", l, b.device(l).Status.Placements)
	}
	w.do(act.TakeBaseline{ID: uuid.New(), Site: b.site.ID, Devices: cameras, Name: "Handed over", Whole: true})
	rule.On = true
	w.do(act.SetRounds{Site: b.site.ID, Rule: rule, Agreed: true})
	w.look(true, cameras...)
	w.lookAtTarget(true)
	assert.Empty(t, w.drifted(), "nothing has happened yet")
	return w
}

// do has the person do an act.
func (w *watch) do(a act.Act) jobs.Done {
	w.t.Helper()
	done, err := w.desk.Do(ctx, w.person, a)
	require.NoError(w.t, err)
	return done
}

// look has devices looked at now, and waits for that.
func (w *watch) look(full bool, devices ...uuid.UUID) { w.turn(false, full, devices...) }

func (w *watch) lookAtTarget(full bool) { w.turn(true, full, w.vault) }

// turn has things looked at now: everything is due, and waits until each was looked at since.
func (w *watch) turn(targets, full bool, things ...uuid.UUID) {
	w.t.Helper()
	now := time.Now()
	require.Eventually(w.t, func() bool {
		var enrolled int
		require.NoError(w.t, w.s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM watched WHERE thing = ANY($1)", things).Scan(&enrolled))
		return enrolled == len(things)
	}, time.Minute, 20*time.Millisecond)
	_, err := w.s.SQL().ExecContext(ctx, `UPDATE watched SET due = now() - interval '1 second', full_due = CASE WHEN $3 THEN now() -
		interval '1 second' ELSE now() + interval '1 day' END WHERE thing = ANY($1) AND target = $2`, things, targets, full)
	require.NoError(w.t, err)
	require.Eventually(w.t, func() bool {
		var looked int
		require.NoError(w.t, w.s.SQL().QueryRowContext(ctx,
			"SELECT count(*) FROM watched WHERE thing = ANY($1) AND target = $2 AND looked_at > $3 "+
				"AND doubt = 0", things, targets, now).Scan(&looked))
		return looked == len(things)
	}, time.Minute, 20*time.Millisecond, "a look")
}

// drifted returns what has drifted, each in a word with whom it is about.
func (w *watch) drifted() []string {
	list, err := w.s.Drifts.Open(ctx, w.site.ID)
	require.NoError(w.t, err)
	var out []string
	for _, e := range list {
		out = append(out, e.Title+" "+string(e.Cause))
	}
	slices.Sort(out)
	return out
}

func (w *watch) episodes() []drift.Episode {
	list, err := w.s.Drifts.Open(ctx, w.site.ID)
	require.NoError(w.t, err)
	return list
}

func (w *watch) trouble(kind, name, to string) {
	w.t.Helper()
	require.NoError(w.t, w.world.Trouble(sim.Trouble{Kind: kind, Name: name, To: to}))
}

// repaired puts right what has drifted, and waits for the run.
func (w *watch) repaired(list []drift.Episode) {
	w.t.Helper()
	state, _, err := w.s.Baselines.Agreed(ctx, w.site.ID)
	require.NoError(w.t, err)
	done := w.do(act.RepairDrifts{Site: w.site.ID, Drifts: list, Agreed: drift.Index(state)})
	w.wait(*done.Run, nil)
}

// What happens to cameras is told with its cause after the next look, is put right by one act or accepted, and is over when it is.
func TestDriftIsFoundAndPutRight(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.81", watchround.WatchRule{})
	all := w.ids("11", "12", "13", "14")
	records := func() (n int) {
		require.NoError(t, w.s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM evidence WHERE kind <> 'heard'").Scan(&n))
		return n
	}
	before := records()
	w.look(false, all...)
	w.lookAtTarget(false)
	assert.Equal(t, before, records(), "a look that finds nothing new leaves no evidence")
	how, err := w.s.Watched.How(ctx, w.site.ID, time.Now())
	require.NoError(t, err)
	assert.Equal(t, 5, how.Things)
	assert.Zero(t, how.Late)
	assert.Less(t, int(how.Requests), 5*12, "a light look is a handful of questions")
	assert.Greater(t, int(how.Sessions), 4)

	w.trouble("settings", "Clock", "")
	w.trouble("firmware", "Bridge", "9.9")
	w.trouble("clock", "Turntable", "")
	w.trouble("password", "Coal", "someone-else-12")
	w.look(false, all...)
	assert.Equal(t, []string{"Bridge firmware", "Clock settings", "Coal password", "Turntable clock"}, w.drifted())

	// What was refused is not sent again by itself.
	tries := func() (n int) {
		require.NoError(t, w.s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM tries WHERE device_id = $1", all[3]).Scan(&n))
		return n
	}
	refused := tries()
	w.look(false, all[3])
	assert.Equal(t, refused, tries())

	// Settings and the clock are put back by one act, read back, and are over.
	w.repaired(slices.DeleteFunc(w.episodes(), func(e drift.Episode) bool { return e.Repair() == "" }))
	assert.Equal(t, []string{"Bridge firmware", "Coal password"}, w.drifted())
	assert.InDelta(t, 10, w.device("11").Status.Streams[0].Claimed.FPS, .1)

	// The firmware was meant.
	state, over, err := w.s.Baselines.Agreed(ctx, w.site.ID)
	require.NoError(t, err)
	meant := slices.DeleteFunc(w.episodes(), func(e drift.Episode) bool { return e.Cause != drift.Firmware })
	w.do(act.AcceptDrifts{ID: uuid.New(), Site: w.site.ID, Drifts: meant, Reason: "updated on purpose", Was: state, Over: over})
	w.look(false, all...)
	assert.Equal(t, []string{"Coal password"}, w.drifted())

	// The password is put back at the camera; a person says that it shall be tried again.
	w.trouble("password", "Coal", "brass-lamp-41")
	w.wait(w.run(openRetry(all[3])))
	w.look(false, all...)
	assert.Empty(t, w.drifted())
}

// The picture of a camera is judged by the views that it is known by.
func TestViewsAreJudged(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.82", watchround.WatchRule{})
	all := w.ids("11", "12", "13", "14")
	w.trouble("cover", "Clock", "")
	w.trouble("black", "Bridge", "")
	w.trouble("swap", "Turntable", "Coal")
	w.look(true, all...)
	assert.Equal(t, []string{"Bridge black", "Clock covered", "Coal swapped", "Turntable swapped"}, w.drifted())
	found := drift.Group(w.episodes(), 30*time.Minute)
	i := slices.IndexFunc(found, func(f drift.Finding) bool { return f.Cause == drift.Swapped })
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, []string{"Coal and Turntable have changed places", "Turntable and Coal have changed places"}, found[i].Headline())
	w.trouble("clear", "Clock", "")
	w.trouble("clear", "Bridge", "")
	w.trouble("swap", "Turntable", "Coal")
	w.look(true, all...)
	assert.Empty(t, w.drifted())
	w.trouble("turn", "Clock", "")
	w.look(true, all[0])
	assert.Equal(t, []string{"Clock turned"}, w.drifted())

	// What it shows now is its view from here on.
	state, over, err := w.s.Baselines.Agreed(ctx, w.site.ID)
	require.NoError(t, err)
	w.do(act.AcceptDrifts{ID: uuid.New(), Site: w.site.ID, Drifts: w.episodes(), Reason: "the wall was pulled down", Was: state, Over: over})
	w.look(true, all[0])
	assert.Empty(t, w.drifted())
}

// A bridge that forgets what it was given is found and mended without anybody looking, as often as the rule allows. One that only starts
// anew, and lists nothing meanwhile, is not taken for one that has forgotten.
func TestABridgeThatForgetsIsMended(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.83", watchround.WatchRule{Mends: []drift.Repair{drift.PlaceAgain}, MendsADay: 3})
	for _, name := range []string{"Clock", "Bridge"} {
		w.trouble("slot", name, "Vault")
	}
	w.lookAtTarget(false)
	there := func() int {
		n := 0
		for _, s := range w.world.Bridge("Vault").Look().Slots {
			if s.State == target.Used {
				n++
			}
		}
		return n
	}
	require.Eventually(t, func() bool { return there() == 4 && len(w.drifted()) == 0 }, time.Minute, 100*time.Millisecond,
		"put back by the watch")
	var by, token string
	require.NoError(t, w.s.SQL().QueryRowContext(ctx, "SELECT person, token FROM audit WHERE act = 'repair-drifts' LIMIT 1").Scan(&by, &token))
	assert.Equal(t, "Owner Olive", by)
	assert.Equal(t, "the watch", token)

	// The bound holds: one more is mended today, and then people are left to it.
	for _, name := range []string{"Turntable", "Coal"} {
		w.trouble("slot", name, "Vault")
	}
	w.lookAtTarget(false)
	require.Eventually(t, func() bool { return there() == 3 && len(w.drifted()) == 1 }, time.Minute, 100*time.Millisecond)
	w.lookAtTarget(false)
	assert.Len(t, w.drifted(), 1)
	assert.Equal(t, 3, there())
}

// A camera that loses its power is told as silent, as one finding with those that went with it, and is over when it is back. What nobody
// has looked at is told as that.
func TestSilence(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.84", watchround.WatchRule{})
	all := w.ids("11", "12", "13", "14")
	w.look(false, all...)
	w.trouble("cut", "127.42.84.12/30", "") // .12 to .15
	w.look(false, all...)
	assert.Equal(t, []string{"Bridge silent", "Coal silent", "Turntable silent"}, w.drifted())
	found := drift.Group(w.episodes(), 30*time.Minute)
	require.Len(t, found, 1)
	assert.Equal(t, "3 cameras do not answer in 127.42.84.0/24", found[0].Headline())
	w.trouble("mend", "127.42.84.12/30", "")
	w.look(false, all...)
	assert.Empty(t, w.drifted())

	spans, err := w.s.Watched.Spans(ctx, w.site.ID, all[1], time.Now().Add(-time.Hour), time.Now())
	require.NoError(t, err)
	var states []string
	for _, s := range watchround.Whole(spans[all[1]], time.Now().Add(-time.Hour), time.Now(), 15*time.Minute) {
		states = append(states, string(s.State))
	}
	assert.Equal(t, "not_looked up down up", strings.Join(states, " "))
}

// A relay of which no worker tells is a drift of its camera with who takes it, and stands under the camera's own silence.
func TestARelayThatIsDownIsADrift(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.94", watchround.WatchRule{})
	coal := w.ids("14")
	id := uuid.New()
	w.do(act.PutRelay{ID: id, Site: w.site.ID, Device: coal[0], User: "relay-1", Secret: signin.NewSecret("oak-door-52"),
		RelayForm: act.RelayForm{Role: "main", Path: "coal/main", For: "Parcel vault"}})
	w.look(false, coal...)
	assert.Empty(t, w.drifted(), "it was made a moment ago")
	_, err := w.s.SQL().ExecContext(ctx, "UPDATE relays SET created_at = now() - interval '1 hour'")
	require.NoError(t, err)
	w.look(false, coal...)
	assert.Equal(t, []string{"Coal relay_down"}, w.drifted())
	w.trouble("cut", "127.42.94.14/32", "")
	w.look(false, coal...)
	require.Equal(t, []string{"Coal silent"}, w.drifted())
	assert.Contains(t, fmt.Sprint(w.episodes()[0].Fields), "Parcel vault")
	w.trouble("mend", "127.42.94.14/32", "")
	require.NoError(t, w.s.Relays.Going(ctx, []store.RelayStatus{{ID: id.String()}}))
	w.look(false, coal...)
	assert.Empty(t, w.drifted())
}

// Every repair is cut off in its middle, and ends as it was wanted.
func TestAKilledRepairIsGoneOnWith(t *testing.T) {
	t.Parallel()
	var cut jobs.Cutter
	w := watchedWith(t, "127.42.86", watchround.WatchRule{}, cut.Hooks())
	all := w.ids("11", "12", "13", "14")
	for _, c := range []struct {
		trouble sim.Trouble
		target  bool
		points  []int
	}{
		{sim.Trouble{Kind: "settings", Name: "Clock"}, false, []int{4, 11}},
		{sim.Trouble{Kind: "clock", Name: "Turntable"}, false, []int{3, 9}},
		{sim.Trouble{Kind: "slot", Name: "Coal", To: "Vault"}, true, []int{5, 12}},
		{sim.Trouble{Kind: "address", Name: "Bridge", To: "127.42.86.77"}, false, []int{6, 13}},
	} {
		for _, point := range c.points {
			require.NoError(t, w.world.Trouble(c.trouble))
			if c.trouble.Kind == "address" {
				require.Eventually(t, func() bool { return w.device("12").Addr == c.trouble.To }, time.Minute, 50*time.Millisecond, "it is heard there")
				w.wait(w.open(w.ids("12")))
			}
			if w.look(false, all...); c.target {
				w.lookAtTarget(false)
			}
			require.NotEmpty(t, w.drifted(), "%s", c.trouble.Kind)
			was := cut.At(point)
			w.repaired(w.episodes())
			require.True(t, was(), "%s is cut off at point %d", c.trouble.Kind, point)
			w.look(false, all...)
			w.lookAtTarget(false)
			require.Empty(t, w.drifted(), "%s, cut off at point %d", c.trouble.Kind, point)
		}
	}
}

// Two workers share the looks of a site, and a look is made once.
func TestTwoWorkersShareTheRounds(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.85", watchround.WatchRule{})
	w.work()
	turns := func(at time.Time) []store.Turn {
		out, err := w.s.Watched.Claim(ctx, []uuid.UUID{w.site.ID}, at, 100)
		require.NoError(t, err)
		return out
	}
	ahead := time.Now().Add(16 * time.Minute)
	first := turns(ahead)
	assert.NotEmpty(t, first)
	assert.Empty(t, turns(ahead), "they are claimed already")
	assert.NotEmpty(t, turns(ahead.Add(15*time.Minute)), "and due again a round later")
	assert.NotEmpty(t, turns(time.Now().Add(-48*time.Hour)), "a clock that was set back two days stops nothing")
}

// A target that starts anew, and lists nothing meanwhile, has lost nothing.
func TestATargetThatStartsAnewHasLostNothing(t *testing.T) {
	t.Parallel()
	w := watched(t, "127.42.87", watchround.WatchRule{Mends: []drift.Repair{drift.PlaceAgain}})
	bridge := w.world.Bridge("Vault")
	bridge.Hide(2) // the next two answers list its slots as free
	w.lookAtTarget(false)
	assert.Empty(t, w.drifted())
	var mended int
	require.NoError(t, w.s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM mends").Scan(&mended))
	assert.Zero(t, mended)
}
