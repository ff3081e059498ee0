package server

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"unlatch/store"
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
