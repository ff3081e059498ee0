package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/store"
)

// hub hands the database's events on to the pages that watch a site.
type hub struct {
	mu       sync.Mutex
	watchers map[*watcher]bool
}

// A watcher is one page, of one site, or of all for the nil UUID: that one is told which sites have changed. What changes again
// before it was told is told once, so that a slow page misses nothing and holds nobody up.
type watcher struct {
	site    uuid.UUID
	wake    chan struct{}
	pending []store.Event // in order, none twice; guarded by hub.mu
	has     map[store.Event]bool
	// Of a page of one site: who looks, the page's own name, and the camera that it has open; guarded by hub.mu.
	who    act.Person
	page   uuid.UUID
	device uuid.UUID
}

func newHub() *hub { return &hub{watchers: map[*watcher]bool{}} }

func (h *hub) watch(site uuid.UUID) (*watcher, func()) {
	w := &watcher{site: site, wake: make(chan struct{}, 1), has: map[store.Event]bool{}}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.watchers[w] = true
	return w, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.watchers, w)
		if w.who.ID != uuid.Nil {
			h.tellHere(w.site)
		}
	}
}

func (h *hub) publish(e store.Event) {
	if e.What == store.SessionEnded {
		h.wakeAll()
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		switch w.site {
		case e.Site:
			w.add(e)
		case uuid.Nil:
			w.add(store.Event{Site: e.Site, What: "site", ID: e.Site})
		}
	}
}

// resync tells every page to ask again, after a gap in which events may have been missed.
func (h *hub) resync() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		w.add(store.Event{Site: w.site, What: "site", ID: w.site})
	}
}

// wakeAll has every page look whether it may still be told anything.
func (h *hub) wakeAll() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		select {
		case w.wake <- struct{}{}:
		default:
		}
	}
}

// add keeps an event until it is taken; the caller holds hub.mu.
func (w *watcher) add(e store.Event) {
	if w.has[e] {
		return
	}
	w.has[e], w.pending = true, append(w.pending, e)
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// take returns what is to be told.
func (h *hub) take(w *watcher) []store.Event {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := w.pending
	w.pending = nil
	clear(w.has)
	return out
}

// pages are told and shown what happens for as long as they are open.
type pages struct {
	acts
	store  *store.Store
	hub    *hub
	lineUp *lineUp
	from   Live // where live pictures come from
	// viewers counts the live pictures that are looked at.
	viewers *atomic.Int64
}

// events streams a site's changes as server-sent events until the page goes away: of devices what has changed, of runs and the site itself
// their identity, by which the page asks for what it shows.
func (s pages) events(w http.ResponseWriter, r *http.Request) {
	site, err := uuid.Parse(chi.URLParam(r, "site"))
	if err != nil {
		writeProblem(w, problem(404, "not_found", "There is no such site.", ""))
		return
	}
	version := r.URL.Query().Get("since")
	s.stream(w, r, site, "site", gather, func(page *watcher, events []store.Event) {
		if len(events) == 0 {
			fmt.Fprintf(w, "event: page\ndata: %s\n\n", s.hub.enter(page, person(r.Context())))
		}
		devices := false
		for _, e := range events {
			devices = devices || e.What == "device" || e.What == "site"
			switch e.What {
			case "device":
			case here:
				s.hub.tellOthers(w, page)
			default:
				fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.What, e.ID)
			}
		}
		if devices || len(events) == 0 && version != "" { // the latter at the beginning: what has changed while the page was not told
			version = s.tellChanges(r.Context(), w, site, version)
		}
	})
}

// stream holds a page's stream of server-sent events open for as long as its session and the page last. It greets with an event of a name
// and calls tell: at first with no events, then with those that came within a time of each other.
func (s pages) stream(w http.ResponseWriter, r *http.Request, site uuid.UUID, greeting string, within time.Duration,
	tell func(*watcher, []store.Event)) {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	out := http.NewResponseController(w)
	page, done := s.hub.watch(site)
	defer done()
	fmt.Fprintf(w, "retry: 1000\nevent: %s\ndata: %s\n\n", greeting, site)
	tell(page, nil)
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		if err := out.Flush(); err != nil {
			return
		}
		out.SetWriteDeadline(time.Time{}) // what comes next has a time of its own
		select {
		case <-r.Context().Done():
			return
		case <-beat.C:
			if !s.sessionHolds(r) {
				return
			}
			out.SetWriteDeadline(time.Now().Add(writeTime))
			fmt.Fprint(w, ": still here\n\n")
		case <-page.wake:
			select {
			case <-r.Context().Done():
				return
			case <-time.After(within):
			}
			events := s.hub.take(page)
			out.SetWriteDeadline(time.Now().Add(writeTime))
			switch {
			case len(events) > 0:
				tell(page, events)
			case !s.sessionHolds(r):
				return
			}
		}
	}
}

// gather is how long changes are gathered before a page is told of them: work on many devices tells of each many times a second.
const gather = 100 * time.Millisecond

// tellChanges tells a page which devices have changed since a version, and returns the version that it has then.
func (s pages) tellChanges(ctx context.Context, w io.Writer, site uuid.UUID, version string) string {
	list, err := s.lineUp.site(ctx, site)
	if err != nil {
		return version // the page hears of it with what comes next
	}
	changes := list.since(s.lineUp.begun, version)
	list.mu.Unlock()
	if changes.Version == version {
		return version
	}
	fmt.Fprintf(w, "event: changes\ndata: %s\n\n", changes.encode())
	return changes.Version
}

// untilSignedOut returns the request's context for as long as its session lasts: it ends at once when somebody signs out.
func (s pages) untilSignedOut(r *http.Request) (context.Context, context.CancelFunc) {
	ctx, end := context.WithCancel(r.Context())
	page, done := s.hub.watch(uuid.Max) // no site: it is woken for sessions alone
	go func() {
		defer done()
		look := time.NewTicker(time.Minute)
		defer look.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-look.C:
			case <-page.wake:
			}
			if !s.sessionHolds(r) {
				end()
				return
			}
		}
	}()
	return ctx, end
}

// sessionHolds reports whether the session that a request came with still is one, with the same role and sites: a page whose person was
// given another role or other sites asks anew. A database that does not answer ends none.
func (s pages) sessionHolds(r *http.Request) bool {
	was := person(r.Context())
	now, err := shownBy(r).who(r.Context(), s.store.People)
	if err != nil {
		return !errors.Is(err, store.ErrNotFound)
	}
	return now.Role == was.Role && now.All == was.All && slices.Equal(now.Sites, was.Sites)
}

// allEvents tells which sites have changed, until the page goes away.
func (s pages) allEvents(w http.ResponseWriter, r *http.Request) {
	s.stream(w, r, uuid.Nil, "sites", gatherSites, func(_ *watcher, events []store.Event) {
		for _, e := range events {
			if person(r.Context()).Given(e.Site) {
				fmt.Fprintf(w, "event: site\ndata: %s\n\n", e.Site)
			}
		}
	})
}

// gatherSites is how long changes are gathered before the page of all sites is told of them.
const gatherSites = time.Second
