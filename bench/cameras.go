package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/sim/scene"
	"unlatch/store"
)

// hundreds are n cameras of two makers from an address on.
func hundreds(n int, east, west string) string {
	return fmt.Sprintf(`
name: hundreds
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: East, maker: corvane, model: V4, address: %s, count: %d, scene: viaduct, caption: "", streams: [&m {width: 1280,
       height: 720, fps: 15, kbps: 2000, gop: 15}, &s {width: 320, height: 180, fps: 5, kbps: 150, gop: 5}]}
  - {name: West, maker: lumenhythe, model: L2, address: %s, count: %d, scene: turntable, caption: "", streams: [*m, *s]}
`, east, n/2, west, n-n/2)
}

// twoHundred takes 200 cameras, main and sub, from Heard to Proven in a worker process of its own. The stand-ins, the worker, the
// database and the decoding of 400 stills share this machine's cores. Then 50 and 800: how it grows.
func twoHundred(ctx context.Context, _ *scene.Library) (out []figure, err error) {
	perCamera := map[int]float64{}
	linear := func(float64) any { return "linear" }
	for _, c := range []struct {
		n                  int
		east, west, ranges string
		wants              func(rate float64) any
	}{
		{50, "127.62.4.10", "127.62.4.110", "127.62.4.0/24", linear},
		{200, "127.62.0.10", "127.62.0.110", "127.62.0.0/24", func(rate float64) any { return atLeast(400, rate, " a minute") }},
		{800, "127.62.8.10", "127.62.10.10", "127.62.8.0/22", linear},
	} {
		r, err := newRig(ctx, hundreds(c.n, c.east, c.west), c.ranges)
		if err != nil {
			return nil, err
		}
		took, n, err := r.open(ctx, c.n)
		usage := r.stopWorker()
		r.stop()
		if err != nil {
			return nil, err
		}
		perCamera[c.n] = took.Seconds() / float64(n)
		out = append(out, figure{fmt.Sprintf("%d cameras, main and sub, from Heard to Proven", c.n), fmt.Sprintf("%.1f s",
			took.Seconds()), "",
			fmt.Sprintf("%.0f cameras a minute", float64(n)/took.Minutes()), c.wants(float64(n) / took.Minutes())},
			figure{"Largest resident size of the server process meanwhile", fmt.Sprintf("%.0f MB", float64(usage)/1e6), "", "", "stated"})
	}
	return append(out, figure{"Growth: seconds a camera with 800 against 200", fmt.Sprintf("%.0f ms", perCamera[800]*1000),
		fmt.Sprintf("%.0f ms", perCamera[200]*1000), fmt.Sprintf("%.2f", perCamera[800]/perCamera[200]), atMost(1.1,
			perCamera[800]/perCamera[200], ", which is linear")}), nil
}

// open sweeps and opens the site's cameras, of which there must be n, all of them proven in the end.
func (r *rig) open(ctx context.Context, n int) (time.Duration, int, error) {
	took, proven, err := r.openSome(ctx, n)
	if err == nil && proven != n {
		err = fmt.Errorf("%d of %d cameras were proven", proven, n)
	}
	return took, proven, err
}

// openSome does the same and says how many were proven.
func (r *rig) openSome(ctx context.Context, n int) (time.Duration, int, error) {
	s, q, site := r.store, r.queue, r.site
	run, err := q.Begin(ctx, site.ID, command.Work{Kind: "sweep", Steps: 1, Site: &command.OnSite{Sweep: &command.Sweep{}}})
	if err == nil {
		err = finished(ctx, s, run)
	}
	if err != nil {
		return 0, 0, err
	}
	devices, err := s.Devices.List(ctx, site.ID)
	if err != nil {
		return 0, 0, err
	}
	var ids []uuid.UUID
	for _, d := range devices {
		if !d.Status.Device.Stray {
			ids = append(ids, d.ID)
		}
	}
	if len(ids) != n {
		return 0, 0, fmt.Errorf("%d of %d cameras were heard", len(ids), n)
	}
	began := time.Now()
	if run, err = q.Begin(ctx, site.ID, command.Work{Kind: "open",
		Devices: command.Each(ids, command.Device{Open: &command.Open{}})}); err == nil {
		err = finished(ctx, s, run)
	}
	took := time.Since(began)
	if err != nil {
		return 0, 0, err
	}
	if devices, err = s.Devices.List(ctx, site.ID); err != nil {
		return 0, 0, err
	}
	proven := 0
	for i := range devices {
		if !devices[i].Status.Device.Stray && devices[i].Status.Latch(latch.Proven).State == latch.Open {
			proven++
		}
	}
	return took, proven, nil
}

func finished(ctx context.Context, s *store.Store, r store.Run) error {
	for {
		got, err := s.Runs.Get(ctx, r.ID)
		if err != nil {
			return err
		}
		if got.Problem != "" {
			return errors.New(got.Problem)
		}
		if !got.Running() {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// background starts a command and waits for it to say that it is ready. stop ends it and returns its largest resident size.
func background(ready string, args ...string) (stop func() int64, err error) {
	return begun(exec.Command(program, args...), ready)
}

// begun is background for a command that is prepared.
func begun(cmd *exec.Cmd, ready string) (stop func() int64, err error) {
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	stop = func() int64 {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		return maxRSS(cmd.ProcessState.SysUsage())
	}
	said := ""
	buf := make([]byte, 4096)
	for !strings.Contains(said, ready) {
		n, err := out.Read(buf)
		said += string(buf[:n])
		if err != nil {
			stop()
			return nil, fmt.Errorf("%s ended: %s", cmd, said)
		}
	}
	go func() {
		for {
			if _, err := out.Read(buf); err != nil {
				return
			}
		}
	}()
	return stop, nil
}
