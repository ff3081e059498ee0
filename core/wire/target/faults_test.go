package target_test

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/hub"
	"unlatch/core/wire/target/live"
	"unlatch/core/wire/target/viabridge"
	"unlatch/sim"
	"unlatch/sim/scene"
	"unlatch/sim/simtest"
	"unlatch/sim/targets"
)

// A placement is cut off at every request and every answer. Doing it again gives one slot with the camera in it, whatever the target.
func TestAPlacementThatIsCutOffIsFinished(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(room, "127.46.40.", "127.46.44."))
	with := func(at, secret string, log *exchange.Log) target.Access {
		a := access(strings.ReplaceAll(at, "NET", "127.46.44"), secret)
		a.Dial, a.Log = &address.Guard{Allowed: address.MustParse("127.46.44.0/24")}, log
		return a
	}
	vault := with("http://NET.21:8081", "oak-door-52", nil)
	rec := connect(t, viabridge.Driver{}, vault).(*viabridge.Session)
	held, err := rec.Place(ctx, camera(w, "Clock", "main", "sub"))
	require.NoError(t, err)
	for _, c := range []struct {
		name   string
		driver target.Driver
		camera target.Camera
		access func(log *exchange.Log) target.Access
		count  func() int
		least  int
	}{
		{"management software", viabridge.Driver{}, camera(w, "Clock", "main", "sub"),
			func(log *exchange.Log) target.Access { return with("http://NET.23:8081", "oak-door-52", log) },
			func() int { return used(w.Bridge("Desk").Look()) }, 4},
		{"templates only", viabridge.Driver{}, camera(w, "Clock", "main"),
			func(log *exchange.Log) target.Access { return with("http://NET.22:8081", "oak-door-52", log) },
			func() int { return used(w.Bridge("Shapes").Look())*10 + len(w.Bridge("Shapes").Templates()) - 10 }, 5},
		{"a hub", hub.Driver{}, camera(w, "Clock", "main"),
			func(log *exchange.Log) target.Access { return with("mqtt://NET.28:1883", "", log) },
			func() int { return len(hubSlots(t, with("mqtt://NET.28:1883", "", nil))) }, 2},
		{"a live platform", live.Driver{}, camera(w, "Clock", "main"), func(log *exchange.Log) target.Access {
			a := with("http://NET.26:8081", "stream-key-9", log)
			through := with("http://NET.21:8081", "oak-door-52", log)
			a.Through, a.Settings = &through, map[string]string{live.Ingest: "rtmp://127.46.44.26:8082/live"}
			return a
		}, func() int {
			n := 0
			for _, s := range w.Bridge("Lamp store").Look().Slots {
				if s.Status != nil && s.Status.Pushed != "" {
					n++
				}
			}
			return n
		}, 4},
	} {
		t.Run(c.name, func(t *testing.T) {
			points := 0
			for n := 1; ; n++ {
				log, left, cut := exchange.NewLog(nil), n, false
				log.Watch(func() {
					if left--; left == 0 {
						panic("cut off here")
					}
				})
				func() {
					defer func() { cut = recover() != nil }()
					s, err := c.driver.Connect(ctx, c.access(log))
					if err == nil {
						defer s.Close()
						_, err = s.Place(ctx, c.camera)
					}
					require.NoError(t, err)
				}()
				s := connect(t, c.driver, c.access(exchange.NewLog(nil)))
				p, err := s.Place(ctx, c.camera)
				require.NoError(t, err, "after point %d", n)
				assert.Eventually(t, func() bool { return c.count() == 1 }, 5*time.Second, 20*time.Millisecond, "after point %d", n)
				require.NoError(t, s.Remove(ctx, p.Ref))
				require.NoError(t, s.Remove(ctx, p.Ref))
				if !cut {
					break
				}
				points++
				require.Less(t, points, 100)
			}
			assert.GreaterOrEqual(t, points, c.least)
		})
	}
	require.NoError(t, rec.Remove(ctx, held.Ref))
}

func used(s bridge.Slots) (n int) {
	for _, x := range s.Slots {
		if x.State == bridge.Used {
			n++
		}
	}
	return n
}

func hubSlots(t *testing.T, a target.Access) []target.Slot {
	s, err := hub.Driver{}.Connect(ctx, a)
	require.NoError(t, err)
	defer s.Close()
	l, err := s.(target.Lister).Slots(ctx)
	require.NoError(t, err)
	return l.Slots
}

// Of two people who fill one slot at the same time one gets it, and the other is told by whom it is taken.
func TestTwoFillOneSlot(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(room, "127.46.40.", "127.46.45."))
	var wg sync.WaitGroup
	errs := make([]error, 2)
	for i, name := range []string{"Clock", "Bridge"} {
		wg.Go(func() {
			a := access("http://127.46.45.23:8081", "oak-door-52")
			a.Dial = &address.Guard{Allowed: address.MustParse("127.46.45.0/24")}
			s, err := viabridge.Driver{}.Connect(ctx, a)
			if err == nil {
				defer s.Close()
				c := camera(w, name, "main", "sub")
				c.Slot = "2"
				_, err = s.Place(ctx, c)
			}
			errs[i] = err
		})
	}
	wg.Wait()
	failed := errors.Join(errs...)
	require.Error(t, failed)
	assert.True(t, errs[0] == nil || errs[1] == nil, "%v", errs)
	var p *bridge.Problem
	assert.True(t, errors.As(failed, new(*target.TakenError)) || errors.As(failed, &p) && p.Type == bridge.TypeTaken, "%v", failed)
	assert.Equal(t, 1, used(w.Bridge("Desk").Look()))
}

// The target restarts while twelve cameras go in: what failed is placed again, and each camera has one slot.
func TestTheTargetRestartsWhileCamerasGoIn(t *testing.T) {
	var b strings.Builder
	fmt.Fprintf(&b, "name: restart\nusers: [{name: fitter, secret: brass-lamp-41, level: Administrator}]\ndevices:\n"+
		"  - {name: Clock, maker: corvane, model: V4, address: 127.46.46.11, scene: platform-clock, streams: [{width: 320, height: "+
		"180, fps: 5, kbps: 100, gop: 5}]}\n")
	scenario, err := sim.ParseScenario([]byte(b.String()))
	require.NoError(t, err)
	desk := targets.Target{Name: "Desk", Kind: "software", Address: netip.MustParseAddr("127.46.46.23"), Port: 8081, User: "desk",
		Secret: signin.NewSecret("oak-door-52"), Slots: 16}
	scenario.Targets = []targets.Target{desk}
	w, err := sim.Start(context.Background(), scenario, sim.Options{Media: &scene.Library{Dir: simtest.MediaDir(t)}, State: t.TempDir()})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, w.Stop()) })
	place := func(n int) error {
		a := access("http://127.46.46.23:8081", "oak-door-52")
		a.Dial = &address.Guard{Allowed: address.MustParse("127.46.46.0/24")}
		s, err := viabridge.Driver{}.Connect(ctx, a)
		if err != nil {
			return err
		}
		defer s.Close()
		c := camera(w, "Clock", "main")
		c.Identity, c.Name = fmt.Sprintf("urn:%d", n), fmt.Sprintf("Camera %d", n)
		_, err = s.Place(ctx, c)
		return err
	}
	for n := range 12 {
		if n == 5 {
			require.NoError(t, w.RestartTarget(desk))
		}
		err := place(n)
		if err != nil {
			require.NoError(t, place(n), "the second time")
		}
	}
	for n := range 12 {
		require.NoError(t, place(n))
	}
	assert.Equal(t, 12, used(w.Bridge("Desk").Look()))
}

// Whatever a camera is called, the target has it under a name and finds it again.
func TestOddNames(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(room, "127.46.40.", "127.46.47."))
	for i, name := range []string{`Say "cheese"`, "Two\nlines", strings.Repeat("long ", 60), "ظل الجسر\u202e", "../../v1/target", "<b>&amp;"} {
		for _, at := range []int{23, 24} {
			a := access(fmt.Sprintf("http://127.46.47.%d:8081", at), "oak-door-52")
			a.Dial = &address.Guard{Allowed: address.MustParse("127.46.47.0/24")}
			s := connect(t, viabridge.Driver{}, a)
			c := camera(w, "Clock", "sub")
			c.Name, c.Identity = name, fmt.Sprintf("urn:%d/%s", i, name)
			p, err := s.Place(ctx, c)
			require.NoError(t, err, "%q", name)
			l, err := s.(target.Lister).Slots(ctx)
			require.NoError(t, err)
			for _, x := range l.Slots {
				assert.NotContains(t, x.Name, "\n")
				assert.NotContains(t, x.Name, "\u202e")
			}
			require.NoError(t, s.Remove(ctx, p.Ref), "%q", name)
		}
	}
	assert.Equal(t, "Say cheese and smile", viabridge.Sayable(`Say "cheese" & smile!`))
}

// A broker that goes away in the middle is an error in its own row, at once.
func TestTheBrokerGoesAway(t *testing.T) {
	w := simtest.Start(t, strings.ReplaceAll(room, "127.46.40.", "127.46.48."))
	a := access("mqtt://127.46.48.28:1883", "")
	a.Dial, a.SignIn = &address.Guard{Allowed: address.MustParse("127.46.48.0/24")}, signin.SignIn{}
	s := connect(t, hub.Driver{}, a)
	p, err := s.Place(ctx, camera(w, "Clock", "main"))
	require.NoError(t, err)
	targets.Stop(w.Hub("Open hub"))
	began := time.Now()
	_, err = s.Confirm(ctx, target.Ref("another"), 30*time.Second)
	assert.Error(t, err)
	assert.Less(t, time.Since(began), 20*time.Second)
	assert.Error(t, s.Remove(ctx, p.Ref))
	_, err = hub.Driver{}.Connect(ctx, a)
	assert.Error(t, err)
}

// A template keeps the channel number where the path says it once, and leaves a path alone in which it cannot be told apart.
func TestTemplates(t *testing.T) {
	for _, c := range []struct {
		url     string
		channel int
		path    string
		port    int
	}{
		{"rtsp://192.0.2.7/vista/ch1/primary", 0, "/vista/ch1/primary", 554},
		{"rtsp://192.0.2.7:8554/live/3/main?x=9", 3, "/live/<n>/main?x=9", 8554},
		{"rtsp://192.0.2.7/a/3/b/3", 3, "/a/3/b/3", 554},
		{"rtsp://192.0.2.7/a/13/b", 3, "/a/13/b", 554},
		{"rtsp://192.0.2.7/a/03/b", 3, "/a/03/b", 554},
	} {
		got, host, err := viabridge.Template(target.Stream{Role: "main", URL: c.url}, c.channel, "<n>")
		require.NoError(t, err)
		assert.Equal(t, []any{c.path, c.port, "192.0.2.7"}, []any{got.Path, got.Port, host})
	}
	_, _, err := viabridge.Template(target.Stream{URL: "nothing"}, 0, "")
	assert.Error(t, err)
}
