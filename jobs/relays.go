package jobs

import (
	"context"
	"net"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/work/convert"
	"unlatch/store"
)

// relaysEvery is how often the list of relays is read when no event says that it has changed.
const relaysEvery = 5 * time.Second

// ServeRelays serves the streams of the sites that this process reaches at some ports, until ctx ends.
func (w *Workers) ServeRelays(ctx context.Context, reached []string, ports RelayPorts) {
	e := w.env
	uses := &relayUses{env: e, seen: map[string]time.Time{}}
	x := w.newRelayed(ports, func(id, from string) { go uses.noteTaken(ctx, id, from) })
	defer x.close()
	e.relaying.Store(x.rtsp)
	defer e.relaying.Store(nil)
	told := make(chan struct{}, 1)
	tell := func() {
		select {
		case told <- struct{}{}:
		default:
		}
	}
	go e.measureConverting(ctx)
	var watching sync.WaitGroup
	defer watching.Wait()
	if w.faces != "" {
		watching.Go(func() {
			if err := x.faces.announcer.Run(ctx); err != nil && ctx.Err() == nil {
				e.log.Warn("nobody finds the faces of relays by searching", "err", err)
			}
		})
	}
	go e.store.Listen(ctx, func(event store.Event) {
		if event.What == "relay" || event.What == "site" {
			tell()
		}
	}, tell)
	watching.Go(func() { x.keep(ctx, reached, told) })
	var serving sync.WaitGroup
	serve := func(l net.Listener, by func(context.Context, net.Listener) error) {
		serving.Go(func() {
			if err := by(ctx, l); err != nil && ctx.Err() == nil {
				e.log.Error("relays are not served any more", "at", l.Addr(), "err", err)
			}
		})
	}
	for _, l := range ports.Streams {
		serve(l, x.rtsp.Serve)
	}
	if ports.Pages != nil {
		serve(ports.Pages, x.servePages)
	}
	serving.Wait()
}

// keep keeps what is handed on as it is to be, until ctx ends. told says that something has changed.
func (x *relayed) keep(ctx context.Context, reached []string, told <-chan struct{}) {
	defer x.faces.close()
	for {
		if err := x.renew(ctx, reach(reached)); err != nil && ctx.Err() == nil {
			x.env.log.Warn("the relays cannot be kept up to date", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-told:
		case <-time.After(relaysEvery):
		}
	}
}

// measureConverting measures what converting costs on this machine, and has the process tell of it.
func (e *env) measureConverting(ctx context.Context) {
	rates, err := convert.Measure(ctx)
	if err != nil {
		if ctx.Err() == nil {
			e.log.Warn("what converting streams costs on this machine could not be measured", "err", err)
		}
		return
	}
	rates.Budget = e.converting.Rates().Budget
	e.converting.Set(rates)
	e.measured.Store(true)
	select {
	case e.again <- struct{}{}:
	default:
	}
}

// Bounds of making a relay ready for a target that is given it.
const (
	servedBy = 10 * time.Second // for the worker that serves it to hear of it
	warmFor  = 30 * time.Second
)

// warm makes a relay ready before a target is told of it: targets wait a few seconds for their first picture, and a conversion takes some
// of them to begin. Where it cannot be made ready the target says so.
func (e *env) warm(ctx context.Context, id uuid.UUID) {
	ctx, done := context.WithTimeout(ctx, servedBy)
	defer done()
	r, err := e.store.Relays.Get(ctx, id)
	if err != nil {
		return
	}
	for {
		if server := e.relaying.Load(); server != nil && server.Serves(id.String()) {
			break
		}
		if all, err := e.store.Relays.Statuses(ctx, r.Site); err != nil || all[id.String()].At.After(r.Created) && e.relaying.Load() == nil {
			return // another process serves it
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(100 * time.Millisecond):
		}
	}
	c, err := e.takeAs(ctx, r.Device, r.Role, r.Form.V)
	if err != nil {
		e.log.Debug("a relay is not ready", "path", r.Path, "err", err)
		return
	}
	time.AfterFunc(warmFor, c.Close)
}

// relayUses keeps who takes relays in the record: once an hour for each address, since many ask anew all the time.
type relayUses struct {
	env  *env
	mu   sync.Mutex
	seen map[string]time.Time // by relay and address
}

// Bounds of what is remembered of uses.
const (
	useEvery = time.Hour
	mostUses = 10_000
)

// noteTaken writes into the record that a relay was taken, at most once an hour for each taker.
func (u *relayUses) noteTaken(ctx context.Context, id, from string) {
	u.mu.Lock()
	if key := id + " " + from; time.Since(u.seen[key]) < useEvery {
		u.mu.Unlock()
		return
	} else if len(u.seen) >= mostUses {
		u.seen = map[string]time.Time{key: time.Now()}
	} else {
		u.seen[key] = time.Now()
	}
	u.mu.Unlock()
	relay, err := uuid.Parse(id)
	if err != nil {
		return
	}
	if err := u.write(ctx, relay, from); err != nil && ctx.Err() == nil {
		u.env.log.Warn("who takes a relay could not be kept in the record", "err", err)
	}
}

func (u *relayUses) write(ctx context.Context, id uuid.UUID, from string) error {
	s := u.env.store
	r, err := s.Relays.Get(ctx, id)
	if err != nil {
		return err
	}
	acts := s.Acts()
	return acts.Together(ctx, func(ctx context.Context) error {
		return acts.Write(ctx, act.Person{Name: r.User}, act.About{Name: "take-relay", Site: r.Site},
			act.Line{Subject: r.Path, Devices: []uuid.UUID{r.Device}, After: "from " + from})
	})
}

// renew reads which relays there are, and tells how they go. One whose sign-in cannot be read is left out.
func (x *relayed) renew(ctx context.Context, reached reach) error {
	e := x.env
	sites, err := e.store.Sites.List(ctx)
	if err != nil {
		return err
	}
	var ids []uuid.UUID
	for _, s := range sites {
		if reached.includes(s) {
			ids = append(ids, s.ID)
		}
	}
	all, err := e.store.Relays.List(ctx, ids...)
	if err != nil {
		return err
	}
	var list []openedRelay
	for _, r := range all {
		opened := openedRelay{Relay: r}
		if opened.secret, err = e.store.Relays.Secret(ctx, r.ID); err == nil && r.Push.V != nil {
			opened.key, err = e.store.Relays.Key(ctx, r.ID)
		}
		if err != nil {
			e.log.Warn("the sign-in of a relay cannot be read", "path", r.Path, "err", err)
			continue
		}
		list = append(list, opened)
	}
	x.set(ctx, list)
	return e.store.Relays.Going(ctx, x.going(list))
}
