package main

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

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
	firmCameras = 20
	firmWorkers = 10
)

// firmSite returns the range of a site, and the address of its first camera.
func firmSite(i int) (ranges string, first netip.Addr) {
	at := 16<<8 + i*32
	return fmt.Sprintf("127.60.%d.%d/27", at>>8, at&255), netip.AddrFrom4([4]byte{127, 60, byte(at >> 8), byte(at&255 + 2)})
}

// firm brings all cameras of fifty sites from Heard to Proven: a server's process, ten paired workers with processes of their own, and
// stand-ins, all on this machine. A person uses the pages meanwhile.
func firm(ctx context.Context, _ *scene.Library) ([]figure, error) {
	f, err := openFirm(ctx)
	defer f.close()
	if err != nil {
		return nil, err
	}
	one, err := f.prove(ctx, f.sites[:firmSites/firmWorkers])
	if err != nil {
		return nil, err
	}
	if err := f.pairRest(ctx); err != nil {
		return nil, err
	}
	all, err := f.prove(ctx, f.sites[firmSites/firmWorkers:])
	if err != nil {
		return nil, err
	}
	rate := func(p proven) float64 { return float64(p.cameras) / p.took.Minutes() }
	return []figure{
		{"50 sites, 10 paired workers: cameras a minute, from Heard to Proven", fmt.Sprintf("%.0f", rate(all)),
			fmt.Sprintf("%.0f with one worker", rate(one)), fmt.Sprintf("%.1f", rate(all)/rate(one)), "stated: one machine has all of it"},
		{"Pages meanwhile, p95", ms(p95(all.pages)), ms(p95(one.pages)) + " with one worker", "", under(300, float64(p95(all.pages).
			Milliseconds()), " ms")},
		{"The server's process, resident at most", fmt.Sprintf("%.0f MB", all.resident/1e6), "", "", under(500, all.resident/1e6, " MB")},
		{"A worker's process, resident at most", fmt.Sprintf("%d MB", f.stop()>>20), "", "", "stated"},
	}, nil
}

// A firmBench is the server of a firm with its sites, its workers and the cameras.
type firmBench struct {
	server  *served
	store   *store.Store
	queue   *jobs.Queue
	dir     string
	sites   []uuid.UUID
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
	f.undo = append(f.undo, f.store.Close)
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

// standIns starts the cameras of all sites.
func (f *firmBench) standIns() error {
	var scenario strings.Builder
	scenario.WriteString("name: firm\nusers: [{name: fitter, secret: bench, level: Administrator}]\ndevices:\n")
	for i := range firmSites {
		_, first := firmSite(i)
		fmt.Fprintf(&scenario, "  - {name: Site%d, maker: corvane, model: V4, address: %s, count: %d, scene: viaduct, caption: \"\", "+
			"streams: [{width: 320, height: 180, fps: 5, kbps: 150, gop: 5}, {width: 160, height: 90, fps: 5, kbps: 60, gop: 5}]}\n", i, first,
			firmCameras)
	}
	stop, err := standIns(f.dir, scenario.String())
	if err == nil {
		f.undo = append(f.undo, stop)
	}
	return err
}

// pair pairs the nth worker, which has every tenth of the sites from there on, and starts it.
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
	stop, err := background("Working", "worker", "--data", data)
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
	resident float64         // bytes of the server's process, at most
}

// prove sweeps sites and opens what is heard there, while a person looks at the list of sites and at a line-up.
func (f *firmBench) prove(ctx context.Context, sites []uuid.UUID) (p proven, err error) {
	var runs []store.Run
	began := time.Now()
	for _, site := range sites {
		run, err := f.queue.Begin(ctx, site, command.Work{Kind: "sweep", Title: "Sweep",
			Site: &command.OnSite{Sweep: &command.Sweep{Open: true}}})
		if err != nil {
			return p, err
		}
		runs = append(runs, run)
	}
	done := make(chan error, 1)
	go func() {
		var all error
		for _, run := range runs {
			all = errors.Join(all, finished(ctx, f.store, run))
		}
		done <- all
	}()
	for n := 0; ; n++ {
		select {
		case err := <-done:
			p.took = time.Since(began)
			if err != nil {
				return p, err
			}
			return p, f.count(ctx, sites, &p)
		case <-time.After(200 * time.Millisecond):
		}
		for _, path := range []string{"/api/sites", "/api/sites/" + sites[n%len(sites)].String() + "/changes"} {
			took, _, err := f.server.page.get(path)
			if err != nil {
				return p, err
			}
			p.pages = append(p.pages, took)
		}
		if n%10 == 0 {
			resident, err := f.server.metric("process_resident_memory_bytes")
			if err != nil {
				return p, err
			}
			p.resident = max(p.resident, resident)
		}
	}
}

// count counts the cameras of sites that are proven.
func (f *firmBench) count(ctx context.Context, sites []uuid.UUID, p *proven) error {
	err := f.store.Pool.QueryRow(ctx, `SELECT count(DISTINCT l.device_id) FROM latest_evidence l JOIN devices d ON d.id = l.device_id
		JOIN evidence e ON e.id = l.evidence_id WHERE d.site_id = ANY ($1) AND l.kind = 'proof' AND e.body->>'ok' = 'true'`, sites).
		Scan(&p.cameras)
	if want := len(sites) * firmCameras; err == nil && p.cameras < want {
		err = fmt.Errorf("%d of %d cameras are proven", p.cameras, want)
	}
	return err
}
