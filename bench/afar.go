package main

import (
	"compress/flate"
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
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

const afarRange = "127.60.12.0/24"

const afarYard = `
name: afar
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Line, maker: corvane, model: V4, address: 127.60.12.10, count: 230, scene: viaduct, caption: "", streams: [{width: 320,
       height: 180, fps: 5, kbps: 150, gop: 5}, {width: 160, height: 90, fps: 5, kbps: 60, gop: 5}]}
`

// A longLine carries a worker's connections to its database, each piece so much later, and counts the bytes. It is switched while it is
// used.
type longLine struct {
	host  string
	later atomic.Int64 // each way, in nanoseconds
	lossy atomic.Bool  // one piece of a hundred comes only once it is sent again
	up    flow         // from the worker
	down  flow
}

// A flow is how much went one way, as it is and as it is compressed on a link.
type flow struct{ bytes, packed atomic.Int64 }

// reset begins to count anew.
func (f *flow) reset() {
	f.bytes.Store(0)
	f.packed.Store(0)
}

// share returns the kB of n cameras' share each.
func (f *flow) share(n int64) string {
	return fmt.Sprintf("%d kB (%d as it is)", f.packed.Load()/n>>10, f.bytes.Load()/n>>10)
}

// sentAgain is after how long a piece that was lost is sent again: TCP's least wait (RFC 6298 says 1 s, and systems 200 ms).
const sentAgain = 200 * time.Millisecond

// Dial is a dialer of pgconn.
func (l *longLine) Dial(ctx context.Context, _, _ string) (net.Conn, error) {
	server, err := (&net.Dialer{}).DialContext(ctx, "tcp", l.host)
	if err != nil {
		return nil, err
	}
	near, far := net.Pipe()
	go l.carry(server, far, &l.up)
	go l.carry(far, server, &l.down)
	return near, nil
}

// carry carries what comes one way.
func (l *longLine) carry(to io.WriteCloser, from io.Reader, f *flow) {
	netns.CopyLater(to, newCounted(from, f), func() time.Duration {
		later := time.Duration(l.later.Load())
		if l.lossy.Load() && rand.IntN(100) == 0 {
			later += sentAgain
		}
		return later
	})
}

// A counted reader counts what is read, and what it would be on a link.
type counted struct {
	io.Reader
	f    *flow
	pack *flate.Writer
}

func newCounted(r io.Reader, f *flow) *counted {
	c := &counted{Reader: r, f: f}
	c.pack, _ = flate.NewWriter(c, flate.BestSpeed) // its level is one that there is
	return c
}

// Write implements io.Writer: it takes what was compressed.
func (c *counted) Write(p []byte) (int, error) {
	c.f.packed.Add(int64(len(p)))
	return len(p), nil
}

// Read implements io.Reader.
func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.f.bytes.Add(int64(n))
	if n > 0 {
		c.pack.Write(p[:n])
		c.pack.Flush()
	}
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
	if err != nil || len(ids) != 230 {
		return nil, fmt.Errorf("%d devices were heard: %w", len(ids), err)
	}
	open := func(ids []uuid.UUID) (time.Duration, error) {
		return r.carryOut(ctx, command.Work{Kind: "open", Title: "Open", Devices: command.Each(ids, command.Device{Open: &command.Open{}})})
	}
	if _, err := open(ids[:30]); err != nil { // connections and statements are known after it
		return nil, err
	}
	near, err := open(ids[30:130])
	if err != nil {
		return nil, err
	}
	line.later.Store(int64(40 * time.Millisecond))
	line.lossy.Store(true)
	sweptFar, err := sweep()
	if err != nil {
		return nil, err
	}
	line.up.reset()
	line.down.reset()
	far, err := open(ids[130:])
	if err != nil {
		return nil, err
	}
	return []figure{
		{"100 cameras opened by a paired worker 80 ms away, 1 % lost", far.Round(100 * time.Millisecond).String(),
			near.Round(100*time.Millisecond).String() + " beside its server", fmt.Sprintf("%.2f", far.Seconds()/near.Seconds()), 1.5},
		{"230 cameras swept by it", sweptFar.Round(100 * time.Millisecond).String(), sweptNear.Round(100*time.Millisecond).String() +
			" beside its server", fmt.Sprintf("%.2f", sweptFar.Seconds()/sweptNear.Seconds()), 1.5},
		{"A camera opened, up the line", line.up.share(100), "", "", "stated"},
		{"A camera opened, down the line", line.down.share(100), "", "", "stated"},
	}, nil
}

// pairWorker begins a worker with the rights of a paired one, which takes the work of the rig's site, in this process.
func (r *rig) pairWorker(ctx context.Context) (line *longLine, stop func(), err error) {
	i := pairing.NewIdentity("https://bench.example", "")
	a := act.PairWorker{ID: uuid.New(), Key: i.Key().Public(), Recipient: i.Recipient(), Name: "Bench", Shared: true,
		Sites: []uuid.UUID{r.site.ID}}
	if err := keepPaired(ctx, r.store, a); err != nil {
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

// keepPaired makes a machine a paired worker, as if it had asked and somebody had typed its code.
func keepPaired(ctx context.Context, s *store.Store, a act.PairWorker) (err error) {
	if a.Request, err = s.Paired.AskAtHand(ctx, store.Pairing{Key: a.Key, Recipient: a.Recipient}); err != nil {
		return err
	}
	_, err = s.Acts().Keep(ctx, act.Person{Name: "bench"}, a.About(), a)
	return err
}
