package main

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/ground/address"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/signin"
	"unlatch/jobs"
	"unlatch/sim/scene"
	"unlatch/store"
)

// A firm has so many sites, with so many cameras each, and so many workers that have the same number of sites.
const (
	firmSites   = 50
	firmCameras = 10
	firmWorkers = 10
	// aloneSites are opened by one worker, before the others are there.
	aloneSites = 1
	// workerMemory is what a worker may take: those at sites are small machines, and this one has all of them.
	workerMemory = "160MiB"
)

// firmSite returns the range of a site, and the address of its first camera.
func firmSite(i int) (ranges string, first netip.Addr) {
	at := 16<<8 + i*128
	return fmt.Sprintf("127.60.%d.%d/25", at>>8, at&255), netip.AddrFrom4([4]byte{127, 60, byte(at >> 8), byte(at&255 + 2)})
}

// firm brings all cameras of fifty sites from Heard to Proven: a server's process, ten paired workers with processes of their own, and
// stand-ins, all on this machine. A person uses the pages meanwhile. When half of the cameras are proven the server is killed with its
// database, and started again.
func firm(ctx context.Context, _ *scene.Library) ([]figure, error) {
	f, err := openFirm(ctx)
	defer f.close()
	if err != nil {
		return nil, err
	}
	one, err := f.prove(ctx, f.sites[:aloneSites], 1)
	if err != nil {
		return nil, err
	}
	if err := f.pairRest(ctx); err != nil {
		return nil, err
	}
	half, err := f.prove(ctx, f.sites[aloneSites:], 0.5)
	if err != nil {
		return nil, err
	}
	again, err := f.killed(ctx)
	if err != nil {
		return nil, err
	}
	rest, err := f.follow(ctx, f.sites[aloneSites:], 1)
	if err != nil {
		return nil, err
	}
	twice, err := f.twice(ctx)
	if err != nil {
		return nil, err
	}
	resident := max(one.resident, half.resident, rest.resident) / 1e6
	pages, acts := slices.Concat(half.pages, rest.pages), slices.Concat(half.acts, rest.acts)
	return []figure{
		{fmt.Sprintf("%d sites of %d cameras, %d paired workers: cameras a minute, from Heard to Proven", firmSites, firmCameras, firmWorkers),
			fmt.Sprintf("%.0f", half.rate()),
			fmt.Sprintf("%.0f with one worker", one.rate()), fmt.Sprintf("%.1f", half.rate()/one.rate()), "stated: one machine has all of it"},
		half.share("What such a camera takes of the stand-ins", "sim"), half.share("of its worker", "worker"),
		half.share("of the server", "serve"), half.share("of the database", "postgres"),
		{"Pages meanwhile, p95", ms(p95(pages)), ms(p95(one.pages)) + " with one worker", "", under(300, msOf(p95(pages)), " ms")},
		{"Acts of a person meanwhile, p95", ms(p95(acts)), ms(p95(one.acts)) + " with one worker", "", under(300, msOf(p95(acts)), " ms")},
		{"The server's process, resident at most", fmt.Sprintf("%.0f MB", resident), "", "", under(500, resident, " MB")},
		{"A worker's process, resident at most", fmt.Sprintf("%d MB", f.stop()>>20), "", "", "stated"},
		{"Server killed with its database: until it serves again", again.Round(100 * time.Millisecond).String(), "", "", "stated"},
		{"and from there until every worker has proven a camera", rest.all.Round(100 * time.Millisecond).String(), "", "",
			under(30, rest.all.Seconds(), " s")},
		{"Cameras that are not proven in the end", fmt.Sprint(rest.left), "", "", none(rest.left)},
		{"Streams that were proven twice", fmt.Sprint(twice), "", "", "stated: what was under way when the server was killed"},
	}, nil
}

// A firmBench is the server of a firm with its sites, its workers and the cameras.
type firmBench struct {
	server  *served
	store   *store.Store
	queue   *jobs.Queue
	dir     string
	sites   []uuid.UUID
	heard   []uuid.UUID
	workers []func() int64
	undo    []func()
}

func openFirm(ctx context.Context) (f *firmBench, err error) {
	f = &firmBench{}
	if f.dir, err = os.MkdirTemp("", "unlatch-bench-*"); err != nil {
		return f, err
	}
	f.undo = append(f.undo, func() { os.RemoveAll(f.dir) })
	if err := f.standIns(); err != nil {
		return f, err
	}
	if f.server, err = serveQuietly(); err != nil {
		return f, err
	}
	f.undo = append(f.undo, f.server.close)
	if f.store, err = f.server.openStore(ctx); err != nil {
		return f, err
	}
	f.undo = append(f.undo, func() { f.store.Close() }) // it is opened again once
	if f.queue, err = jobs.NewQueue(f.store, quiet); err != nil {
		return f, err
	}
	if _, err = f.store.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("bench")}); err != nil {
		return f, err
	}
	for i := range firmSites {
		ranges, _ := firmSite(i)
		site, err := f.store.Sites.Create(ctx, fmt.Sprintf("Site %d", i), address.MustParse(ranges))
		if err == nil {
			err = f.store.Sites.SetWatch(ctx, site.ID, false)
		}
		if err != nil {
			return f, err
		}
		f.sites = append(f.sites, site.ID)
	}
	return f, f.pair(ctx, 0)
}

// standIns starts the cameras of all sites: two processes, since one takes no more than 4,096. All sites are on one loopback wire here, so
// that the cameras hear no multicast: each would answer for every site.
func (f *firmBench) standIns() error {
	for _, sites := range [][2]int{{0, firmSites / 2}, {firmSites / 2, firmSites}} {
		var scenario strings.Builder
		scenario.WriteString("name: firm\nusers: [{name: fitter, secret: bench, level: Administrator}]\ndevices:\n")
		for i := sites[0]; i < sites[1]; i++ {
			_, first := firmSite(i)
			fmt.Fprintf(&scenario, "  - {name: Site%d, maker: corvane, model: V4, address: %s, count: %d, scene: viaduct, caption: \"\", "+
				"announces: [ws-unicast], streams: [{width: 320, height: 180, fps: 5, kbps: 150, gop: 5}, "+
				"{width: 160, height: 90, fps: 5, kbps: 60, gop: 5}]}\n", i, first, firmCameras)
		}
		dir := filepath.Join(f.dir, fmt.Sprint("cameras", sites[0]))
		if err := os.Mkdir(dir, 0o700); err != nil {
			return err
		}
		stop, err := standIns(dir, scenario.String())
		if err != nil {
			return err
		}
		f.undo = append(f.undo, stop)
	}
	return nil
}

// pair pairs the nth worker, which has its share of the sites, and starts it.
func (f *firmBench) pair(ctx context.Context, n int) error {
	i := pairing.NewIdentity(f.server.page.url, "")
	share := firmSites / firmWorkers
	a := act.PairWorker{ID: uuid.New(), Key: i.Key().Public(), Recipient: i.Recipient(), Name: fmt.Sprint("Worker ", n), Shared: true,
		Sites: f.sites[n*share : (n+1)*share]}
	if err := keepPaired(ctx, f.store, a); err != nil {
		return err
	}
	i.Worker = a.ID.String()
	data := filepath.Join(f.dir, fmt.Sprint("worker", n))
	if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	if err := i.Write(filepath.Join(data, "worker.json")); err != nil {
		return err
	}
	// A worker is another machine in truth: the processor is the server's, its database's and the cameras' first.
	cmd := exec.Command("nice", "-n", "10", program, "worker", "--data", data)
	cmd.Env = append(os.Environ(), "GOMEMLIMIT="+workerMemory)
	stop, err := begun(cmd, "Working")
	if err == nil {
		f.workers = append(f.workers, stop)
	}
	return err
}

func (f *firmBench) pairRest(ctx context.Context) error {
	for n := 1; n < firmWorkers; n++ {
		if err := f.pair(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

// stop ends the workers and returns the largest resident size of one, in bytes.
func (f *firmBench) stop() (most int64) {
	for _, stop := range f.workers {
		most = max(most, stop())
	}
	f.workers = nil
	return most
}

func (f *firmBench) close() {
	f.stop()
	for _, undo := range slices.Backward(f.undo) {
		undo()
	}
}

// A proven is what came of proving the cameras of some sites.
type proven struct {
	cameras  int
	took     time.Duration
	pages    []time.Duration // how long a person waited for each
	acts     []time.Duration
	resident float64                  // bytes of the server's process, at most
	spent    map[string]time.Duration // processor time, by what a process is
	left     int                      // that are not proven, although nothing is under way any more
	all      time.Duration            // until each worker had proven a camera of these sites
}

// rate is in cameras a minute.
func (p proven) rate() float64 { return float64(p.cameras) / p.took.Minutes() }

// share is the processor time that a kind of process takes for a camera.
func (p proven) share(what, kind string) figure {
	return figure{what, fmt.Sprintf("%.0f ms of a core", msOf(p.spent[kind])/float64(p.cameras)), "", "", "stated"}
}

// prove opens the cameras of sites, which it sweeps before, until a part of them is proven. The sweeps do not count.
func (f *firmBench) prove(ctx context.Context, sites []uuid.UUID, part float64) (proven, error) {
	heard := map[uuid.UUID][]uuid.UUID{}
	for _, site := range sites {
		run, err := f.queue.Begin(ctx, site, command.Work{Kind: "sweep", Title: "Sweep", Site: &command.OnSite{Sweep: &command.Sweep{}}})
		if err == nil {
			err = finished(ctx, f.store, run)
		}
		if err != nil {
			return proven{}, err
		}
		list, err := f.store.Devices.List(ctx, site)
		if err != nil || len(list) != firmCameras {
			return proven{}, fmt.Errorf("%d cameras of %d are heard: %w", len(list), firmCameras, err)
		}
		for i := range list {
			heard[site] = append(heard[site], list[i].ID)
		}
		f.heard = append(f.heard, heard[site]...)
	}
	for site, ids := range heard {
		if _, err := f.queue.Begin(ctx, site, command.Work{Kind: "open", Title: "Open",
			Devices: command.Each(ids, command.Device{Open: &command.Open{}})}); err != nil {
			return proven{}, err
		}
	}
	return f.follow(ctx, sites, part)
}

// stands is after how long without a camera more, and without a job, what is left counts as not proven.
const stands = 20 * time.Second

// follow looks on until a part of the cameras of sites is proven, and uses the pages as a person does.
func (f *firmBench) follow(ctx context.Context, sites []uuid.UUID, part float64) (p proven, err error) {
	began, moved, before, here := time.Now(), time.Now(), spent(), 0
	want := int(part * float64(len(sites)*firmCameras))
	first := map[string]int{} // how many cameras each worker had proven at first
	for {
		now, err := f.provenBy(ctx, sites)
		if err != nil {
			return p, err
		}
		all, idle := 0, 0
		for worker, n := range now {
			if _, ok := first[worker]; !ok {
				first[worker] = n
			}
			all += n
			if n == first[worker] && n < len(sites)*firmCameras/len(now) { // it has cameras left, and has proven none
				idle++
			}
		}
		if p.all == 0 && idle == 0 {
			p.all = time.Since(began)
		}
		if all > here {
			here, moved = all, time.Now()
		}
		if time.Since(moved) > stands {
			var busy bool
			if err := f.store.Pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM river_job WHERE kind = 'device' AND state IN ('available', 'running',
				'retryable', 'scheduled', 'pending'))`).Scan(&busy); err != nil {
				return p, err
			}
			if !busy {
				p.left, want = want-all, all // a machine that has all of it does some of them too slowly
			}
		}
		if all >= want {
			for _, n := range first {
				all -= n
			}
			p.cameras, p.took, p.spent = all, time.Since(began), spentSince(before)
			return p, nil
		}
		for range 5 {
			if err := f.use(sites, &p); err != nil {
				return p, err
			}
		}
	}
}

// provenBy counts the cameras of sites that are proven, by the worker that has their site.
func (f *firmBench) provenBy(ctx context.Context, sites []uuid.UUID) (map[string]int, error) {
	rows, err := f.store.Pool.Query(ctx, `SELECT p.worker_id::text, count(*) FILTER (WHERE 2 = (SELECT count(*) FROM latest_evidence l
			JOIN evidence e ON e.id = l.evidence_id WHERE l.device_id = d.id AND l.kind = 'proof' AND e.body->>'diagnosis' IS NULL))
		FROM devices d JOIN paired_sites p ON p.site_id = d.site_id WHERE d.site_id = ANY ($1) GROUP BY 1`, sites)
	if err != nil {
		return nil, err
	}
	out, worker, n := map[string]int{}, "", 0
	_, err = pgx.ForEachRow(rows, []any{&worker, &n}, func() error { out[worker] = n; return nil })
	return out, err
}

// use looks at the list of sites and at a line-up, and names a camera.
func (f *firmBench) use(sites []uuid.UUID, p *proven) error {
	time.Sleep(200 * time.Millisecond)
	n := len(p.pages)
	site := sites[n%len(sites)]
	for _, path := range []string{"/api/sites", "/api/sites/" + site.String() + "/changes"} {
		took, _, err := f.server.page.get(path)
		if err != nil {
			return err
		}
		p.pages = append(p.pages, took)
	}
	began := time.Now()
	if err := f.server.page.send("PATCH", "/api/devices/"+f.heard[n%len(f.heard)].String(), "application/json",
		strings.NewReader(fmt.Sprintf(`{"name": "Camera %d"}`, n)), nil); err != nil {
		return err
	}
	p.acts = append(p.acts, time.Since(began))
	resident, err := f.server.metric("process_resident_memory_bytes")
	p.resident = max(p.resident, resident)
	return err
}

// killed kills the server and its database without a warning, starts it again and returns how long that took.
func (f *firmBench) killed(ctx context.Context) (time.Duration, error) {
	f.store.Close()
	began := time.Now()
	if err := f.server.killAll(); err != nil {
		return 0, err
	}
	if err := f.server.again(); err != nil {
		return 0, err
	}
	took := time.Since(began)
	var err error
	f.store, err = f.server.openStore(ctx)
	return took, err
}

// twice counts the streams of which there is more than one proof.
func (f *firmBench) twice(ctx context.Context) (n int, err error) {
	return n, f.store.Pool.QueryRow(ctx, `SELECT count(*) FROM (SELECT FROM evidence WHERE kind = 'proof' GROUP BY device_id, subject
		HAVING count(*) > 1) twice`).Scan(&n)
}
