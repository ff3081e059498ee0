package bringup

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/wire/target"
)

// Many works that want a target's list at once are told by a few questions, one at a time, and none by an answer that is older than what
// it wants to see.
func TestManyAreToldByOneList(t *testing.T) {
	t.Parallel()
	ctx, wall := context.Background(), uuid.New()
	var lists Lists
	var mu sync.Mutex
	asking, asks := 0, 0
	ask := func() (target.Layout, error) {
		mu.Lock()
		asking++
		asks++
		assert.Equal(t, 1, asking, "one list at a time")
		mu.Unlock()
		time.Sleep(20 * time.Millisecond)
		mu.Lock()
		asking--
		mu.Unlock()
		return target.Layout{Days: float64(asks)}, nil
	}
	since := time.Now()
	var all sync.WaitGroup
	for range 100 {
		all.Go(func() {
			_, _, err := lists.askedAfter(ctx, wall, since, ask)
			assert.NoError(t, err)
		})
	}
	all.Wait()
	assert.Equal(t, 1, asks)

	layout, asked, err := lists.askedAfter(ctx, wall, time.Now(), ask)
	require.NoError(t, err)
	assert.Equal(t, []any{true, 2.0}, []any{asked, layout.Days}, "something was changed since then")
	_, asked, err = lists.askedAfter(ctx, uuid.New(), since, ask)
	require.NoError(t, err)
	assert.True(t, asked, "another target")

	broken := errors.New("no answer")
	_, asked, err = lists.askedAfter(ctx, wall, time.Now(), func() (target.Layout, error) { return target.Layout{}, broken })
	assert.True(t, asked)
	require.ErrorIs(t, err, broken)
	_, asked, err = lists.askedAfter(ctx, wall, since, ask)
	assert.False(t, asked)
	require.ErrorIs(t, err, broken, "whoever has waited for it has the same answer")

	gone, done := context.WithCancel(ctx)
	done()
	lists.listOf(wall).turn <- struct{}{}
	_, _, err = lists.askedAfter(gone, wall, time.Now(), ask)
	require.ErrorIs(t, err, context.Canceled)
	<-lists.listOf(wall).turn
	_, _, err = lists.askedAfter(gone, wall, time.Now(), func() (target.Layout, error) { done(); return target.Layout{}, gone.Err() })
	require.ErrorIs(t, err, context.Canceled)
	_, _, err = lists.askedAfter(ctx, wall, since, ask)
	assert.ErrorIs(t, err, broken, "work that has ended says nothing of the target")
}
