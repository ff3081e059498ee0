package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"unlatch/core/work/live"
	"unlatch/jobs"
	"unlatch/store"
)

// errNoPictures is for a site whose worker sends no pictures.
var errNoPictures = &live.Trouble{
	Problem: "The worker that reaches this site runs on another machine and has no connection for pictures to this server.",
	Fix:     "Start it with --server and this server's address; while it connects anew, wait a moment."}

// remotePictures are the workers on other machines that send pictures, by name.
type remotePictures struct {
	store  *store.Store
	now    func() time.Time
	log    *slog.Logger
	hub    live.Hub
	mu     sync.Mutex
	byName map[string]*live.Remote
}

// Watch implements Live.
func (e *remotePictures) Watch(ctx context.Context, device uuid.UUID, role string, wish live.Wish) (*live.Viewer, error) {
	d, err := e.store.Devices.Get(ctx, device)
	if err != nil {
		return nil, err
	}
	names, err := e.store.Workers.Reaching(ctx, d.Site)
	if err != nil {
		return nil, err
	}
	e.mu.Lock()
	var from *live.Remote
	for _, name := range names {
		if from = e.byName[name]; from != nil {
			break
		}
	}
	e.mu.Unlock()
	if from == nil {
		return nil, errNoPictures
	}
	// Those with one wish share what comes; the worker has one session with the device for all wishes.
	key := fmt.Sprintf("%s %s %t %t %t", device, role, wish.H265, wish.Made, wish.Sound)
	return e.hub.Watch(key, wish, from.Source(device.String(), role, wish))
}

// admit reports which worker shows a pass that is good, and takes it: it is not good again.
func (e *remotePictures) admit(ctx context.Context, header string, now time.Time) (worker string, ok bool) {
	text, ok := strings.CutPrefix(header, "Bearer ")
	if !ok {
		return "", false
	}
	return e.store.Workers.Passed(ctx, text, now)
}

// ServeHTTP takes the connection by which a worker elsewhere sends pictures.
func (e *remotePictures) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	worker, ok := e.admit(r.Context(), r.Header.Get("Authorization"), e.now())
	if !ok {
		writeProblem(w, problem(http.StatusUnauthorized, "no_pass", "Only workers of this database connect here.",
			"Give the worker this server's key file (--data) and database; the two machines' clocks must agree to two minutes."))
		return
	}
	conn, err := websocket.Accept(w, r, nil)
	if err != nil {
		return
	}
	defer conn.CloseNow()
	ctx, end := context.WithCancel(r.Context())
	defer end()
	go jobs.Beat(ctx, conn)
	e.run(ctx, worker, jobs.Pipe{Conn: conn})
}

// take takes the pictures that a paired worker sends: its first message is the name that it has in its lease.
func (e *remotePictures) take(ctx context.Context, paired uuid.UUID, p live.Pipe) {
	begin, done := context.WithTimeout(ctx, 20*time.Second)
	defer done()
	name, err := p.Receive(begin)
	if err != nil || len(name) > maxWorkerName {
		return
	}
	if yes, err := e.store.Workers.Belongs(begin, string(name), paired); err == nil && yes {
		e.run(ctx, string(name), p)
	}
}

// maxWorkerName bounds the name of a worker, in bytes.
const maxWorkerName = 200

// run takes what a worker sends until its connection ends.
func (e *remotePictures) run(ctx context.Context, worker string, p live.Pipe) {
	from := live.NewRemote(p)
	e.mu.Lock()
	e.byName[worker] = from
	e.mu.Unlock()
	err := from.Run(ctx)
	e.mu.Lock()
	if e.byName[worker] == from {
		delete(e.byName, worker)
	}
	e.mu.Unlock()
	if !errors.Is(err, context.Canceled) {
		e.log.Info("a worker's connection for pictures ended", "worker", worker, "err", err)
	}
}
