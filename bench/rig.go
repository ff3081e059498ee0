package main

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/cluster"
)

// A rig is stand-ins, a database with their sign-in and a site, and a worker, each in a process of its own.
type rig struct {
	store *store.Store
	queue *jobs.Queue
	site  store.Site
	dir   string // of the database and the stand-ins
	// stopWorker ends the worker and returns its largest resident size.
	stopWorker func() int64
	undo       []func() // of what was set up, in order
}

// stop takes the rig down, the last part first.
func (r *rig) stop() {
	for _, f := range slices.Backward(r.undo) {
		f()
	}
}

// newRig sets a scenario up whose devices take the sign-in fitter, bench. On an error nothing is left running.
func newRig(ctx context.Context, scenario, ranges string) (r *rig, err error) {
	r = &rig{}
	defer func() {
		if err != nil {
			r.stop()
		}
	}()
	dir, err := os.MkdirTemp("", "unlatch-bench-*")
	if err != nil {
		return r, err
	}
	r.dir = dir
	r.undo = append(r.undo, func() { os.RemoveAll(dir) })
	os.Chmod(dir, 0o755)
	c, err := cluster.Start(ctx, cluster.Options{Dir: filepath.Join(dir, "pg")})
	if err != nil {
		return r, err
	}
	r.undo = append(r.undo, c.Stop)
	stopSim, err := standIns(dir, scenario)
	if err != nil {
		return r, err
	}
	r.undo = append(r.undo, stopSim)
	if r.store, err = store.Open(ctx, c.URL, filepath.Join(dir, "key"), nil); err != nil {
		return r, err
	}
	r.undo = append(r.undo, r.store.Close)
	if r.queue, err = jobs.NewQueue(r.store, slog.New(slog.DiscardHandler)); err != nil {
		return r, err
	}
	if _, err = r.store.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("bench")}); err != nil {
		return r, err
	}
	if r.site, err = r.store.Sites.Create(ctx, "bench", address.MustParse(ranges)); err != nil {
		return r, err
	}
	stop, err := background("Working", "worker", "--database", c.URL, "--data", dir)
	if err != nil {
		return r, err
	}
	size := int64(-1)
	r.stopWorker = func() int64 {
		if size < 0 {
			size = stop()
		}
		return size
	}
	r.undo = append(r.undo, func() { r.stopWorker() })
	return r, nil
}

// standIns starts the stand-ins of a scenario in a process of their own. They remember where they were put: in a folder of one rig, so that
// the next one begins as its scenario says.
func standIns(dir, scenario string) (stop func(), err error) {
	file := filepath.Join(dir, "scenario.yaml")
	if err := os.WriteFile(file, []byte(scenario), 0o644); err != nil {
		return nil, err
	}
	media, err := filepath.Abs(filepath.Join(".unlatch", "media"))
	if err == nil {
		err = os.Symlink(media, filepath.Join(dir, "media"))
	}
	if err != nil {
		return nil, err
	}
	end, err := background("are running", "sim", "--scenario", file, "--data", dir)
	return func() { end() }, err
}

// devices returns the IDs of the site's devices, in order of address.
func (r *rig) devices(ctx context.Context) ([]uuid.UUID, error) {
	list, err := r.store.Devices.List(ctx, r.site.ID)
	ids := make([]uuid.UUID, len(list))
	for i := range list {
		ids[i] = list[i].ID
	}
	return ids, err
}

// carryOut begins work, waits for its end and returns how long it took.
func (r *rig) carryOut(ctx context.Context, work command.Work) (time.Duration, error) {
	began := time.Now()
	run, err := r.queue.Begin(ctx, r.site.ID, work)
	if err == nil {
		err = finished(ctx, r.store, run)
	}
	return time.Since(began), err
}
