package live

import (
	"bytes"
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMessagesGoOverAStream(t *testing.T) {
	t.Parallel()
	a, b := net.Pipe()
	defer a.Close()
	one, two := NewStreamPipe(a), NewStreamPipe(b)
	for _, m := range [][]byte{{}, []byte("order"), bytes.Repeat([]byte("x"), 1<<20)} {
		go one.Send(t.Context(), m)
		got, err := two.Receive(t.Context())
		require.NoError(t, err)
		assert.Equal(t, m, got)
	}
	assert.ErrorIs(t, one.Send(t.Context(), make([]byte, maxPiece+1)), errPiece)
	go a.Write([]byte{0xff, 0xff, 0xff, 0xff})
	_, err := two.Receive(t.Context())
	assert.ErrorIs(t, err, errPiece)
	ctx, done := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer done()
	_, err = two.Receive(ctx)
	assert.Error(t, err)
}
