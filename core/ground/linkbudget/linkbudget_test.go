package linkbudget

import (
	"context"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var ctx = context.Background()

func TestFlow(t *testing.T) {
	assert.Equal(t, 2500, Flow("main", 2500.4, 2000))
	assert.Equal(t, 3000, Flow("main", 2500, 3000), "a claim may be right next time")
	assert.Equal(t, 800, Flow("sub", 0, 0))
	assert.Equal(t, 4000, Flow("", 0, 0))
	assert.Equal(t, 60_000, Of(0), "a hundred where nothing is known")
	assert.Equal(t, 600_000, Of(1000))
}

func TestNeverMoreThanTheBudget(t *testing.T) {
	b := New(10_000)
	var flowing, most, served atomic.Int64
	var all sync.WaitGroup
	for range 300 {
		all.Go(func() {
			kbps := 100 + rand.IntN(4000)
			release, err := b.Take(ctx, kbps)
			if err != nil {
				t.Error(err)
				return
			}
			now := flowing.Add(int64(kbps))
			for old := most.Load(); now > old && !most.CompareAndSwap(old, now); old = most.Load() {
			}
			time.Sleep(100 * time.Microsecond)
			flowing.Add(-int64(kbps))
			release()
			release() // twice is once
			served.Add(1)
		})
	}
	all.Wait()
	assert.Equal(t, int64(300), served.Load())
	assert.LessOrEqual(t, most.Load(), int64(10_000))
	assert.Equal(t, "0 of 10 Mbit/s", b.String())
}

func TestOneLargerThanTheBudgetFlowsAloneAndIsNotPassedOver(t *testing.T) {
	b := New(10_000)
	small, err := b.Take(ctx, 1000)
	require.NoError(t, err)
	large := make(chan func())
	go func() {
		release, _ := b.Take(ctx, 50_000)
		large <- release
	}()
	require.Eventually(t, func() bool {
		release, ok := b.TryTake(1)
		if ok {
			release()
		}
		return !ok
	}, time.Second, time.Millisecond, "nobody overtakes")
	small()
	release := <-large
	assert.Equal(t, "50 of 10 Mbit/s", b.String())
	_, ok := b.TryTake(1)
	assert.False(t, ok)
	release()
}

func TestWhoeverGivesUpIsPassedBy(t *testing.T) {
	b := New(1000)
	release, err := b.Take(ctx, 1000)
	require.NoError(t, err)
	short, cancel := context.WithTimeout(ctx, 10*time.Millisecond)
	defer cancel()
	_, err = b.Take(short, 900)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	next := make(chan func())
	go func() { r, _ := b.Take(ctx, 500); next <- r }()
	b.Set(2000)
	(<-next)()
	release()
	assert.Equal(t, "0 of 2 Mbit/s", b.String())
	var none *Budget
	r, err := none.Take(ctx, 1)
	require.NoError(t, err)
	r()
	assert.Empty(t, none.String())
}

func TestWhatIsLookedAtCounts(t *testing.T) {
	b := New(10_000)
	done := b.Count(8000)
	assert.Equal(t, "8 of 10 Mbit/s", b.String())
	first, ok := b.TryTake(5000)
	require.True(t, ok, "one stream is measured however much is looked at")
	_, ok = b.TryTake(1000)
	assert.False(t, ok, "and no second one")
	next := make(chan func())
	go func() { r, _ := b.Take(ctx, 4000); next <- r }()
	done()
	done() // twice is once
	(<-next)()
	first()
	assert.Equal(t, "0 of 10 Mbit/s", b.String())
	(*Budget)(nil).Count(1)()
}
