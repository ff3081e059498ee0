package jobs

import (
	"cmp"
	"context"
	"encoding/json"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/away"
	"unlatch/core/decide/drift"
	"unlatch/core/ground/address"
	"unlatch/core/ground/journal"
	"unlatch/core/work/bringup"
	"unlatch/store"
)

// Tuning of the watch while the database is away.
const (
	awayAfter  = 30 * time.Second // without an answer
	awayAtOnce = 8                // looks at once
	mostHeld   = 2000             // cameras that are held
	holdAnew   = time.Hour        // how old what is held of a camera may be
)

// awayWatch goes on looking at the cameras of a worker elsewhere while its line is cut, with what it holds of them in memory, and keeps
// what it sees in a journal. When the line is back that is filed before anything else is looked at.
type awayWatch struct {
	env     *env
	journal *journal.Journal
	clock   stamper

	mu       sync.Mutex
	answered time.Duration // when the database answered last
	held     map[uuid.UUID]*heldCamera
	looking  sync.WaitGroup
	filing   bool
	lost     int // looks for which the journal had no room
}

// A stamper tells the time of what is seen.
type stamper interface{ Stamp() away.Stamp }

// processClock is the clock of this process.
type processClock struct {
	began time.Time
	run   string
}

func (c processClock) Stamp() away.Stamp {
	now := time.Now()
	return away.Stamp{Run: c.run, Up: now.Sub(c.began), Wall: now.UTC()}
}

func newAwayWatch(e *env, j *journal.Journal, clock stamper) *awayWatch {
	if clock == nil {
		clock = processClock{time.Now(), uuid.NewString()}
	}
	return &awayWatch{env: e, journal: j, clock: clock, held: map[uuid.UUID]*heldCamera{}, answered: clock.Stamp().Up}
}

// heard notes that the database has answered.
func (a *awayWatch) heard() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.answered = a.clock.Stamp().Up
}

// hold keeps what is needed of a camera that was just looked at. What cannot be read is held as it was.
func (a *awayWatch) hold(ctx context.Context, t store.Turn, anew bool) {
	now := a.clock.Stamp().Up
	a.mu.Lock()
	c := a.held[t.Thing]
	if c != nil {
		c.turn, c.looked = t, now
	}
	full := c == nil && len(a.held) >= mostHeld
	a.mu.Unlock()
	if full || c != nil && !anew && now-c.at < holdAnew {
		return
	}
	fresh, err := a.read(ctx, t)
	if err != nil {
		a.env.log.DebugContext(ctx, "a camera cannot be held for when the line is cut", "device", t.Thing, "err", err)
		return
	}
	fresh.at, fresh.looked = now, now
	a.mu.Lock()
	defer a.mu.Unlock()
	a.held[t.Thing] = fresh
}

// read reads what is to be held of a camera: its status, where it may be reached, and the sign-ins that have opened it.
func (a *awayWatch) read(ctx context.Context, t store.Turn) (*heldCamera, error) {
	s := a.env.store
	d, err := s.Devices.Hold(ctx, t.Thing)
	if err != nil {
		return nil, err
	}
	c := &heldCamera{turn: t, device: d, keys: map[uuid.UUID]heldKey{}}
	if c.way, err = s.Sites.WayOut(ctx, t.Site); err != nil {
		return nil, err
	}
	var ids []uuid.UUID
	if in := d.Status.SignedIn; in != nil && in.Diagnosis == nil {
		ids = append(ids, in.SignIn)
	}
	if k := d.Status.StreamKey; k != nil {
		ids = append(ids, k.SignIn)
	}
	for _, id := range ids {
		if id == uuid.Nil {
			continue
		}
		entry, err := s.SignIns.Get(ctx, id)
		if err != nil {
			return nil, err
		}
		in, err := s.SignIns.Decrypt(ctx, id)
		if err != nil {
			return nil, err
		}
		key := keyOf(entry, d.ID)
		key.Opened = true
		c.keys[id] = heldKey{key, in}
	}
	return c, nil
}

// run looks while the database is away, until ctx ends.
func (a *awayWatch) run(ctx context.Context) {
	defer a.looking.Wait()
	slots := make(chan struct{}, awayAtOnce)
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(cmp.Or(a.env.hooks.RoundsEvery, claimEvery)):
		}
		for _, c := range a.due() {
			slots <- struct{}{}
			a.looking.Go(func() {
				defer func() { <-slots }()
				defer a.env.survive(c.turn.Thing)
				defer a.looked(c)
				a.look(ctx, c)
			})
		}
	}
}

// due returns the cameras that are to be looked at now, where the line is cut.
func (a *awayWatch) due() (out []*heldCamera) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.clock.Stamp().Up
	if a.filing || now-a.answered < cmp.Or(a.env.hooks.AwayAfter, awayAfter) {
		return nil
	}
	for _, c := range a.held {
		if !c.going && now-c.looked >= c.turn.Round() {
			c.going, c.looked = true, now
			out = append(out, c)
		}
	}
	return out
}

func (a *awayWatch) looked(c *heldCamera) {
	a.mu.Lock()
	defer a.mu.Unlock()
	c.going = false
}

// look looks at one camera and keeps what came of it in the journal.
func (a *awayWatch) look(ctx context.Context, c *heldCamera) {
	ctx, cancel := context.WithTimeout(ctx, lookBudget)
	defer cancel()
	began := time.Now()
	seen := away.Look{Thing: c.turn.Thing, Site: c.turn.Site, RoundS: c.turn.RoundS}
	guard := c.way.Guard()
	guard.Resolver, guard.Count = a.env.resolver, &address.Count{}
	keys := &heldKeyring{c: c, look: &seen, begun: map[uuid.UUID]away.Try{}}
	w := bringup.Start(c.device.Latch(), bringup.Config{Record: heldRecord{camera: c, look: &seen}, Keyring: keys,
		Report: quietly{a.env}, Guard: guard, Link: a.env.links.of(c.way.Site), Unattended: true, OnlyKnown: true, OnlyNews: true})
	defer w.Close()
	look, err := w.LookInRound(ctx, false)
	if err != nil {
		a.env.log.WarnContext(ctx, "a look while the line is cut did not come to its end", "thing", c.turn.Thing, "err", err)
		return
	}
	seen.First = a.clock.Stamp()
	seen.Last, seen.Full, seen.Measures = seen.First, look.Full, look.Measures
	var found []drift.Drift
	if agreed := a.env.agreements.of(c.turn.Site).agreed; agreed != nil {
		found = agreed.Find(c.device.Latch())
	}
	seen.State = stateOf(look, found)
	seen.Requests, seen.Bytes, seen.Sessions, seen.Took = w.Log().Requests(), guard.Count.Bytes(), guard.Count.Sessions(), time.Since(began)
	raw, err := json.Marshal(seen)
	if err == nil {
		err = a.journal.Append(raw)
	}
	if err != nil {
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.lost++; a.lost == 1 { // the next ones are counted
			a.env.log.Warn("what is seen while the line is cut cannot be kept any more", "err", err)
		}
	}
}

// Kept returns how many looks wait to be filed.
func (w *Workers) Kept() int {
	if w.env.away == nil {
		return 0
	}
	return w.env.away.journal.Len()
}
