package store_test

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/store"
	"unlatch/store/storetest"
)

// anything returns sightings of few addresses and few marks, so that many of them are of one device.
func anything(r *rand.Rand, n int) (out []sighting.Sighting) {
	one := func(of string) string {
		if i := r.IntN(5); i > 0 {
			return fmt.Sprint(of, i)
		}
		return ""
	}
	for range n {
		out = append(out, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now().UTC(), Kind: sighting.Camera,
			Addr:     netip.AddrFrom4([4]byte{192, 0, 2, byte(1 + r.IntN(6))}),
			Endpoint: one("urn:"), Serial: one("S"), MAC: one("02:00:00:00:00:0"), Certificate: one("c")})
	}
	return out
}

// What is filed together ends as what is filed one by one.
func TestFiledTogetherIsFiledOneByOne(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	for seed := range uint64(8) {
		heard := anything(rand.New(rand.NewPCG(seed, 30)), 24)
		var states []string
		for _, together := range []bool{false, true} {
			site, err := s.Sites.Create(ctx, fmt.Sprint(seed, together), address.MustParse("192.0.2.0/24"))
			require.NoError(t, err)
			run := store.Run{Site: site.ID, Kind: "sweep", Title: "Sweep"}
			run, err = s.Runs.Start(ctx, run, func(*sql.Tx, uuid.UUID) error { return nil })
			require.NoError(t, err)
			list := heard
			for len(list) > 0 {
				n := 1
				if together {
					n = min(7, len(list))
				}
				filed, err := s.Devices.SightAll(ctx, site.ID, run.ID, list[:n])
				require.NoError(t, err)
				for _, f := range filed {
					require.NoError(t, f.Err)
				}
				if list = list[len(filed):]; len(filed) < n { // nothing answers where it was
					_, err := s.Devices.Sight(ctx, site.ID, &run.ID, list[0])
					require.NoError(t, err)
					list = list[1:]
				}
			}
			states = append(states, stateOf(t, s, site.ID))
		}
		assert.Equal(t, states[0], states[1], "seed %d", seed)
	}
}

// stateOf returns the devices of a site with their marks and how often each was heard.
func stateOf(t *testing.T, s *store.Store, site uuid.UUID) string {
	t.Helper()
	var out string
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT string_agg(concat_ws(' ', addr, endpoint, serial, mac, certificate, heard), E'\n'
		ORDER BY created_at, id) FROM (SELECT d.*, (SELECT count(*) FROM evidence e WHERE e.device_id = d.id) AS heard FROM devices d
		WHERE site_id = $1) d`, site).Scan(&out))
	return out
}

// A storm is bounded within what is filed together, and told of, and a worker that has lost its lease files nothing.
func TestFiledTogetherHasTheSameBounds(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	run, err := s.Runs.Start(ctx, store.Run{Site: site.ID, Kind: "sweep", Title: "Sweep"},
		func(*sql.Tx, uuid.UUID) error { return nil })
	require.NoError(t, err)
	var heard []sighting.Sighting
	for i := range discovery.MostAtAddress + 3 {
		heard = append(heard, sight("192.0.2.7", fmt.Sprint("urn:", i)))
	}
	_, err = s.Devices.SightAll(store.WithLease(ctx, store.Lease{Worker: "gone", Epoch: 1}), site.ID, run.ID, heard)
	require.ErrorIs(t, err, store.ErrFenced)
	list, err := s.Devices.List(ctx, site.ID)
	require.NoError(t, err)
	require.Empty(t, list)
	filed, err := s.Devices.SightAll(ctx, site.ID, run.ID, heard)
	require.NoError(t, err)
	require.Len(t, filed, len(heard))
	for i, f := range filed {
		assert.Equal(t, i >= discovery.MostAtAddress, errors.As(f.Err, new(*discovery.StormError)), "%d %v", i, f.Err)
	}
	list, err = s.Devices.List(ctx, site.ID)
	require.NoError(t, err)
	assert.Len(t, list, discovery.MostAtAddress)
	seen, err := s.Sites.Get(ctx, site.ID)
	require.NoError(t, err)
	require.Len(t, seen.Storms, 1)
	assert.EqualValues(t, 3, seen.Storms[0].Dropped)
}
