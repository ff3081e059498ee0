package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/proof"
	"unlatch/core/decide/watchround"
	"unlatch/core/stream/media"
	"unlatch/jobs"
	"unlatch/sim"
	"unlatch/sim/scene"
	"unlatch/store"
)

// watchTime is how long the watch is measured for once it runs evenly.
const watchTime = time.Minute

// lookedAfter measures what it costs to watch n cameras in rounds of a minute: 375 cameras are as many looks as 5,000 cameras and 200
// targets in rounds of 15 and 5 minutes.
func lookedAfter(n int, east, west, ranges string) func(context.Context, *scene.Library) ([]figure, error) {
	return func(ctx context.Context, _ *scene.Library) ([]figure, error) {
		r, err := newRig(ctx, hundreds(n, east, west), ranges)
		if err != nil {
			return nil, err
		}
		defer r.stop()
		return r.watch(ctx, n)
	}
}

// watch opens the site's cameras, agrees on them and watches them for a while.
func (r *rig) watch(ctx context.Context, n int) (out []figure, err error) {
	if _, _, err := r.open(ctx, n); err != nil {
		return nil, err
	}
	by, err := r.store.People.CreateFirst(ctx, "keeper", "x")
	if err != nil {
		return nil, err
	}
	desk := jobs.Desk{Store: r.store, Queue: r.queue}
	devices, err := r.devices(ctx)
	if err != nil {
		return nil, err
	}
	rule := watchround.WatchRule{On: true, CameraMinutes: 1}
	for _, a := range []act.Act{
		act.TakeBaseline{ID: uuid.New(), Site: r.site.ID, Devices: devices, Name: "Handed over", Reason: "bench", Whole: true},
		act.SetRounds{Site: r.site.ID, Rule: rule, Agreed: true},
	} {
		if _, err := desk.Do(ctx, by, a); err != nil {
			return nil, err
		}
	}
	// The first look at each is a full one: what is measured are the light ones after it.
	for until := time.Now().Add(10 * time.Minute); ; time.Sleep(time.Second) {
		how, err := r.store.Watched.How(ctx, r.site.ID, time.Now())
		if err != nil {
			return nil, err
		}
		if how.Things == n && how.Never == 0 {
			break
		}
		if time.Now().After(until) {
			return nil, fmt.Errorf("%d of %d cameras were looked at in ten minutes", how.Things-how.Never, n)
		}
	}
	began, worker, database := time.Now(), timeOf("worker", r.dir), timeOfChildren(filepath.Join(r.dir, "pg", "postmaster.pid"))
	time.Sleep(watchTime)
	took := time.Since(began)
	worker, database = timeOf("worker", r.dir)-worker, timeOfChildren(filepath.Join(r.dir, "pg", "postmaster.pid"))-database
	how, err := r.store.Watched.How(ctx, r.site.ID, time.Now())
	if err != nil {
		return nil, err
	}
	looks := float64(n) * took.Minutes()
	perLook := msOf(worker) / looks
	perSecond, share := looks/took.Seconds(), worker.Seconds()/took.Seconds()
	cameras := float64(n)
	out = append(out,
		figure{fmt.Sprintf("Watch: %d cameras in rounds of 1 min, late", n), fmt.Sprint(how.Late), "",
			fmt.Sprintf("%.1f looks a second", perSecond), none(how.Late)},
		figure{fmt.Sprintf("Share of a core that the worker takes for %.1f looks a second", perSecond), fmt.Sprintf("%.2f", share),
			fmt.Sprintf("and the database %.2f", database.Seconds()/took.Seconds()), fmt.Sprintf("%.1f ms a look", perLook),
			under(0.5, share, " of a core")},
		figure{"One round: requests, kB and connections a camera", fmt.Sprintf("%.1f, %.1f kB, %.1f", float64(how.Requests)/cameras,
			float64(how.Bytes)/cameras/1000, float64(how.Sessions)/cameras), "", "", "stated"})
	told, err := r.toldAfter(ctx)
	if err != nil {
		return nil, err
	}
	rounds := told.Minutes()
	out = append(out, figure{"From a firmware that changed to told, p95 of 20", fmt.Sprintf("%.0f s", told.Seconds()),
		"60 s round", fmt.Sprintf("%.2f", rounds), atMost(1.05, rounds, " rounds")})
	size := r.stopWorker()
	return append(out, figure{"Largest resident size of the worker, opening included", fmt.Sprintf("%.0f MB", float64(size)/1e6), "", "",
		under(400, float64(size)/1e6, " MB")}), nil
}

// toldAfter changes the firmware of twenty cameras and returns how long after that the 95th percentile of them was told.
func (r *rig) toldAfter(ctx context.Context) (time.Duration, error) {
	list, err := r.store.Devices.List(ctx, r.site.ID)
	if err != nil {
		return 0, err
	}
	began := map[uuid.UUID]time.Time{}
	for i := range 20 {
		d := list[i*len(list)/20]
		if err := sim.SendTrouble(ctx, r.dir, sim.Trouble{Kind: "firmware", Name: d.Addr, To: "9.9"}); err != nil {
			return 0, err
		}
		began[d.ID] = time.Now()
	}
	var times []time.Duration
	for until := time.Now().Add(5 * time.Minute); len(times) < len(began) && time.Now().Before(until); time.Sleep(200 * time.Millisecond) {
		open, err := r.store.Drifts.Open(ctx, r.site.ID)
		if err != nil {
			return 0, err
		}
		times = times[:0]
		for _, e := range open {
			if at, ours := began[e.Device]; ours {
				times = append(times, e.Before.Sub(at))
			}
		}
	}
	if len(times) < len(began) {
		return 0, fmt.Errorf("%d of %d changes were told", len(times), len(began))
	}
	return p95(times), nil
}

// timeOf returns the processor time of the process whose arguments hold both texts.
func timeOf(texts ...string) (total time.Duration) {
	list, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range list {
		raw, err := os.ReadFile(file)
		if err != nil || slices.ContainsFunc(texts, func(t string) bool { return !bytes.Contains(raw, []byte(t)) }) {
			continue
		}
		total += ticks(filepath.Join(filepath.Dir(file), "stat"), -1)
	}
	return total
}

// timeOfChildren returns the processor time of the processes that a process has started, by the file that holds its ID, with those that
// have ended.
func timeOfChildren(pidFile string) (total time.Duration) {
	raw, err := os.ReadFile(pidFile)
	if err != nil {
		return 0
	}
	parent, _ := strconv.Atoi(strings.SplitN(string(raw), "\n", 2)[0])
	list, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range list {
		total += ticks(file, parent)
	}
	return total
}

// ticks reads the processor time of a process from its stat file (proc(5)); of a child of parent alone, where that is not negative.
func ticks(file string, parent int) time.Duration {
	raw, err := os.ReadFile(file)
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(raw), ") ")
	fields := strings.Fields(rest)
	if len(fields) < 15 || parent >= 0 && fields[1] != strconv.Itoa(parent) {
		return 0
	}
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

// aYear writes a year of 500 watched cameras and measures what it weighs, and what reading costs then against a day of it.
func aYear(ctx context.Context, _ *scene.Library) (out []figure, err error) {
	r, err := newRig(ctx, "name: none\nusers: [{name: fitter, secret: bench}]\ndevices:\n  - {name: One, maker: corvane, model: V4, "+
		"address: 127.62.4.10, scene: viaduct, streams: [{width: 160, height: 90, fps: 5, kbps: 100, gop: 5}]}\n", "127.62.4.0/24")
	if err != nil {
		return nil, err
	}
	defer r.stop()
	r.stopWorker()
	devices, err := r.manyDevices(ctx, 500)
	if err != nil {
		return nil, err
	}
	one := devices[0]
	lineUp := func() error { _, err := r.store.Devices.List(ctx, r.site.ID); return err }
	now := time.Now().UTC()
	timeLine := func(length time.Duration, res store.Resolution) func() error {
		return func() error {
			if _, err := r.store.Watched.Spans(ctx, r.site.ID, one, now.Add(-length), now); err != nil {
				return err
			}
			_, err := r.store.Watched.Measures(ctx, one, res, now.Add(-length), now)
			return err
		}
	}
	derive := func() error { _, err := r.store.Devices.Get(ctx, one); return err }
	if err := r.writeTime(ctx, devices, now, 1); err != nil {
		return nil, err
	}
	day := map[string]time.Duration{}
	year := map[string]time.Duration{}
	asks := []struct {
		what string
		do   func() error
	}{{"line-up of 500", lineUp}, {"time line of a day", timeLine(24*time.Hour, store.Minutes)}, {"deriving one device", derive}}
	for _, a := range asks {
		if day[a.what], err = slowest20th(a.do); err != nil {
			return nil, err
		}
	}
	if err := r.writeTime(ctx, devices, now, 365); err != nil {
		return nil, err
	}
	var bytes int64
	if err := r.store.SQL().QueryRowContext(ctx, "SELECT pg_database_size(current_database())").Scan(&bytes); err != nil {
		return nil, err
	}
	for _, a := range asks {
		if year[a.what], err = slowest20th(a.do); err != nil {
			return nil, err
		}
		ratio := float64(year[a.what]) / float64(day[a.what])
		limit := 3.0
		if a.what == "deriving one device" {
			limit = 1.3
		}
		out = append(out, figure{"After a year of 500 cameras: " + a.what + ", p95", ms(year[a.what]), ms(day[a.what]) + " after a day",
			fmt.Sprintf("%.2f", ratio), atMost(limit, ratio, "")})
	}
	whole, err := slowest20th(timeLine(365*24*time.Hour, store.Hours))
	if err != nil {
		return nil, err
	}
	return append(out, figure{"Time line of a whole year, p95", ms(whole), "", "", "stated"},
		figure{"A year of 500 cameras in the database", fmt.Sprintf("%.2f GB", float64(bytes)/1e9), "", "", under(2,
			float64(bytes)/1e9, " GB")}), nil
}

// manyDevices adds cameras to the site that are heard and do not exist.
func (r *rig) manyDevices(ctx context.Context, n int) ([]uuid.UUID, error) {
	_, err := r.store.SQL().ExecContext(ctx, `INSERT INTO devices (id, site_id, endpoint, addr)
		SELECT gen_random_uuid(), $1, 'urn:year:' || i, '127.62.5.' || i % 250 FROM generate_series(1, $2) i`,
		r.site.ID, n)
	if err != nil {
		return nil, err
	}
	return r.devices(ctx)
}

// writeTime writes what the watch keeps of some days: the clock of every look, what full looks measure, spans that change once a month,
// and a proof whenever something changes, ten times a year.
func (r *rig) writeTime(ctx context.Context, devices []uuid.UUID, now time.Time, days int) error {
	from := now.AddDate(0, 0, -days)
	for _, x := range []struct {
		res   store.Resolution
		step  string
		most  int // days
		every string
	}{{store.Minutes, "15 minutes", 7, "minute"}, {store.Quarters, "15 minutes", 92, "quarter"}, {store.Hours, "1 hour", 1830, "hour"}} {
		begin := now.AddDate(0, 0, -min(days, x.most))
		for at := begin; !at.After(now); at = at.AddDate(0, 0, 1) { // makes the partitions
			if err := r.store.Watched.RememberMeasures(ctx, devices[0], x.res, "skew", []store.MeasuredPoint{{At: at, Mean: 1}}); err != nil {
				return err
			}
		}
		for what, step := range map[string]string{"skew": x.step, "rate main": "23 hours", "bitrate main": "23 hours", "loss main": "23 hours",
			"key frames main": "23 hours", "rate sub": "23 hours", "bitrate sub": "23 hours"} {
			if _, err := r.store.SQL().ExecContext(ctx, fmt.Sprintf(`INSERT INTO measures_%s (thing, what, at, n, sum, least, most)
				SELECT d.id, $2, t, 1, 20, 20, 20 FROM devices d, generate_series($3::timestamptz, $4::timestamptz, $5::interval) t
				WHERE d.site_id = $1 ON CONFLICT DO NOTHING`, x.res), r.site.ID, what, begin, now.Add(-time.Minute), step); err != nil {
				return err
			}
		}
	}
	if _, err := r.store.SQL().ExecContext(ctx, `INSERT INTO spans (thing, site_id, state, from_at, to_at) SELECT d.id, $1, 'up', t, t +
		interval '29 days' FROM devices d, generate_series($2::timestamptz, $3::timestamptz, '30 days') t WHERE d.site_id = $1
		ON CONFLICT DO NOTHING`, r.site.ID, from, now); err != nil {
		return err
	}
	video := &media.Measured{Codec: "H.264", Width: 1920, Height: 1080, FPS: 25, BitrateKbps: 4000, PerSecondKbps: make([]int, 30)}
	raw, err := evidence.Encode(evidence.Proof{Proof: proof.Proof{OK: true, Video: video}, PlainURL: "rtsp://127.62.5.1/1", Role: "main"})
	if err != nil {
		return err
	}
	if _, err = r.store.SQL().ExecContext(ctx, `INSERT INTO evidence (id, device_id, at, kind, subject, body, exchange)
		SELECT gen_random_uuid(), d.id, t, 'proof', 'p1', $4, repeat('DESCRIBE ', 400)
		FROM devices d, generate_series($2::timestamptz, $3::timestamptz, '36 days') t
		WHERE d.site_id = $1`, r.site.ID, from, now, string(raw)); err != nil {
		return err
	}
	_, err = r.store.SQL().ExecContext(ctx, "ANALYZE")
	return err
}

// slowest20th returns the 95th percentile of how long something takes.
func slowest20th(do func() error) (time.Duration, error) {
	var times []time.Duration
	for range 60 {
		began := time.Now()
		if err := do(); err != nil {
			return 0, err
		}
		times = append(times, time.Since(began))
	}
	return p95(times), nil
}
