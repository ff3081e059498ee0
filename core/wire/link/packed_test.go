package link

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/pairing"
)

// A countedConn counts what is written to it.
type countedConn struct {
	net.Conn
	n atomic.Int64
}

func (c *countedConn) Write(b []byte) (int, error) {
	c.n.Add(int64(len(b)))
	return c.Conn.Write(b)
}

// Every piece can be read when it was written, whatever its size, on many streams at once; and text is a fraction of what it was.
func TestWhatGoesOverALinkIsCompressed(t *testing.T) {
	t.Parallel()
	key := pairing.NewKey()
	near, far := net.Pipe()
	counted := &countedConn{Conn: near}
	worker, server, _, werr, serr := pairOver(t, counted, far, key, Hello{Worker: "w1"}, knows(key))
	require.NoError(t, werr)
	require.NoError(t, serr)
	go server.Serve(echoing)
	var sent atomic.Int64
	var all sync.WaitGroup
	for n := range 16 {
		c, err := worker.Open(Database)
		require.NoError(t, err)
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(n), 7))
			for range 200 {
				text := []byte(strings.Repeat("SELECT id FROM devices WHERE site_id = $1 ", 1+r.IntN(40)))[:1+r.IntN(40)]
				if r.IntN(8) == 0 {
					text = bytes.Repeat(text, 1+r.IntN(300))
				}
				_, err := c.Write(text)
				assert.NoError(t, err)
				got := make([]byte, len(text))
				_, err = io.ReadFull(c, got)
				assert.NoError(t, err)
				assert.True(t, bytes.Equal(text, got))
				sent.Add(int64(len(text)))
			}
		})
	}
	all.Wait()
	assert.Less(t, counted.n.Load(), sent.Load()/2)
}

// A worker of the version before is spoken with as it speaks.
func TestAWorkerThatDoesNotCompress(t *testing.T) {
	t.Parallel()
	key := pairing.NewKey()
	near, far := net.Pipe()
	worker, server, _, werr, serr := pairOver(t, near, far, key, Hello{Worker: "w1", Protocol: packs - 1}, knows(key))
	require.NoError(t, werr)
	require.NoError(t, serr)
	go server.Serve(echoing)
	answers(t, worker)
}
