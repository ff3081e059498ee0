package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/decide/drift"
	"unlatch/core/decide/telling"
	"unlatch/core/decide/watchround"
	"unlatch/core/ground/wiretext"
	"unlatch/core/work/notify"
	"unlatch/store"
)

// tellEvery is how often what is news is looked for.
const tellEvery = 5 * time.Second

// tell queues the news of each site for those who are to be told, until ctx ends. It runs in every worker, and each rule is looked after
// by one of them at a time.
func (e *env) tell(ctx context.Context) {
	for {
		if err := e.tellOnce(ctx); err != nil && ctx.Err() == nil {
			e.log.Warn("what is news cannot be told", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(cmp.Or(e.hooks.TellEvery, tellEvery)):
		}
	}
}

func (e *env) tellOnce(ctx context.Context) error {
	rules, err := e.store.Tellings.Rules(ctx, uuid.Nil)
	if err != nil {
		return err
	}
	for _, r := range rules {
		if r.Off != "" {
			continue
		}
		if _, err := e.store.TryLocked(ctx, r.ID, func(ctx context.Context) error { return e.tellRule(ctx, r) }); err != nil {
			return err
		}
	}
	return nil
}

// tellRule queues the news of one rule, and has them delivered.
func (e *env) tellRule(ctx context.Context, r store.TellRule) error {
	site, err := e.store.Sites.Get(ctx, r.Site)
	if err != nil {
		return err
	}
	rounds, _, err := e.store.Sites.Rounds(ctx, r.Site)
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	list, acts := []store.Tell(nil), r.Acts
	digestDue := r.Form.V.Digest && (r.Digest == nil || !now.Before(*r.Digest))
	if (!r.Form.V.Digest || digestDue) && !rounds.IsQuiet(now) {
		if list, acts, err = e.news(ctx, r, site.Name, rounds, now); err != nil {
			return err
		}
	}
	next := r.Digest
	if digestDue {
		at := nextDigest(r.Form.V.DigestHour, now)
		next = &at
		list = asDigest(list, site, now)
	}
	if len(list) > 0 || acts > r.Acts || digestDue {
		if err := e.store.Tellings.Tell(ctx, r, list, acts, next); err != nil {
			return err
		}
	}
	if r.Waiting == 0 && len(list) == 0 {
		return nil
	}
	_, err = e.queue.client.Insert(ctx, tellArgs{Rule: r.ID}, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: open},
		MaxAttempts: maxAttempts})
	return err
}

// news are the messages of a rule that are due.
func (e *env) news(ctx context.Context, r store.TellRule, site string, rounds watchround.WatchRule, now time.Time) (
	list []store.Tell, acts int64, err error) {
	open, err := e.store.Drifts.Open(ctx, r.Site)
	if err != nil {
		return nil, 0, err
	}
	ended, err := e.store.Tellings.Ended(ctx, r.ID)
	if err != nil {
		return nil, 0, err
	}
	told, err := e.store.Tellings.Told(ctx, r.ID)
	if err != nil {
		return nil, 0, err
	}
	began, over := telling.News(r.Form.V, telling.Known{Open: open, Ended: ended, Told: told, Window: 2 * rounds.Round(false),
		Wait: cmp.Or(e.hooks.TellEvery, telling.Gather)}, now)
	message := func(f drift.Finding, kind telling.Kind) {
		t := store.Tell{Message: telling.OfFinding(f, kind, telling.About{Site: r.Site, Name: site, Link: r.Form.V.Link, At: now}),
			Of: map[uuid.UUID]telling.Told{}}
		for _, x := range f.All() {
			t.Of[x.ID] = telling.Told{Flaps: x.Flaps, Ended: kind == telling.Over}
		}
		list = append(list, t)
	}
	for _, f := range began {
		message(f, telling.Drifted)
	}
	for _, f := range over {
		message(f, telling.Over)
	}
	if r.Form.V.Installation {
		ill, err := e.illNews(ctx, r, telling.About{Site: r.Site, Name: site, Link: r.Form.V.Link, At: now})
		if err != nil {
			return nil, 0, err
		}
		list = append(list, ill...)
	}
	acts = r.Acts
	if !r.Form.V.Acts {
		return list, acts, nil
	}
	lines, err := e.store.Tellings.ActsSince(ctx, r.Site, r.Acts, mostActs)
	if err != nil || len(lines) == 0 {
		return list, acts, err
	}
	m := telling.Message{Kind: telling.Acted, Site: r.Site, SiteName: site, At: now, Link: r.Form.V.Link, Headline: actLine(lines[0])}
	if len(lines) > 1 {
		m.Headline = fmt.Sprintf("%d things were done", len(lines))
		for _, l := range lines {
			m.Changed = append(m.Changed, actLine(l))
		}
	}
	return append(list, store.Tell{Message: m}), lines[len(lines)-1].Number, nil
}

// mostActs is how many lines of the record one message tells of.
const mostActs = 100

func actLine(a store.Acted) string {
	out := strings.TrimSpace(fmt.Sprintf("%s %s %s", a.Person, a.Act.Words(), a.Subject))
	if a.After != "" {
		out += ": " + a.After
	}
	return wiretext.Line(out, 300)
}

// nextDigest returns the next time that it is an hour.
func nextDigest(hour int, now time.Time) time.Time {
	at := time.Date(now.Year(), now.Month(), now.Day(), hour, 0, 0, 0, time.UTC)
	if !at.After(now) {
		at = at.AddDate(0, 0, 1)
	}
	return at
}

// asDigest puts messages together as one.
func asDigest(list []store.Tell, site store.Site, now time.Time) []store.Tell {
	if len(list) == 0 {
		return nil
	}
	out := store.Tell{Of: map[uuid.UUID]telling.Told{}, Ill: map[string]string{}}
	var items []telling.Message
	for _, t := range list {
		items = append(items, t.Message)
		for id, told := range t.Of {
			out.Of[id] = told
		}
		maps.Copy(out.Ill, t.Ill)
	}
	out.Message = together(items, site.ID, site.Name, now)
	return []store.Tell{out}
}

// together is one message of many.
func together(items []telling.Message, site uuid.UUID, name string, now time.Time) telling.Message {
	const most = 200
	m := telling.Message{Kind: telling.Digest, Site: site, SiteName: wiretext.Line(name, 200), At: now, Link: items[0].Link,
		Headline: fmt.Sprintf("%d messages", len(items)), Items: items[:min(len(items), most)]}
	if len(items) == 1 {
		m.Headline = items[0].Headline
	}
	return m
}

// tellArgs is a job: what waits of a rule is delivered, in its order.
type tellArgs struct {
	Rule uuid.UUID `json:"rule"`
}

// Kind implements river.JobArgs.
func (tellArgs) Kind() string { return "tell" }

type tellWorker struct {
	river.WorkerDefaults[tellArgs]
	env *env
}

// flood is how many messages may wait behind one that was not taken before they are put together.
const flood = 5

// Work delivers what waits. A message that is not taken is tried again later, and those behind it wait, so that they arrive in their
// order; if the process dies between sending and noting that, it is sent once more.
func (w *tellWorker) Work(ctx context.Context, job *river.Job[tellArgs]) error {
	s := w.env.store
	r, err := s.Tellings.Rule(ctx, job.Args.Rule)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return w.env.finish(ctx, uuid.Nil, err)
	}
	for r.Off == "" {
		t, err := s.Tellings.Next(ctx, r.ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err == nil && t.Tries >= 3 && t.Body.V.Kind != telling.Digest {
			t, err = w.fold(ctx, r, t)
		}
		if err != nil {
			return w.env.finish(ctx, uuid.Nil, err)
		}
		if wait := time.Until(t.Next); wait > 0 {
			return river.JobSnooze(wait)
		}
		again, err := w.deliver(ctx, r, t)
		if err != nil {
			return w.env.finish(ctx, uuid.Nil, err)
		}
		if again > 0 {
			return river.JobSnooze(again)
		}
	}
	return nil
}

// fold puts what waits together where it has become a flood, and returns what is to be delivered then.
func (w *tellWorker) fold(ctx context.Context, r store.TellRule, t store.Telling) (store.Telling, error) {
	list, err := w.env.store.Tellings.Pending(ctx, r.ID)
	if err != nil || len(list) <= flood {
		return t, err
	}
	items := make([]telling.Message, len(list))
	for i, x := range list {
		items[i] = x.Body.V
	}
	if err := w.env.store.Tellings.Fold(ctx, r, together(items, r.Site, items[0].SiteName, time.Now().UTC())); err != nil {
		return t, err
	}
	return w.env.store.Tellings.Next(ctx, r.ID)
}

// deliver sends one message. again is after how long it is tried again; 0 where it was taken or given up.
func (w *tellWorker) deliver(ctx context.Context, r store.TellRule, t store.Telling) (again time.Duration, err error) {
	s := w.env.store
	secret, err := s.Tellings.Secret(ctx, r.ID)
	if err != nil {
		return 0, err
	}
	err = notify.Sender{}.Send(ctx, r.Form.V, secret, t.ID, t.Body.V)
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	if err == nil {
		return 0, s.Tellings.Delivered(ctx, r.Site, t.ID, "", time.Time{})
	}
	why := wiretext.Line(err.Error(), 200)
	if errors.As(err, new(*notify.GoneError)) {
		if err := s.Tellings.SwitchOff(ctx, r.ID, why); err != nil {
			return 0, err
		}
		return 0, s.Tellings.Delivered(ctx, r.Site, t.ID, why, time.Time{})
	}
	if time.Since(t.Made) > telling.GiveUpAfter {
		return 0, s.Tellings.Delivered(ctx, r.Site, t.ID, why, time.Time{})
	}
	again = cmp.Or(w.env.hooks.TellEvery, telling.Backoff(t.Tries+1))
	return again, s.Tellings.Delivered(ctx, r.Site, t.ID, why, time.Now().Add(again))
}
