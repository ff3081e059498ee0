package fair_test

import (
	"context"
	"fmt"
	"math"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/fair"
)

func ExampleGate() {
	g := fair.New(2)
	leave, err := g.Enter(context.Background(), "the station")
	fmt.Println(err)
	leave()
	// Output: <nil>
}

// A site with two thousand cameras and one with five begin together, the large one first. The small one is done as if it had half of the
// places, and never are there more at work than places.
func TestOneWhoWantsManyStarvesNobody(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		const places = 8
		g := fair.New(places)
		began := time.Now()
		var inside, most atomic.Int32
		var small time.Duration
		work := func(who string) {
			leave, err := g.Enter(t.Context(), who)
			require.NoError(t, err)
			defer leave()
			n := inside.Add(1)
			for was := most.Load(); n > was && !most.CompareAndSwap(was, n); was = most.Load() {
			}
			time.Sleep(time.Second)
			inside.Add(-1)
		}
		var all, five sync.WaitGroup
		for range 2000 {
			all.Go(func() { work("large") })
		}
		synctest.Wait()
		for range 5 {
			five.Go(func() { work("small") })
		}
		five.Wait()
		small = time.Since(began)
		all.Wait()
		assert.LessOrEqual(t, small, 3*time.Second)
		assert.EqualValues(t, places, most.Load())
		assert.Equal(t, 251*time.Second, time.Since(began).Round(time.Second), "no place is left empty")
	})
}

// Who gives up waiting takes no place with it, also where one comes at that moment.
func TestGivingUp(t *testing.T) {
	t.Parallel()
	g := fair.New(1)
	for range 200 {
		leave, err := g.Enter(t.Context(), "a")
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		var both sync.WaitGroup
		both.Go(func() {
			if out, err := g.Enter(ctx, "b"); err == nil {
				out()
			}
		})
		both.Go(cancel)
		both.Go(leave)
		both.Wait()
		leave() // twice is once
	}
	leave, err := g.Enter(t.Context(), "a")
	require.NoError(t, err)
	ended, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	_, err = g.Enter(ended, "b")
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	leave()
}

func TestPlacesFollowMemory(t *testing.T) {
	t.Parallel()
	for memory, want := range map[int64]int{0: 16, 100 << 20: 16, 768 << 20: 85, 2 << 30: 227, 18 << 30: 256, math.MaxInt64: 256} {
		assert.Equal(t, want, fair.Places(memory), "%d MB", memory>>20)
	}
}
