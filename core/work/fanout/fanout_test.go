package fanout

import (
	"context"
	"encoding/binary"
	"errors"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
)

// A studio is a stream whose packets a test makes.
type studio struct {
	*stream
	seq   uint16
	stamp uint32
	at    time.Time
}

func newStudio() *studio {
	s := &stream{hub: &Hub{}, session: &player.Session{Tracks: []player.Track{{Track: media.Track{Kind: "video", Codec: "H264"}}}}}
	s.more = sync.NewCond(&s.mu)
	s.members = 1
	return &studio{stream: s, at: time.Unix(1000, 0)}
}

// picture sends one picture of n packets.
func (x *studio) picture(key bool, n int) {
	x.stamp += 3600
	x.at = x.at.Add(40 * time.Millisecond)
	for i := range n {
		b := []byte{0x80, 96, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0x41, 0}
		binary.BigEndian.PutUint16(b[2:], x.seq)
		binary.BigEndian.PutUint32(b[4:], x.stamp)
		if key {
			b[12] = 0x65
		}
		if i == n-1 {
			b[1] |= 0x80
		}
		x.seq++
		x.take(player.Packet{Payload: b, At: x.at})
	}
}

func (x *studio) join() *Consumer {
	c := &Consumer{of: x.stream, waiting: true, at: x.shown}
	if x.grouped {
		c.at, c.waiting = x.group, false
	}
	return c
}

// numbers returns the sequence numbers of what a consumer has next.
func numbers(t *testing.T, c *Consumer) (out []int) {
	t.Helper()
	c.of.mu.Lock()
	defer c.of.mu.Unlock()
	for _, p := range c.read(nil) {
		out = append(out, int(binary.BigEndian.Uint16(p.Payload[2:])))
	}
	return out
}

func span(from, to int) (out []int) {
	for i := from; i <= to; i++ {
		out = append(out, i)
	}
	return out
}

// Whoever joins begins with the newest group, and misses nothing from there on.
func TestAConsumerBeginsWithTheNewestGroup(t *testing.T) {
	t.Parallel()
	x := newStudio()
	early := x.join()
	x.picture(false, 2) // 0, 1: nothing can be made of them
	x.picture(true, 3)  // 2 to 4
	x.picture(false, 2) // 5, 6
	x.picture(true, 3)  // 7 to 9
	x.picture(false, 1) // 10
	assert.Equal(t, span(2, 10), numbers(t, early))
	late := x.join()
	assert.Equal(t, span(7, 10), numbers(t, late))
	x.picture(false, 2)
	assert.Equal(t, span(11, 12), numbers(t, early))
	assert.Equal(t, span(11, 12), numbers(t, late))
	assert.Zero(t, early.Lost())
	assert.Empty(t, numbers(t, late))
}

// A consumer that reads nothing is moved on to the newest group, and what is kept for it is bounded.
func TestASlowConsumerIsMovedOn(t *testing.T) {
	t.Parallel()
	x := newStudio()
	x.picture(true, 1)
	slow, quick := x.join(), x.join()
	all := 0
	for range 50 {
		for range 9 {
			x.picture(false, 1)
		}
		x.picture(true, 1)
		all += len(numbers(t, quick))
	}
	assert.Equal(t, 501, all)
	assert.Zero(t, quick.Lost())
	got := numbers(t, slow)
	assert.Equal(t, []int{500}, got, "the newest group")
	assert.EqualValues(t, 500, slow.Lost())
	assert.LessOrEqual(t, len(x.log), 20)
	x.picture(false, 2)
	assert.Equal(t, span(501, 502), numbers(t, slow))
}

// A group without an end is bounded too; who joins in it waits for the next one.
func TestAGroupThatNeverEnds(t *testing.T) {
	t.Parallel()
	x := newStudio()
	x.picture(true, 1)
	big := make([]byte, 12+1<<20)
	copy(big, []byte{0x80, 96 | 0x80})
	big[12] = 0x41
	for range 10 {
		x.take(player.Packet{Payload: big, At: x.at})
	}
	assert.LessOrEqual(t, x.bytes, maxBytes)
	c := x.join()
	x.picture(false, 1)
	assert.Empty(t, numbers(t, c))
	x.picture(true, 1)
	assert.Len(t, numbers(t, c), 1)
}

// Where nothing ever begins a group, a consumer begins with anything after a while.
func TestAStreamWithoutKeyFrames(t *testing.T) {
	t.Parallel()
	x := newStudio()
	c := x.join()
	seen := 0
	for range 200 { // eight seconds
		x.picture(false, 1)
		seen += len(numbers(t, c))
	}
	assert.InDelta(t, 75, seen, 3)
}

// Packets are gathered, but no longer than a moment; the end of a picture is told at once.
func TestWhenConsumersAreWoken(t *testing.T) {
	t.Parallel()
	x := newStudio()
	c := x.join()
	c.waiting = false
	part := []byte{0x80, 96, 0, 0, 0, 0, 0, 1, 0, 0, 0, 1, 0x41, 0}
	for range gather - 1 {
		x.take(player.Packet{Payload: part, At: x.at})
	}
	assert.Empty(t, numbers(t, c))
	x.take(player.Packet{Payload: part, At: x.at})
	assert.Len(t, numbers(t, c), gather)
	x.take(player.Packet{Payload: part, At: x.at})
	x.take(player.Packet{Payload: part, At: x.at.Add(gatherFor)})
	assert.Len(t, numbers(t, c), 2)
}

// The session is one, begins with the first consumer, and ends a moment after the last; an error is everybody's.
func TestOneSessionForAll(t *testing.T) {
	t.Parallel()
	var h Hub
	broken := errors.New("no such stream")
	opened := 0
	refuse := func(context.Context) (*player.Session, error) { opened++; return nil, broken }
	_, err := h.Join(t.Context(), "a", refuse)
	assert.ErrorIs(t, err, broken)
	_, err = h.Join(t.Context(), "a", refuse)
	assert.ErrorIs(t, err, broken)
	assert.Equal(t, 2, opened, "it is asked again")
	assert.Zero(t, h.Streams())
	waiting, stop := context.WithCancel(t.Context())
	hangs := make(chan struct{})
	go func() {
		_, err := h.Join(waiting, "b", func(ctx context.Context) (*player.Session, error) { <-ctx.Done(); close(hangs); return nil, ctx.Err() })
		assert.ErrorIs(t, err, context.Canceled)
	}()
	time.Sleep(20 * time.Millisecond)
	stop()
	<-hangs
}

func TestNextWaitsAndEnds(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		x := newStudio()
		c := x.join()
		got := make(chan int)
		go func() {
			list, err := c.Next(context.Background(), nil)
			require.NoError(t, err)
			got <- len(list)
		}()
		synctest.Wait()
		x.picture(true, 4)
		assert.Equal(t, 4, <-got)
		ctx, stop := context.WithTimeout(context.Background(), time.Minute)
		defer stop()
		_, err := c.Next(ctx, nil)
		assert.ErrorIs(t, err, context.DeadlineExceeded)
		x.mu.Lock()
		x.ended = errors.New("the camera has gone")
		x.mu.Unlock()
		_, err = c.Next(context.Background(), nil)
		assert.EqualError(t, err, "the camera has gone")
	})
}
