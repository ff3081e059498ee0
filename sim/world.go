package sim

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"unlatch/sim/scene"
	"unlatch/sim/targets"
)

// Options of a World.
type Options struct {
	Media *scene.Library
	State string // folder for what recorders must remember over a restart; "" for nowhere
	Log   *slog.Logger
	// Encoded is told how many of how many clips are ready, while the first start encodes them; may be nil.
	Encoded func(done, all int)
}

// A World is a running scenario.
type World struct {
	ctx     context.Context
	options Options
	group   *errgroup.Group
	cancel  context.CancelFunc
	multi   *multicast

	mu      sync.Mutex
	devices []*device // replaced when one restarts
	targets map[string]targets.Stand
}

// Start encodes what is not encoded yet and starts every device of a scenario. On an error nothing is left running.
func Start(ctx context.Context, s *Scenario, o Options) (*World, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	ctx, cancel := context.WithCancel(ctx)
	group, ctx := errgroup.WithContext(ctx)
	w := &World{ctx: ctx, options: o, group: group, cancel: cancel}
	if err := w.encode(ctx, s, o); err != nil {
		w.Stop()
		return nil, err
	}
	if err := w.readNetworks(); err != nil {
		w.Stop()
		return nil, err
	}
	// Those that share an address come last: they answer through the other's socket.
	slices.SortStableFunc(w.devices, func(a, b *device) int { return len(a.Shares) - len(b.Shares) })
	for _, d := range w.devices {
		if d.PluggedIn > 0 {
			w.plugIn(d)
			continue
		}
		if err := d.start(ctx, o, group); err != nil {
			w.Stop()
			return nil, fmt.Errorf("stand-in %q: %w", d.Name, err)
		}
		if d.webPort != d.maker.web || d.streams != nil && d.rtspPort != d.maker.rtsp {
			o.Log.Info("ports under 1024 need root; this stand-in uses higher ones", "device", d.Name, "web", d.webPort, "rtsp", d.rtspPort)
		}
	}
	for _, d := range w.devices {
		if d.NextLease.IsValid() && d.net.DHCP && d.Address != d.NextLease {
			w.releaseLater(d)
		}
	}
	if err := w.startTargets(s.Targets); err != nil {
		w.Stop()
		return nil, err
	}
	var err error
	if w.multi, err = listenMulticast(w.all); err != nil {
		w.Stop()
		return nil, err
	}
	return w, nil
}

// later runs something once the world has run for a while.
func (w *World) later(seconds int, do func() error) {
	w.group.Go(func() error {
		select {
		case <-w.ctx.Done():
			return nil
		case <-time.After(time.Duration(seconds) * time.Second):
		}
		return do()
	})
}

// plugIn starts a device a while after the others.
func (w *World) plugIn(d *device) {
	w.later(d.PluggedIn, func() error {
		return w.replace(d, d.again())
	})
}

// replace starts a device in the place of one that is down. Where the world ends meanwhile, the device ends with it: Stop has then looked
// already at which devices there are.
func (w *World) replace(d, fresh *device) error {
	if err := fresh.start(w.ctx, w.options, w.group); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.ctx.Err() != nil {
		fresh.stop()
		return nil
	}
	w.devices[slices.Index(w.devices, d)] = fresh
	return nil
}

// again returns the same stand-in, not started yet.
func (d *device) again() *device {
	fresh := &device{Device: d.Device, world: d.world, net: d.net, setup: d.setup}
	list := d.configured() // what was set counts now, if not before
	fresh.sends.Store(&list)
	fresh.texts.list = d.texts.all()
	fresh.Defects.LockedSeconds = 0 // a restart ends a lock
	return fresh
}

// releaseLater gives a device another address by DHCP, as a server does whose pool is crowded.
func (w *World) releaseLater(d *device) {
	w.later(max(d.LeaseSeconds, 1), func() error {
		w.release(d)
		return nil
	})
}

func (w *World) release(d *device) {
	w.mu.Lock()
	d.net.Addr = d.NextLease
	w.mu.Unlock()
	w.restart(d)
}

// Release gives a device its next address by DHCP now.
func (w *World) Release(name string) { w.release(w.named(name)) }

// encode makes the clips that are missing, one a core at a time, and hands every device its own.
func (w *World) encode(ctx context.Context, s *Scenario, o Options) error {
	formats := map[scene.Format]bool{}
	for i := range s.Devices {
		for _, f := range s.Devices[i].feeds() {
			formats[f.format] = true
			if f.Changes[0] > 0 {
				formats[f.otherFormat()] = true
			}
		}
	}
	encoders, ectx := errgroup.WithContext(ctx)
	encoders.SetLimit(runtime.NumCPU())
	var done atomic.Int64
	for f := range formats {
		encoders.Go(func() error {
			_, err := o.Media.Clip(ectx, f)
			if n := done.Add(1); o.Encoded != nil {
				o.Encoded(int(n), len(formats))
			}
			return err
		})
	}
	if err := encoders.Wait(); err != nil {
		return err
	}
	for i := range s.Devices {
		d := &device{Device: s.Devices[i], world: w, setup: newSetup(s.Devices[i])}
		w.devices = append(w.devices, d)
		list := s.Devices[i].feeds()
		for j := range list {
			var err error
			if list[j].clip, err = o.Media.Clip(ctx, list[j].format); err != nil {
				return err
			}
			if list[j].Changes[0] > 0 {
				if list[j].other, err = o.Media.Clip(ctx, list[j].otherFormat()); err != nil {
					return err
				}
			}
		}
		d.sends.Store(&list)
	}
	return nil
}

// Stop ends every device and waits for it.
func (w *World) Stop() error {
	w.cancel()
	if w.multi != nil {
		w.multi.stop()
	}
	for _, t := range w.targets {
		targets.Stop(t)
	}
	for _, d := range w.all() {
		d.stop()
	}
	return w.group.Wait()
}

func (w *World) startTargets(list []targets.Target) error {
	w.targets = map[string]targets.Stand{}
	for _, t := range list {
		stand, err := targets.Start(w.ctx, t, targets.Options{State: w.options.State})
		if err != nil {
			return err
		}
		w.targets[t.Name] = stand
	}
	return nil
}

// RestartTarget ends a target and starts it again, as a power cut does: what it keeps in its state folder is there again.
func (w *World) RestartTarget(t targets.Target) error {
	targets.Stop(w.targets[t.Name])
	stand, err := targets.Start(w.ctx, t, targets.Options{State: w.options.State})
	if err == nil {
		w.targets[t.Name] = stand
	}
	return err
}

// Bridge, Hub and Screen find a target by its name; they panic on a name that the scenario does not have.
func (w *World) Bridge(name string) *targets.Bridge { return w.targets[name].(*targets.Bridge) }
func (w *World) Hub(name string) *targets.Hub       { return w.targets[name].(*targets.Hub) }
func (w *World) Screen(name string) *targets.Screen { return w.targets[name].(*targets.Screen) }

// Screens returns all screens.
func (w *World) Screens() (out []*targets.Screen) {
	for _, t := range w.targets {
		if s, ok := t.(*targets.Screen); ok {
			out = append(out, s)
		}
	}
	return out
}

func (w *World) all() []*device {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.devices)
}

// A Look is what a test or a bench may see of a stand-in from inside.
type Look struct{ d *device }

// Device finds a device by its name; it panics on a name that the scenario does not have.
func (w *World) Device(name string) Look { return Look{w.named(name)} }

func (w *World) named(name string) *device {
	for _, d := range w.all() {
		if d.Name == name {
			return d
		}
	}
	panic("no stand-in is named " + name)
}

// Web returns the address of the device's web port, Service that of its device service.
func (l Look) Web() string { return net.JoinHostPort(l.d.Address.String(), strconv.Itoa(l.d.webPort)) }
func (l Look) Service() string {
	if l.d.Defects.HTTPS == "only" {
		return "https://" + net.JoinHostPort(l.d.Address.String(), strconv.Itoa(webTLS)) + "/onvif/device_service"
	}
	return "http://" + l.Web() + "/onvif/device_service"
}

// RTSP returns the host and port of the stream service; URL the true URL of a stream, counted from 0.
func (l Look) RTSP() string {
	return net.JoinHostPort(l.d.Address.String(), strconv.Itoa(l.d.rtspPort))
}
func (l Look) URL(stream int) string { return "rtsp://" + l.RTSP() + l.d.path(l.d.sending()[stream]) }

// Asked returns how many requests its device service has had.
func (l Look) Asked() int64 { return l.d.asked.Load() }

// Endpoint returns the device's endpoint reference.
func (l Look) Endpoint() string { return l.d.endpoint }

// Address returns the device's address.
func (l Look) Address() string { return l.d.Address.String() }
