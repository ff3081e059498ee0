package store_test

import (
	"context"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store"
	"unlatch/store/storetest"
)

// Two hundred pieces of work hold locks while they talk to their targets, and whoever else asks the database waits for none of them.
func TestLocksHoldNoConnections(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	release := make(chan struct{})
	var held, all sync.WaitGroup
	held.Add(200)
	for range 200 {
		all.Go(func() {
			assert.NoError(t, s.Locked(ctx, uuid.New(), func(context.Context) error {
				held.Done()
				<-release
				return nil
			}))
		})
	}
	held.Wait()
	soon, cancel := context.WithTimeout(ctx, 20*time.Second) // far below the time for which a full pool would make them wait
	defer cancel()
	var asked sync.WaitGroup
	for range 100 {
		asked.Go(func() {
			_, err := s.Sites.List(soon)
			assert.NoError(t, err)
		})
	}
	asked.Wait()
	assert.Zero(t, s.Pool.Stat().AcquiredConns())
	close(release)
	all.Wait()
}

// One at a time under a key, in this process and in others; what another process holds is waited for.
func TestLocksKeepOthersOut(t *testing.T) {
	t.Parallel()
	address, keyFile := storetest.URL(t), filepath.Join(t.TempDir(), "key")
	open := func() *store.Store {
		s, err := store.OpenWith(ctx, store.Options{URL: address, KeyFile: keyFile})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return s
	}
	s, other := open(), open()
	key := uuid.New()
	var inside, most atomic.Int32
	var all sync.WaitGroup
	for i := range 20 {
		at := []*store.Store{s, other}[i%2]
		all.Go(func() {
			assert.NoError(t, at.Locked(ctx, key, func(context.Context) error {
				n := inside.Add(1)
				most.Store(max(most.Load(), n))
				time.Sleep(time.Millisecond)
				inside.Add(-1)
				return nil
			}))
		})
	}
	all.Wait()
	assert.Equal(t, int32(1), most.Load())

	// Who does not wait is told that somebody has it, in this process or another.
	require.NoError(t, s.Locked(ctx, key, func(context.Context) error {
		for _, at := range []*store.Store{s, other} {
			free, err := at.TryLocked(ctx, key, func(context.Context) error { t.Error("it is held"); return nil })
			assert.NoError(t, err)
			assert.False(t, free)
		}
		return nil
	}))
	free, err := other.TryLocked(ctx, key, func(context.Context) error { return store.ErrNotFound })
	assert.True(t, free)
	assert.ErrorIs(t, err, store.ErrNotFound)

	// Whoever loses the connection loses the lock, and is told.
	err = s.Locked(ctx, key, func(held context.Context) error {
		_, err := other.Pool.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND granted "+
			"AND pid <> pg_backend_pid() AND classid <> 7306002 AND database = (SELECT oid FROM pg_database WHERE datname = current_database())")
		require.NoError(t, err)
		<-held.Done()
		return nil
	})
	assert.ErrorIs(t, err, store.ErrLockLost)
	assert.NoError(t, s.Locked(ctx, key, func(context.Context) error { return nil }), "it connects anew")
	ended, end := context.WithCancel(ctx)
	end()
	assert.ErrorIs(t, s.Locked(ended, key, func(context.Context) error { return nil }), context.Canceled)
}
