package server

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"sync/atomic"
	"time"

	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A page that reads nothing for a while misses nothing: what changed meanwhile waits for it, each once.
func TestSlowPageMissesNothing(t *testing.T) {
	t.Parallel()
	h := newHub()
	site, other := uuid.New(), uuid.New()
	w, done := h.watch(site)
	var ids []uuid.UUID
	for range 1000 {
		ids = append(ids, uuid.New())
	}
	for range 5 {
		for _, id := range ids {
			h.publish(store.Event{Site: site, What: "device", ID: id})
			h.publish(store.Event{Site: other, What: "device", ID: id})
		}
	}
	<-w.wake
	got := h.take(w)
	assert.Len(t, got, 1000)
	assert.Equal(t, ids[999], got[999].ID)
	assert.Empty(t, h.take(w))
	h.publish(store.Event{Site: site, What: "device", ID: ids[0]})
	assert.Len(t, h.take(w), 1, "what changes again after it was told is told again")
	h.resync()
	assert.Equal(t, "site", h.take(w)[0].What)
	done()
	h.publish(store.Event{Site: site, What: "device", ID: ids[0]})
	assert.Empty(t, h.take(w))
}

// A page that asks for events and never reads them is let go: what is written to it has a time.
func TestAPageThatNeverReadsIsLetGo(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	site, err := s.Sites.Create(t.Context(), "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	at, err := url.Parse(p.url)
	require.NoError(t, err)
	ended := make(chan struct{})
	slow := &neverRead{closed: make(chan struct{})}
	r := httptest.NewRequest("GET", "/api/sites/"+site.ID.String()+"/events", nil)
	r.AddCookie(p.client.Jar.Cookies(at)[0])
	server := bare(Config{Store: s, Log: slog.New(slog.DiscardHandler)})
	go func() {
		defer close(ended)
		server.pages.stream(slow, r, site.ID, "site", time.Millisecond, func(_ *watcher, list []store.Event) {
			if len(list) > 0 {
				fmt.Fprint(slow, "event")
			}
		})
	}()
	require.Eventually(t, func() bool {
		server.hub.publish(store.Event{Site: site.ID, What: "run", ID: uuid.New()})
		select {
		case <-ended:
			return true
		default:
			return false
		}
	}, 20*time.Second, 5*time.Millisecond)
	assert.True(t, slow.asked.Load(), "a deadline was set before it was written to")
}

// neverRead is an answer that takes what is written for as long as it has no deadline, and fails then.
type neverRead struct {
	head   http.Header
	asked  atomic.Bool
	closed chan struct{}
}

func (n *neverRead) Header() http.Header {
	if n.head == nil {
		n.head = http.Header{}
	}
	return n.head
}
func (n *neverRead) WriteHeader(int) {}
func (n *neverRead) Write(b []byte) (int, error) {
	if n.asked.Load() {
		return 0, os.ErrDeadlineExceeded
	}
	return len(b), nil
}
func (n *neverRead) FlushError() error {
	if n.asked.Load() {
		return os.ErrDeadlineExceeded
	}
	return nil
}
func (n *neverRead) SetWriteDeadline(at time.Time) error {
	if !at.IsZero() {
		n.asked.Store(true)
	}
	return nil
}
