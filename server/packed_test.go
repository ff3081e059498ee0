package server

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store"
)

// A list that was packed is what it would have been unpacked, whichever of its devices have changed, come or gone since it was last sent.
func TestAPackedListIsTheList(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	s := &siteLineUp{devices: map[uuid.UUID]*lineUpRow{}}
	put := func(n int) {
		id := uuid.UUID{byte(n >> 8), byte(n)}
		encoded, _ := json.Marshal(map[string]any{"id": id, "n": random.Uint64(), "text": "Platform clock"})
		s.version++
		s.devices[id] = &lineUpRow{d: store.Device{ID: id, Addr: fmt.Sprintf("10.20.%d.%d", n/250, n%250)}, encoded: encoded, version: s.version}
		s.sorted = false
		s.sort()
	}
	same := func(what string) {
		plain, zipped := s.answer("x", "", false)
		assert.False(t, zipped)
		packed, zipped := s.answer("x", "", true)
		require.True(t, zipped)
		r, err := gzip.NewReader(bytes.NewReader(packed))
		require.NoError(t, err, what)
		r.Multistream(false) // browsers read one member
		raw, err := io.ReadAll(r)
		require.NoError(t, err, what)
		require.Equal(t, string(plain), string(raw), what)
		require.True(t, json.Valid(raw), what)
	}
	same("an empty site")
	for n := range 100 {
		put(n)
		if n%7 == 0 {
			same("one more")
		}
	}
	before := len(s.packed.pieces)
	kept := s.packed.pieces[1].deflated
	put(3)
	same("one of the first piece has changed")
	assert.Equal(t, &kept[0], &s.packed.pieces[1].deflated[0], "the others were not deflated again")
	assert.Len(t, s.packed.pieces, before)
	for n := range 90 {
		delete(s.devices, uuid.UUID{byte(n >> 8), byte(n)})
	}
	s.sorted = false
	s.sort()
	same("most have gone")

	changes, zipped := s.answer("x", fmt.Sprint("x-", s.version), true)
	assert.False(t, zipped, "what has changed is little, and is compressed as every answer is")
	assert.True(t, json.Valid(changes))
}
