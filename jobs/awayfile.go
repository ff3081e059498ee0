package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/away"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/journal"
	"unlatch/store"
)

// file files what the journal has, once the database answers again. What somebody has seen since is not filed.
func (a *awayWatch) file(ctx context.Context) error {
	if a.journal.Len() == 0 {
		return nil
	}
	a.mu.Lock()
	a.filing = true
	a.mu.Unlock()
	defer func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.filing = false
	}()
	a.looking.Wait()
	looks, err := a.entries(ctx)
	if err != nil {
		return err
	}
	filed, since, refused := 0, 0, 0
	for _, x := range looks {
		switch err := a.fileOne(ctx, x); {
		case errors.Is(err, store.ErrLookedSince) || errors.Is(err, store.ErrNotFound):
			since++
		case hopeless(ctx, err):
			return err
		case err != nil: // one that cannot be filed keeps no other from it
			refused++
			a.env.log.WarnContext(ctx, "a look that was made while the line was cut cannot be filed", "thing", x.Thing, "err", err)
		default:
			filed++
		}
	}
	a.mu.Lock()
	lost := a.lost
	a.lost, a.held = 0, map[uuid.UUID]*heldCamera{} // what was seen is on record: it is read anew
	a.mu.Unlock()
	a.env.log.InfoContext(ctx, "what was seen while the line was cut is filed", "looks", filed, "seen by others since", since,
		"refused", refused, "not kept", lost)
	return a.journal.Clear()
}

// A timedLook is a look with when it was by the clock of the database.
type timedLook struct {
	away.Look
	from, to time.Time
}

// An awayEntry is an entry of the journal: a look, or a moment at which the time of the database was known, by which the looks before it
// are timed. So they are of the same time whenever they are filed, and one that was filed already is known by it.
type awayEntry struct {
	away.Look
	Base *away.Base `json:"base,omitempty"`
}

// entries returns the looks of the journal, those that found the same taken together.
func (a *awayWatch) entries(ctx context.Context) (out []timedLook, err error) {
	now, err := a.env.store.Now(ctx)
	if err != nil {
		return nil, err
	}
	base, err := json.Marshal(awayEntry{Base: &away.Base{Stamp: a.clock.Stamp(), At: now}})
	if err == nil {
		err = a.journal.Append(base)
	}
	last := away.Base{Stamp: a.clock.Stamp(), At: now} // where there was no room for it
	if err != nil && !errors.Is(err, journal.ErrFull) {
		return nil, err
	}
	var m away.Merger
	var untimed []away.Look
	timed := func(b away.Base) {
		for _, l := range append(untimed, m.Rest()...) {
			out = append(out, timedLook{l, b.Time(l.First), b.Time(l.Last)})
		}
		untimed = nil
	}
	err = a.journal.Each(func(raw []byte) error {
		var e awayEntry
		if err := json.Unmarshal(raw, &e); err != nil {
			return err
		}
		if e.Base != nil {
			timed(*e.Base)
			return nil
		}
		if l, ok := m.Add(e.Look); ok {
			untimed = append(untimed, l)
		}
		return nil
	})
	timed(last)
	return out, err
}

// fileOne files one look, and settles the drifts that it tells of.
func (a *awayWatch) fileOne(ctx context.Context, x timedLook) error {
	found := make([]store.Finding, len(x.Findings))
	for i, f := range x.Findings {
		body, err := evidence.Record{Kind: f.Kind, Subject: f.Subject, Body: f.Body}.Read()
		if err != nil {
			return err
		}
		found[i] = store.Finding{Subject: f.Subject, Body: body, Exchange: f.Exchange, Still: f.Still, StillID: f.StillID, At: x.from}
	}
	for _, t := range x.Tries {
		err := a.env.store.SignIns.FileTry(ctx, t.ID, store.Try{Device: x.Thing, SignIn: t.SignIn, Purpose: t.Purpose, Host: t.Host}, t.Result,
			x.from, t.Wait)
		if err != nil {
			return err
		}
	}
	before, err := a.env.store.Watched.Last(ctx, x.Thing)
	if err != nil {
		return err
	}
	t := store.Turn{Thing: x.Thing, Site: x.Site, RoundS: x.RoundS}
	looked := store.Looked{At: x.to, From: x.from, Full: x.Full, State: x.State, Requests: x.Requests, Bytes: x.Bytes, Sessions: x.Sessions,
		Took: x.Took}
	if err := a.env.store.Watched.FileLook(ctx, t, found, x.Measures, looked); err != nil {
		return err
	}
	_, err = a.env.settle(ctx, x.Thing, timeOf(before.Looked), x.to)
	return err
}
