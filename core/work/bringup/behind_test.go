package bringup

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
)

// A slowRecord keeps nothing before it may, and counts the ways to it.
type slowRecord struct {
	Record
	may      chan struct{}
	fails    error
	ways     int
	subjects []string
}

func (r *slowRecord) Add(ctx context.Context, d *latch.Device, f Finding) error {
	return r.AddLater(ctx, d, f)
}

func (r *slowRecord) AddLater(ctx context.Context, _ *latch.Device, fs ...Finding) error {
	select {
	case <-r.may:
	case <-ctx.Done():
		return ctx.Err()
	}
	r.ways++
	for _, f := range fs {
		r.subjects = append(r.subjects, f.Subject)
	}
	return r.fails
}

func (r *slowRecord) AddAndRead(ctx context.Context, d *latch.Device, fs ...Finding) (*latch.Device, error) {
	return d, r.AddLater(ctx, d, fs...)
}

func slowWork() (*Work, *slowRecord) {
	r := &slowRecord{may: make(chan struct{})}
	return Start(&latch.Device{ID: uuid.New()}, Config{Record: r}), r
}

// Work goes on while its findings are kept. Whoever reads the device waits for them, in order, and what was not begun yet goes along.
func TestFindingsAreKeptBehindTheWork(t *testing.T) {
	t.Parallel()
	w, r := slowWork()
	w.goesOn = true
	stopped, stop := context.WithCancel(ctx)
	for _, subject := range []string{"a", "b", "c"} {
		require.NoError(t, w.keep(stopped, Finding{Subject: subject, Body: evidence.Left{}}), "nothing may be kept yet, and nobody waits")
	}
	stop() // what was found before is kept all the same
	close(r.may)
	require.NoError(t, w.Read(ctx))
	assert.Equal(t, []string{"a", "b", "c"}, r.subjects)
	assert.LessOrEqual(t, r.ways, 2, "they went together")
	require.NoError(t, w.Read(ctx))
	assert.Len(t, r.subjects, 3, "each is kept once")
}

// Where a device or a target is about to be changed, the work waits until what it found is kept.
func TestWhatChangesADeviceWaitsForItsRecord(t *testing.T) {
	t.Parallel()
	w, r := slowWork()
	brief, end := context.WithCancel(ctx)
	end()
	assert.ErrorIs(t, w.keep(brief, Finding{Body: evidence.Left{}}), context.Canceled)
	close(r.may)
	require.NoError(t, w.keep(ctx, Finding{Subject: "a", Body: evidence.Left{}}))
	assert.Equal(t, []string{"a"}, r.subjects)
}

// What cannot be kept ends the work where the device is read next; nothing that was found after it is kept.
func TestAFindingThatCannotBeKeptIsToldOf(t *testing.T) {
	t.Parallel()
	w, r := slowWork()
	r.fails = errors.New("no room")
	w.goesOn = true
	require.NoError(t, w.keep(ctx, Finding{Subject: "a", Body: evidence.Left{}}))
	close(r.may)
	require.Eventually(t, func() bool {
		w.later.mu.Lock()
		defer w.later.mu.Unlock()
		return w.later.going == nil
	}, time.Minute, time.Millisecond)
	require.NoError(t, w.keep(ctx, Finding{Subject: "b", Body: evidence.Left{}}))
	assert.ErrorIs(t, w.Read(ctx), r.fails)
	assert.Equal(t, []string{"a"}, r.subjects)
}
