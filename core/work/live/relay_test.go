package live

import (
	"context"
	"errors"
	"io"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// half is one end of a pipe within this process.
type half struct {
	out  chan<- []byte
	in   <-chan []byte
	done chan struct{}
}

func (h half) Send(ctx context.Context, b []byte) error {
	select {
	case h.out <- append([]byte(nil), b...):
		return nil
	case <-h.done:
		return io.ErrClosedPipe
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (h half) Receive(ctx context.Context) ([]byte, error) {
	select {
	case b := <-h.in:
		return b, nil
	case <-h.done:
		return nil, io.EOF
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// What a worker elsewhere plays is seen as if it were played here: pictures, measures, and in words why there are none. With nobody who
// looks the session ends there, too; a pipe that breaks ends it at both ends.
func TestAWorkerElsewhere(t *testing.T) {
	w := simtest.Start(t, looks)
	up, down, done := make(chan []byte), make(chan []byte), make(chan struct{})
	var there, here Hub
	var opened atomic.Int32
	served := make(chan error, 1)
	go func() {
		served <- Serve(t.Context(), half{up, down, done}, func(_ context.Context, device, role string, wish Wish) (*Viewer, error) {
			if role == "third" {
				return nil, errors.New("there is none")
			}
			return there.Watch(device+role, wish, opener(t, w, device, &opened))
		}, func(err error) *Trouble { return &Trouble{Problem: err.Error(), Fix: "look elsewhere"} })
	}()
	remote := NewRemote(half{down, up, done})
	go remote.Run(t.Context())

	source := remote.Source("Clock", "main", Wish{})
	v, err := here.Watch("clock", Wish{}, source)
	require.NoError(t, err)
	list := read(t, v, 3)
	require.NotNil(t, list[0].Begin)
	assert.Equal(t, 320, list[0].Begin.Width)
	assert.True(t, list[1].Key)
	second, err := here.Watch("clock", Wish{}, source)
	require.NoError(t, err)
	read(t, second, 2)
	for {
		m, err := second.Next(t.Context())
		require.NoError(t, err)
		if m.Measures != nil {
			break
		}
	}
	assert.Equal(t, int32(1), opened.Load())
	v.Close()
	second.Close()
	assert.Eventually(t, func() bool { return here.Streams() == 0 && there.Streams() == 0 }, 15*time.Second, 20*time.Millisecond)

	none, err := here.Watch("none", Wish{}, remote.Source("Clock", "third", Wish{}))
	require.NoError(t, err)
	_, err = none.Next(t.Context())
	var trouble *Trouble
	require.ErrorAs(t, err, &trouble)
	assert.Equal(t, Trouble{"there is none", "look elsewhere"}, *trouble)

	last, err := here.Watch("clock", Wish{}, source)
	require.NoError(t, err)
	read(t, last, 2)
	close(done)
	for err == nil {
		_, err = last.Next(t.Context())
	}
	assert.ErrorIs(t, err, ErrGone)
	assert.ErrorIs(t, <-served, io.EOF)
	gone, err := here.Watch("again", Wish{}, source)
	require.NoError(t, err)
	_, err = gone.Next(t.Context())
	assert.ErrorIs(t, err, ErrGone)
}

func FuzzPiped(f *testing.F) {
	f.Add(appendPiped(nil, 7, messageWords{Begin: &Begin{MIME: "video/mp4"}}, true, []byte("data")))
	f.Add([]byte{0, 0, 0, 1, 0, 0xff, 0xff, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, b []byte) {
		stream, w, key, data, err := parsePiped(b)
		if err != nil {
			return
		}
		again, _, key2, data2, err := parsePiped(appendPiped(nil, stream, w, key, data))
		if err != nil || again != stream || key2 != key || string(data) != string(data2) {
			t.Fatal("what was read is written otherwise")
		}
	})
}
