package server

import (
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/store"
)

// hub hands the database's events on to the pages that watch a site.
type hub struct {
	mu       sync.Mutex
	watchers map[*watcher]bool
}

// A watcher is one page. What changes again before it was told is told once, so that a slow page misses nothing and holds nobody up.
type watcher struct {
	site    uuid.UUID
	wake    chan struct{}
	pending []store.Event // in order, none twice; guarded by hub.mu
	has     map[store.Event]bool
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
	}
}

func (h *hub) publish(e store.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		if w.site == e.Site {
			w.add(e)
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

// events streams a site's changes as server-sent events until the page goes away. Events carry identities only; the page
// asks for what it shows.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	if !s.withSession(w, r) {
		return
	}
	site, err := uuid.Parse(chi.URLParam(r, "site"))
	if err != nil {
		writeProblem(w, problem(404, "not_found", "There is no such site.", ""))
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	out := http.NewResponseController(w)
	page, done := s.hub.watch(site)
	defer done()
	fmt.Fprint(w, "retry: 1000\nevent: site\ndata: "+site.String()+"\n\n")
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		if err := out.Flush(); err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-beat.C:
			if !s.sessionHolds(r) {
				return
			}
			fmt.Fprint(w, ": still here\n\n")
		case <-page.wake:
			events := s.hub.take(page)
			if len(events) == 0 && !s.sessionHolds(r) {
				return
			}
			for _, e := range events {
				fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.What, e.ID)
			}
		}
	}
}

// sessionHolds reports whether the session that a request came with still is one. A database that does not answer ends none.
func (s *Server) sessionHolds(r *http.Request) bool {
	c, err := r.Cookie(cookieName)
	if err != nil {
		return false
	}
	_, err = s.cfg.Store.SessionPerson(r.Context(), c.Value)
	return !errors.Is(err, store.ErrNotFound)
}

func (s *Server) still(w http.ResponseWriter, r *http.Request) {
	if !s.withSession(w, r) {
		return
	}
	id, err := uuid.Parse(chi.URLParam(r, "still"))
	if err != nil {
		writeProblem(w, s.explain(store.ErrNotFound).(*Problem))
		return
	}
	jpeg, err := s.cfg.Store.Still(r.Context(), id)
	if err != nil {
		writeProblem(w, s.explain(err).(*Problem))
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable") // a still never changes
	w.Write(jpeg)
}

func (s *Server) exchange(w http.ResponseWriter, r *http.Request) {
	if !s.withSession(w, r) {
		return
	}
	id, err := uuid.Parse(chi.URLParam(r, "record"))
	if err != nil {
		writeProblem(w, s.explain(store.ErrNotFound).(*Problem))
		return
	}
	text, err := s.cfg.Store.Exchange(r.Context(), id)
	if err != nil {
		writeProblem(w, s.explain(err).(*Problem))
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Write([]byte(text))
}
