package store_test

import (
	"context"
	"fmt"
	"sync"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/store"
	"unlatch/store/storetest"
)

// Sightings that add marks to a device, findings about it and acts on it come from many workers and people at once. None of them waits for
// another that waits for it.
func TestWritersOfOneDeviceDoNotDeadlock(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	keeper, err := s.People.CreateFirst(ctx, "keeper", "hash")
	require.NoError(t, err)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	var devices []uuid.UUID
	for i := range 40 {
		id, err := s.Devices.Sight(ctx, site.ID, nil, sight(fmt.Sprintf("192.0.2.%d", i+1), ""))
		require.NoError(t, err)
		devices = append(devices, id)
	}
	var all sync.WaitGroup
	for i, id := range devices {
		all.Go(func() {
			_, err := s.Devices.Sight(ctx, site.ID, nil, sight(fmt.Sprintf("192.0.2.%d", i+1), fmt.Sprintf("urn:%d", i)))
			assert.NoError(t, err)
		})
		for range 4 {
			all.Go(func() {
				f := store.Finding{Body: evidence.SignedIn{Recorder: true}, Still: []byte("jpeg"), StillID: uuid.New()}
				assert.NoError(t, s.Devices.Record(ctx, &store.Device{ID: id, Site: site.ID}, nil, f))
			})
		}
		all.Go(func() {
			about := act.About{Name: "rename-device", Right: act.Work, Site: site.ID, Devices: []uuid.UUID{id}}
			assert.NoError(t, s.Acts().Together(ctx, func(ctx context.Context) error {
				if err := s.Acts().Confirm(ctx, keeper, about); err != nil {
					return err
				}
				_, err := s.Acts().Keep(ctx, keeper, about, act.Rename{Device: id, Name: "x"})
				return err
			}))
		})
	}
	all.Wait()
	var deadlocks int
	require.NoError(t, s.SQL().QueryRowContext(ctx,
		"SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()").Scan(&deadlocks))
	assert.Zero(t, deadlocks)
}
