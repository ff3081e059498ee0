package jobs_test

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/target"
	"unlatch/jobs"
	"unlatch/sim"
	"unlatch/sim/simtest"
	"unlatch/store"
	"unlatch/store/cluster"
	"unlatch/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

// yard is a network of six cameras of two makers, one that is behind on everything, and a recorder, on NET.
const yard = `
name: yard
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: NET.11, scene: platform-clock, streams: [&m {width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}, &s {width: 160, height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Bridge, maker: corvane, model: V4, address: NET.12, scene: footbridge, streams: [*m, *s]}
  - {name: Window, maker: corvane, model: V4, address: NET.13, scene: ticket-window, streams: [*m, *s]}
  - {name: Turntable, maker: lumenhythe, model: L2, address: NET.14, scene: turntable, streams: [*m, *s]}
  - {name: Coal, maker: lumenhythe, model: L2, address: NET.15, scene: coal-stage, streams: [*m, *s]}
  - {name: Paint, maker: lumenhythe, model: L2, address: NET.16, scene: paint-shop, streams: [*m, *s]}
  - {name: Dark, maker: corvane, model: V4, address: NET.18, scene: viaduct, streams: [*s], defects: {stream_closed: true}}
  - {name: Strange, maker: corvane, model: V4, address: NET.17, scene: viaduct, streams: [*s], users: [{name: other,
       secret: nobody-knows, level: Administrator}]}
  - {name: Strongroom, kind: recorder, maker: holloway, model: H8, address: NET.20, slots: SLOTS,
     channels: [{name: Subway, address: 10.254.4.11, scene: turntable, streams: [*m, *s], page: 9001}, {name: Waiting,
          address: 10.254.4.12, scene: paint-shop, streams: [*s]}]}
`

type bench struct {
	t     *testing.T
	s     *store.Store
	q     *jobs.Queue
	site  store.Site
	log   *syncBuffer
	world *sim.World
	names map[string]uuid.UUID // by last part of the address
	hooks jobs.Hooks
}

type syncBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *syncBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}
func (b *syncBuffer) String() string { b.mu.Lock(); defer b.mu.Unlock(); return b.b.String() }

// set starts the yard on a network, opens a store on url, makes the site and sweeps it.
func set(t *testing.T, url, net string, slots int) *bench { return setYard(t, yard, url, net, slots) }

// setYard does the same with another network.
func setYard(t *testing.T, yard, url, net string, slots int) *bench {
	b := &bench{t: t, log: &syncBuffer{}}
	// Tests run side by side on one wire: what has a serial number has one of its own in each.
	yard = regexp.MustCompile(`serial: (\w+)`).ReplaceAllString(yard, "serial: ${1}-"+net)
	b.world = simtest.Start(t, strings.NewReplacer("NET", net, "SLOTS", fmt.Sprint(slots)).Replace(yard))
	log := slog.New(slog.NewTextHandler(b.log, nil))
	var err error
	b.s, err = store.Open(ctx, url, filepath.Join(dataDir(t), "key"), log)
	require.NoError(t, err)
	t.Cleanup(b.s.Close)
	b.q, err = jobs.NewQueue(b.s, log)
	require.NoError(t, err)
	b.site, err = b.s.Sites.Create(ctx, "Engine Works", address.MustParse(net+".0/24"))
	require.NoError(t, err)
	return b
}

// dataDir is shared by every process of a test.
func dataDir(t *testing.T) string {
	dir := filepath.Join(os.TempDir(), "unlatch-jobs-"+strings.ReplaceAll(t.Name(), "/", "-")+fmt.Sprint(os.Getpid()))
	require.NoError(t, os.MkdirAll(dir, 0o700))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func (b *bench) work() *jobs.Workers {
	w, err := jobs.StartHooked(b.s, slog.New(slog.NewTextHandler(b.log, nil)), b.hooks)
	require.NoError(b.t, err)
	b.t.Cleanup(w.Stop)
	return w
}

// wait waits until a run has ended, and until no target is connecting to a camera any more: a busy machine takes longer for that than a
// run waits.
func (b *bench) wait(r store.Run, err error) store.Run {
	b.t.Helper()
	r = b.ended(r, err)
	require.Eventually(b.t, func() bool {
		return !slices.ContainsFunc(b.devices(), func(d store.Device) bool {
			return slices.ContainsFunc(d.Status.Placements, func(p latch.Placement) bool { return p.Waits == trouble.WaitsToConnect })
		})
	}, 3*time.Minute, 200*time.Millisecond)
	return r
}

// ended waits until a run has ended. Sealing a pack takes over a minute under the race detector, beside other tests.
func (b *bench) ended(r store.Run, err error) store.Run {
	b.t.Helper()
	require.NoError(b.t, err)
	require.Eventually(b.t, func() bool {
		got, err := b.s.Runs.Get(ctx, r.ID)
		if err == nil {
			r = got
		}
		return err == nil && !got.Running()
	}, 5*time.Minute, 50*time.Millisecond)
	return r
}

func (b *bench) sweep() {
	b.t.Helper()
	r := b.wait(b.sweepOf(b.site))
	assert.Empty(b.t, r.Problem)
	b.names = map[string]uuid.UUID{}
	for _, d := range b.devices() {
		if d.Status.Device.Stray {
			continue // other stand-ins on this machine are on the same wire
		}
		b.names[d.Addr[strings.LastIndex(d.Addr, ".")+1:]] = d.ID
	}
}

func (b *bench) devices() []store.Device {
	all, err := b.s.Devices.List(ctx, b.site.ID)
	require.NoError(b.t, err)
	return all
}

func (b *bench) device(last string) *store.Device {
	d, err := b.s.Devices.Get(ctx, b.names[last])
	require.NoError(b.t, err)
	return d
}

// agree is a person's consent that sign-ins go out to devices so that they can be read.
func (b *bench) agree(lasts ...string) {
	b.t.Helper()
	for _, l := range lasts {
		d := b.device(l)
		require.NoError(b.t, b.s.Consents.Agree(ctx, act.Person{}, b.site.ID,
			act.Readable{Device: d.ID, Clear: d.Status.AgreesTo() == signin.InClear}))
	}
}

// agreeForTarget is a person's consent that a target is given the sign-ins of cameras.
func (b *bench) agreeForTarget(id uuid.UUID) {
	b.t.Helper()
	require.NoError(b.t, b.s.Targets.Agree(ctx, act.Person{}, act.Agreed{Target: id,
		Secrets: []target.Secret{target.OwnSignIn, target.CameraSignIn}}))
}

var six = []string{"11", "12", "13", "14", "15", "16"}

func (b *bench) ids(lasts ...string) (out []uuid.UUID) {
	for _, l := range lasts {
		out = append(out, b.names[l])
	}
	return out
}

func TestFromHeardToConfirmed(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.1", 5)
	b.work()
	b.sweep()
	require.Len(t, b.names, 9)
	assert.Equal(t, sighting.Recorder, b.device("20").Status.Device.Kind)

	// An empty keyring is said, and nothing is tried.
	b.wait(b.open(b.ids("11")))
	l := b.device("11").Status.Latch(latch.SignedIn)
	require.Equal(t, latch.Stuck, l.State)
	assert.Equal(t, trouble.NoSignIn, l.Diagnosis.Cause)

	// One sign-in opens all six at once, and not the one that it is not for.
	_, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	b.wait(b.open(b.ids(append(six, "17", "18", "20")...)))
	for _, n := range six {
		d := b.device(n)
		assert.Equal(t, latch.Placed, d.Status.At(), "%s %+v", d.Addr, d.Status.Latches)
		require.Len(t, d.Status.Proofs, 2)
		assert.NotEmpty(t, d.MAC.String, "the hardware address was read from the device")
		assert.NotEmpty(t, d.Serial.String)
		assert.InDelta(t, 10, d.Status.Proofs["main"].Video.FPS, .3)
		still, err := b.s.Devices.Still(ctx, *d.Status.Proofs["main"].Still)
		require.NoError(t, err)
		assert.Greater(t, len(still), 1000)
	}
	assert.Equal(t, trouble.StreamsOff, b.device("18").Status.Latch(latch.Proven).Diagnosis.Cause,
		"the device itself says that its streams are off")
	strange := b.device("17").Status
	assert.Equal(t, trouble.WrongSignIn, strange.Latch(latch.SignedIn).Diagnosis.Cause)

	// What was refused is not sent again.
	b.wait(b.open(b.ids("17")))
	strange = b.device("17").Status
	assert.Equal(t, trouble.NoSignIn, strange.Latch(latch.SignedIn).Diagnosis.Cause)
	assert.Contains(t, strange.Latch(latch.SignedIn).Reason, "refused before (Fitter)")

	// Five slots for six cameras: five are confirmed, one says why not.
	require.NoError(t, b.s.Targets.Wish(ctx, act.InAnySlot(b.names["20"], b.ids(six...)...)))
	b.agreeForTarget(b.names["20"])
	b.wait(b.open(b.ids(six...)))
	done, full := 0, 0
	for _, n := range six {
		d := b.device(n)
		if d.Status.At() == "" {
			done++
			assert.Equal(t, "Connected, recording Active", d.Status.Placements[0].Report)
		} else if l := d.Status.Latch(latch.Placed); l.Diagnosis != nil && l.Diagnosis.Cause == trouble.TargetFull {
			full++
			assert.Contains(t, l.Reason, "All 7 slots", "two of them are its own channels")
		}
	}
	assert.Equal(t, []int{5, 1}, []int{done, full})

	// Taking one off makes room.
	var off, left uuid.UUID
	for _, n := range six {
		if d := b.device(n); d.Status.At() == "" {
			off = d.ID
		} else {
			left = d.ID
		}
	}
	b.wait(b.begin(command.Device{Remove: &command.Remove{Target: b.names["20"]}}, []uuid.UUID{off}))
	b.wait(b.open([]uuid.UUID{left}))
	d, err := b.s.Devices.Get(ctx, left)
	require.NoError(t, err)
	assert.Equal(t, latch.Name(""), d.Status.At())
	d, err = b.s.Devices.Get(ctx, off)
	require.NoError(t, err)
	assert.Equal(t, latch.Placed, d.Status.At())
	assert.Empty(t, d.Status.Placements)

	assert.NotContains(t, b.everything(), "brass-lamp-41", "no secret in evidence, exchanges, runs or logs")
}

// everything returns all text that the store and the log hold about the site.
func (b *bench) everything() string {
	var out strings.Builder
	for _, d := range b.devices() {
		records, err := b.s.Devices.History(ctx, d.ID, 1000)
		require.NoError(b.t, err)
		for _, r := range records {
			text, err := b.s.Devices.Exchange(ctx, r.ID)
			require.NoError(b.t, err)
			fmt.Fprintln(&out, string(r.Body), text, r.Sum())
		}
	}
	runs, err := b.s.Runs.List(ctx, b.site.ID, 100)
	require.NoError(b.t, err)
	fmt.Fprintln(&out, runs, b.log)
	return out.String()
}

func TestStopEndsARunAndKeepsWhatItFound(t *testing.T) {
	t.Parallel()
	b := set(t, storetest.URL(t), "127.42.2", 8)
	b.work()
	b.sweep()
	_, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	run, err := b.open(b.ids(six...))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return b.device("11").Status.At() == latch.Proven }, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, b.q.Stop(ctx, run.ID))
	run = b.wait(run, nil)
	assert.True(t, run.Stopped.Valid)
	assert.Less(t, run.Done, int64(6))
	assert.Equal(t, latch.Open, b.device("11").Status.Latch(latch.Located).State)
	for _, r := range mustHistory(t, b, "11") {
		assert.False(t, r.Kind == evidence.KindProof && r.Failed(), "being stopped is no diagnosis of the camera: %s", r.Sum())
	}
}

func mustHistory(t *testing.T, b *bench, last string) []evidence.Record {
	records, err := b.s.Devices.History(ctx, b.names[last], 1000)
	require.NoError(t, err)
	return records
}

// A worker is killed while it plays streams. Another takes its jobs up; what was proven is not proven again.
func TestKilledWorkerIsTakenOver(t *testing.T) {
	t.Parallel()
	url := storetest.URL(t)
	b := set(t, url, "127.42.3", 8)
	_, err := b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	first := b.work()
	b.sweep()
	first.Stop()

	binary := filepath.Join(t.TempDir(), "unlatch")
	out, err := exec.Command("go", "build", "-o", binary, "unlatch/cmd/unlatch").CombinedOutput()
	require.NoError(t, err, "%s", out)
	other := exec.Command(binary, "worker", "--database", url, "--data", dataDir(t))
	other.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, other.Start())
	require.NoError(t, b.s.Sites.Change(ctx, act.ChangeSite{Site: b.site.ID, SiteForm: act.SiteForm{Name: b.site.Name, Ranges: b.site.Ranges,
		LinkMbps: 1}}), "so that they are not all played at once")
	run, err := b.open(b.ids(six...))
	require.NoError(t, err)
	proofs := func() (n int) {
		for _, l := range six {
			n += len(b.device(l).Status.Proofs)
		}
		return n
	}
	require.Eventually(t, func() bool { return proofs() > 0 }, 60*time.Second, 20*time.Millisecond)
	require.NoError(t, other.Process.Kill())
	other.Wait()
	before := proofs()
	require.Less(t, before, 12, "it was killed in the middle")
	got, err := b.s.Runs.Get(ctx, run.ID)
	require.NoError(t, err)
	require.True(t, got.Running(), "the run is still there to be done")

	b.work()
	b.wait(run, nil)
	for _, l := range six {
		assert.Equal(t, latch.Placed, b.device(l).Status.At())
		played := map[string]int{}
		for _, r := range mustHistory(t, b, l) {
			if r.Kind == evidence.KindProof {
				played[r.Subject]++
			}
		}
		assert.Equal(t, map[string]int{"prof_0": 1, "prof_1": 1}, played, "nothing is lost and nothing is done twice")
	}
	run, err = b.s.Runs.Get(ctx, run.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 6, run.Done)
}

// The database is stopped under running jobs. They hold on to what they have found and go on when it is back.
func TestDatabaseGoesAwayAndComesBack(t *testing.T) {
	t.Parallel()
	dir, err := storetest.Dir()
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	c, err := cluster.Start(ctx, cluster.Options{Dir: filepath.Join(dir, "pg"), Scratch: true})
	require.NoError(t, err)
	t.Cleanup(c.Stop)
	b := set(t, c.URL, "127.42.4", 8)
	_, err = b.s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	b.work()
	b.sweep()
	run, err := b.open(b.ids(six...))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return b.device("14").Status.At() == latch.Proven }, 30*time.Second, 20*time.Millisecond)
	c.Pause()
	_, err = b.s.Sites.List(ctx)
	require.Error(t, err)
	assert.True(t, store.Away(err), "%v", err)
	require.Eventually(t, func() bool { return strings.Contains(b.log.String(), "the database is away") }, 30*time.Second,
		20*time.Millisecond, "it is reported")
	require.NoError(t, c.Resume(ctx))
	b.wait(run, nil)
	for _, l := range six {
		assert.Equal(t, latch.Placed, b.device(l).Status.At(), "%s: %s", l, b.device(l).Status.Latch(b.device(l).Status.At()).Reason)
	}
}

// A device fresh from the factory is found to be so, is claimed with what is on the keyring already, and opens with it.
func TestClaim(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: fresh
devices:
  - {name: Fresh, maker: corvane, model: V4, address: 127.42.6.11, scene: viaduct, users: [], streams: [&s {width: 160, height: 90,
       fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Picky, maker: lumenhythe, model: L2, address: 127.42.6.12, scene: viaduct, users: [], streams: [*s]}
`)
	b := &bench{t: t, log: &syncBuffer{}, s: storetest.Open(t)}
	var err error
	b.q, err = jobs.NewQueue(b.s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	b.site, err = b.s.Sites.Create(ctx, "Yard", address.MustParse("127.42.6.0/24"))
	require.NoError(t, err)
	b.work()
	b.sweep()
	b.wait(b.open(b.ids("11", "12")))
	l := b.device("11").Status.Latch(latch.SignedIn)
	require.Equal(t, latch.Stuck, l.State)
	require.Equal(t, trouble.FactoryFresh, l.Diagnosis.Cause)

	good, err := b.s.SignIns.Add(ctx, signin.New{Label: "Yard", User: "fitter", Secret: signin.NewSecret("water & <coal>")})
	require.NoError(t, err)
	weak, err := b.s.SignIns.Add(ctx, signin.New{Label: "Weak", User: "fitter", Secret: signin.NewSecret("short")})
	require.NoError(t, err)
	b.wait(b.run(command.Work{Kind: "claim", Devices: []command.OnDevice{{Device: b.names["11"],
		Do: command.Device{Claim: &command.Claim{SignIn: good}}},
		{Device: b.names["12"], Do: command.Device{Claim: &command.Claim{SignIn: weak}}}}}))
	assert.Equal(t, latch.Placed, b.device("11").Status.At(), "%+v", b.device("11").Status.Latches)
	assert.Equal(t, good, b.device("11").Status.SignedIn.SignIn)
	refused := b.device("12").Status.Latch(latch.SignedIn)
	assert.Equal(t, latch.Stuck, refused.State)
	assert.Contains(t, refused.Diagnosis.Summary, "too weak", "the device's own reason is shown")
	b.wait(b.run(command.Work{Kind: "claim", Devices: []command.OnDevice{{Device: b.names["12"],
		Do: command.Device{Claim: &command.Claim{SignIn: good}}}}}))
	assert.Equal(t, latch.Placed, b.device("12").Status.At())
	assert.NotContains(t, b.everything(), "coal", "the password that was sent is redacted in the exchange too")
}

// A device that opens with its factory password is a finding; it gets one of its own, which is on the keyring before it is sent.
func TestFactoryPasswordIsReplaced(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: fresh
users: [{name: maker, secret: as-delivered, level: Administrator}]
devices:
  - {name: Fresh, maker: corvane, model: V4, address: 127.42.12.11, scene: viaduct, streams: [&s {width: 160, height: 90, fps: 5,
       kbps: 100, gop: 5, profile: baseline}]}
`)
	b := &bench{t: t, log: &syncBuffer{}, s: storetest.Open(t)}
	var err error
	b.q, err = jobs.NewQueue(b.s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	b.site, err = b.s.Sites.Create(ctx, "Yard", address.MustParse("127.42.12.0/24"))
	require.NoError(t, err)
	factory, err := b.s.SignIns.Add(ctx, signin.New{Label: "As delivered", User: "maker", Secret: signin.NewSecret("as-delivered")})
	require.NoError(t, err)
	require.NoError(t, b.s.SignIns.SetTerms(ctx, factory, "As delivered", signin.Terms{Factory: true}))
	b.work()
	b.sweep()
	b.wait(b.open(b.ids("11")))
	require.True(t, b.device("11").Status.SignedIn.Factory)
	own, err := b.s.SignIns.Add(ctx, signin.New{Label: "Its own", User: "maker", Secret: signin.NewSecret("lamp & <whistle>")})
	require.NoError(t, err)
	b.wait(b.run(command.Work{Kind: "claim", Devices: []command.OnDevice{{Device: b.names["11"],
		Do: command.Device{Claim: &command.Claim{SignIn: own}}}}}))
	in := b.device("11").Status.SignedIn
	assert.Equal(t, own, in.SignIn)
	assert.False(t, in.Factory)
	assert.Nil(t, in.Diagnosis)
	b.wait(b.openAgain(b.ids("11")))
	assert.Equal(t, latch.Placed, b.device("11").Status.At(), "its streams play with the new password too")
}
