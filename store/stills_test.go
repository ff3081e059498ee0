package store_test

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/core/stream/picturematch"
	"unlatch/core/stream/sighting"
	"unlatch/store"
	"unlatch/store/storetest"
)

// picture returns a still of a place, one for each number.
func picture(t *testing.T, place int) []byte {
	r, img := rand.New(rand.NewPCG(uint64(place), 7)), image.NewGray(image.Rect(0, 0, 320, 180))
	for y := range 9 {
		for x := range 16 {
			brightness := uint8(r.IntN(256))
			for i := range 400 {
				img.Pix[(y*20+i/20)*img.Stride+x*20+i%20] = brightness
			}
		}
	}
	var out bytes.Buffer
	require.NoError(t, jpeg.Encode(&out, img, nil))
	return out.Bytes()
}

// Of many pictures those that look like one are found, those of cameras on the target first of all, and also where they were kept before
// there were sketches. What a target showed is nobody's picture.
func TestPicturesThatLookAlike(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "Works", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	const cameras = 40
	var ids []uuid.UUID
	add := func(body func(still *uuid.UUID) evidence.Body, device uuid.UUID, still []byte) {
		d, err := s.Devices.Get(ctx, device)
		require.NoError(t, err)
		id := uuid.Must(uuid.NewV7())
		require.NoError(t, s.Devices.Record(ctx, d, nil, store.Finding{Subject: "main", Body: body(&id), Still: still, StillID: id}))
	}
	proof := func(still *uuid.UUID) evidence.Body { return evidence.Proof{Role: "main", Still: still} }
	for n := range cameras {
		id, err := s.Devices.Sight(ctx, site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(),
			Addr: netip.MustParseAddr(fmt.Sprintf("192.0.2.%d", n+1)), Endpoint: fmt.Sprintf("urn:%d", n), Kind: sighting.Camera})
		require.NoError(t, err)
		ids = append(ids, id)
		place := n
		if n >= cameras-20 {
			place = 100 // twenty that look at one place
		}
		add(proof, id, picture(t, place))
	}
	add(func(still *uuid.UUID) evidence.Body { return evidence.Confirmed{Still: still} }, ids[3], picture(t, 7))
	wall := storetest.Target(t, s, site.ID, act.TargetForm{Kind: "bridge", Address: "http://192.0.2.9"})
	require.NoError(t, s.Targets.Wish(ctx, act.Wishes{{Device: ids[cameras-1], Target: wall}}))

	alike := func(place int) map[uuid.UUID][]byte {
		print, ok := picturematch.OfStill(picture(t, place))
		require.True(t, ok)
		out, err := s.Devices.Alike(ctx, site.ID, print.Sketch(), wall)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(out), 16)
		return out
	}
	assert.Equal(t, picture(t, 5), alike(5)[ids[5]])
	assert.Contains(t, alike(100), ids[cameras-1], "of twenty that look alike, the one on the target is looked at")

	_, err = s.SQL().ExecContext(ctx, "UPDATE stills SET sketch = NULL")
	require.NoError(t, err)
	found := alike(7)
	assert.Equal(t, picture(t, 7), found[ids[7]], "kept before there were sketches")
	var rest int
	require.NoError(t, s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM stills WHERE sketch IS NULL").Scan(&rest))
	assert.Zero(t, rest)
	require.NoError(t, s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM stills WHERE sketch = B''").Scan(&rest))
	assert.Equal(t, 1, rest, "what the target showed")
	none, err := s.Devices.Alike(ctx, site.ID, "", wall)
	require.NoError(t, err)
	assert.Empty(t, none)
}
