package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/signin"
	"unlatch/jobs"
	"unlatch/sim/netns"
	"unlatch/sim/scene"
	"unlatch/store"
)

const afarRange = "127.60.12.0/26"

const afarYard = `
name: afar
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Line, maker: corvane, model: V4, address: 127.60.12.10, count: 40, scene: viaduct, caption: "", streams: [{width: 320,
       height: 180, fps: 5, kbps: 150, gop: 5}, {width: 160, height: 90, fps: 5, kbps: 60, gop: 5}]}
`

// A longLine carries a worker's connections to its database, each piece so much later, and counts the bytes. It is switched while it is
// used.
type longLine struct {
	host  string
	later atomic.Int64 // each way, in nanoseconds
	bytes atomic.Int64 // both ways
}

// Dial is a dialer of pgconn.
func (l *longLine) Dial(ctx context.Context, _, _ string) (net.Conn, error) {
	server, err := (&net.Dialer{}).DialContext(ctx, "tcp", l.host)
	if err != nil {
		return nil, err
	}
	near, far := net.Pipe()
	go l.carry(server, far)
	go l.carry(far, server)
	return near, nil
}

// carry carries what comes one way.
func (l *longLine) carry(to io.WriteCloser, from io.Reader) {
	netns.CopyLater(to, counted{from, &l.bytes}, func() time.Duration { return time.Duration(l.later.Load()) })
}

// A counted reader counts what is read.
type counted struct {
	io.Reader
	bytes *atomic.Int64
}

// Read implements io.Reader.
func (c counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.bytes.Add(int64(n))
	return n, err
}

// afar opens the cameras of a site by a paired worker, beside its server and 80 ms away from it.
func afar(ctx context.Context, _ *scene.Library) ([]figure, error) {
	r, err := newRig(ctx, afarYard, afarRange)
	if err != nil {
		return nil, err
	}
	defer r.stop()
	line, stop, err := r.pairWorker(ctx)
	if err != nil {
		return nil, err
	}
	defer stop()
	sweep := func() (time.Duration, error) {
		return r.carryOut(ctx, command.Work{Kind: "sweep", Title: "Sweep", Site: &command.OnSite{Sweep: &command.Sweep{}}})
	}
	if _, err := sweep(); err != nil {
		return nil, err
	}
	sweptNear, err := sweep()
	if err != nil {
		return nil, err
	}
	ids, err := r.devices(ctx)
	if err != nil || len(ids) != 40 {
		return nil, fmt.Errorf("%d devices were heard: %w", len(ids), err)
	}
	open := func(ids []uuid.UUID) (time.Duration, error) {
		return r.carryOut(ctx, command.Work{Kind: "open", Title: "Open", Devices: command.Each(ids, command.Device{Open: &command.Open{}})})
	}
	if _, err := open(ids[:10]); err != nil { // connections and statements are known after it
		return nil, err
	}
	before := line.bytes.Load()
	near, err := open(ids[10:20])
	if err != nil {
		return nil, err
	}
	bytes := (line.bytes.Load() - before) / 10
	line.later.Store(int64(40 * time.Millisecond))
	sweptFar, err := sweep()
	if err != nil {
		return nil, err
	}
	far, err := open(ids[20:30])
	if err != nil {
		return nil, err
	}
	again, err := open(ids[30:])
	if err != nil {
		return nil, err
	}
	far = min(far, again)
	return []figure{
		{"10 cameras opened by a paired worker 80 ms away", far.Round(100 * time.Millisecond).String(),
			near.Round(100*time.Millisecond).String() + " beside its server", fmt.Sprintf("%.2f", far.Seconds()/near.Seconds()), 1.5},
		{"40 cameras swept by it", sweptFar.Round(100 * time.Millisecond).String(), sweptNear.Round(100*time.Millisecond).String() +
			" beside its server", fmt.Sprintf("%.2f", sweptFar.Seconds()/sweptNear.Seconds()), 1.5},
		{"The same: over the line, a camera", fmt.Sprintf("%d kB", bytes>>10), "", "", "stated"},
	}, nil
}

// pairWorker begins a worker with the rights of a paired one, which takes the work of the rig's site, in this process.
func (r *rig) pairWorker(ctx context.Context) (line *longLine, stop func(), err error) {
	i := pairing.NewIdentity("https://bench.example", "")
	a := act.PairWorker{ID: uuid.New(), Key: i.Key().Public(), Recipient: i.Recipient(), Name: "Bench", Shared: true,
		Sites: []uuid.UUID{r.site.ID}}
	token := uuid.NewString()
	if err := r.store.Paired.Ask(ctx, token, token, store.Pairing{Key: a.Key, Recipient: a.Recipient}); err != nil {
		return nil, nil, err
	}
	asked, err := r.store.Paired.Asked(ctx, token)
	if err != nil {
		return nil, nil, err
	}
	a.Request = asked.Request
	if _, err := r.store.Acts().Keep(ctx, act.Person{Name: "bench"}, a.About(), a); err != nil {
		return nil, nil, err
	}
	role, password, err := r.store.Paired.Login(ctx, a.ID)
	if err != nil {
		return nil, nil, err
	}
	at, err := url.Parse(r.store.Pool.Config().ConnString())
	if err != nil {
		return nil, nil, err
	}
	line = &longLine{host: at.Host}
	at.User = url.UserPassword(role, password)
	far, err := store.OpenWith(ctx, store.Options{URL: at.String(), Dial: line.Dial,
		Far: &store.Far{Worker: a.ID, Unwrap: signin.NewSecret(i.Unwrap)}})
	if err != nil {
		return nil, nil, err
	}
	w, err := jobs.StartWorkers(far, slog.New(slog.DiscardHandler), jobs.Options{})
	if err != nil {
		far.Close()
		return nil, nil, err
	}
	return line, func() { w.Stop(); far.Close() }, nil
}
