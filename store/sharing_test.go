package store_test

import (
	"context"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/store"
	"unlatch/store/storetest"
)

// Workers that share a site know how many they are, paired ones too; of the sites of others a paired worker is told nothing.
func TestWorkersOfASiteAreCounted(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	var sites []uuid.UUID
	for _, name := range []string{"Viaduct", "Elsewhere"} {
		site, err := s.Sites.Create(ctx, name, address.MustParse("192.0.2.0/24"))
		require.NoError(t, err)
		sites = append(sites, site.ID)
	}
	reach := func(of *store.Store, name string, reached []uuid.UUID) {
		there := make(chan error, 1)
		held, end := context.WithCancel(ctx)
		t.Cleanup(end)
		go of.Workers.Hold(held, name, func(ctx context.Context, l store.Lease) {
			there <- of.Workers.Reach(ctx, l, reached)
			<-ctx.Done()
		})
		require.NoError(t, <-there)
	}
	far := storetest.OpenFar(t, s, storetest.Pair(t, s, true, sites[0]))
	reach(far, "worker-paired", sites[:1])
	reach(s, "worker-here", sites)
	for _, c := range []struct {
		what string
		of   *store.Store
		site uuid.UUID
		want int
	}{{"the server, of a shared site", s, sites[0], 2}, {"the server, of another", s, sites[1], 1}, {"the paired worker", far, sites[0], 2}} {
		site, err := c.of.Sites.Get(ctx, c.site)
		require.NoError(t, err, c.what)
		assert.Equal(t, c.want, site.Workers, c.what)
		way, err := c.of.Sites.WayOut(ctx, c.site)
		require.NoError(t, err, c.what)
		assert.Equal(t, c.want, way.Workers, c.what)
	}
	var others int
	require.NoError(t, far.Pool.QueryRow(ctx, "SELECT site_workers($1)", sites[1]).Scan(&others))
	assert.Zero(t, others, "what is not its site is not there")
}
