package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/pairing"
)

// pair begins a link on both sides.
func pair(t *testing.T, key pairing.Key, hello Hello, door Door) (worker, server *Link, heard Hello, werr, serr error) {
	a, b := net.Pipe()
	return pairOver(t, a, b, key, hello, door)
}

// pairOver is pair over a connection, with a worker that speaks the version that its hello names; 0 for the present one.
func pairOver(t *testing.T, a, b net.Conn, key pairing.Key, hello Hello, door Door) (worker, server *Link, heard Hello, werr, serr error) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		server, heard, serr = Accept(t.Context(), b, door)
	}()
	start := begin
	if hello.Protocol == 0 {
		start = Begin
	}
	worker, werr = start(t.Context(), a, key, hello)
	<-done
	t.Cleanup(func() {
		for _, l := range []*Link{worker, server} {
			if l != nil {
				l.Close()
			}
		}
	})
	return worker, server, heard, werr, serr
}

// echoing says back what it hears.
var echoing = map[Kind]func(net.Conn){Database: func(c net.Conn) { io.Copy(c, c) }}

// answers checks that what is said over a link comes back.
func answers(t *testing.T, worker *Link) {
	t.Helper()
	c, err := worker.Open(Database)
	require.NoError(t, err)
	_, err = c.Write([]byte("hello"))
	require.NoError(t, err)
	got := make([]byte, 5)
	_, err = io.ReadFull(c, got)
	require.NoError(t, err)
	assert.Equal(t, "hello", string(got))
}

// door lets in whoever has a key.
type door struct {
	key     pairing.Key
	away    error // for which the key is not known now
	refuses error // for which nobody is let in
	asked   bool  // it was asked to let somebody in
}

func (d *door) Key(context.Context, Hello) (pairing.Public, error) { return d.key.Public(), d.away }

func (d *door) Admit(context.Context, Hello) error {
	d.asked = true
	return d.refuses
}

func knows(key pairing.Key) *door { return &door{key: key} }

func TestStreamsGoOverALink(t *testing.T) {
	t.Parallel()
	key := pairing.NewKey()
	worker, server, heard, werr, serr := pair(t, key, Hello{Worker: "w1", Machine: "Viaduct\x00box", Version: "1.2"}, knows(key))
	require.NoError(t, werr)
	require.NoError(t, serr)
	assert.Equal(t, "Viaduct·box", heard.Machine, "control characters are shown as that")
	go server.Serve(echoing)
	answers(t, worker)
	got := make([]byte, 5)

	other, err := worker.Open(Kind('x'))
	require.NoError(t, err)
	_, err = other.Read(got)
	assert.ErrorIs(t, err, io.EOF, "a kind that nobody serves")

	var open []net.Conn
	for range 100 {
		c, err := worker.Open(Database)
		require.NoError(t, err)
		open = append(open, c)
	}
	ended := 0
	for _, c := range open {
		c.SetDeadline(time.Now().Add(5 * time.Second))
		c.Write([]byte("x"))
		if _, err := io.ReadFull(c, got[:1]); err != nil {
			ended++
		}
	}
	assert.InDelta(t, 100-mostStreams, ended, 3, "one worker has so many at a time")
	server.Close()
	<-worker.Done()
}

// Who proves nothing learns nothing, and who is turned away is told why.
func TestWhoIsNotLetIn(t *testing.T) {
	t.Parallel()
	key, thief := pairing.NewKey(), pairing.NewKey()
	revoked := &Refusal{Problem: "This worker was revoked.", Fix: "Pair it anew.", Final: true}
	var no *Refusal
	_, _, _, werr, serr := pair(t, thief, Hello{Worker: "w1"}, knows(key))
	require.ErrorAs(t, werr, &no)
	assert.Equal(t, errStranger.Problem, no.Problem)
	assert.Error(t, serr)
	shut := &door{key: key, refuses: revoked}
	_, _, _, werr, _ = pair(t, thief, Hello{Worker: "w1"}, shut)
	require.ErrorAs(t, werr, &no)
	assert.Equal(t, errStranger.Problem, no.Problem, "that it was revoked is told to the worker alone")
	assert.False(t, shut.asked, "who has proven nothing costs nothing more")
	_, _, _, werr, _ = pair(t, key, Hello{Worker: "w1"}, shut)
	require.ErrorAs(t, werr, &no)
	assert.Equal(t, revoked.Problem, no.Problem)
	_, _, _, werr, _ = pair(t, key, Hello{}, &door{key: key, away: errors.New("the database is away")})
	assert.Error(t, werr)
	assert.False(t, errors.As(werr, &no), "it is tried again")
}

// An answer that was seen once is worth nothing to whoever shows it again.
func TestAProofIsGoodOnce(t *testing.T) {
	t.Parallel()
	key := pairing.NewKey()
	a, b := net.Pipe()
	go Accept(t.Context(), b, knows(key))
	var asked challenge
	require.NoError(t, hear(a, &asked))
	text, err := json.Marshal(Hello{Worker: "w1", Protocol: Protocol})
	require.NoError(t, err)
	own := pairing.Nonce()
	old := proof{string(text), own, key.Sign(asked.Nonce, own, string(text))}
	require.NoError(t, say(a, old))
	var v verdict
	require.NoError(t, hear(a, &v))
	require.Nil(t, v.Refusal)
	a.Close()

	c, d := net.Pipe()
	go Accept(t.Context(), d, knows(key))
	require.NoError(t, hear(c, &asked))
	require.NoError(t, say(c, old))
	require.NoError(t, hear(c, &v))
	require.NotNil(t, v.Refusal)
	c.Close()
}

// A worker of the version before is let in, others are told what to do.
func TestVersions(t *testing.T) {
	t.Parallel()
	key := pairing.NewKey()
	for version, in := range map[int]bool{Protocol: true, Protocol - 1: true, Protocol - 2: false, Protocol + 1: false} {
		a, b := net.Pipe()
		go Accept(t.Context(), b, knows(key))
		var asked challenge
		require.NoError(t, hear(a, &asked))
		text := fmt.Sprintf(`{"worker":"w1","protocol":%d}`, version)
		own := pairing.Nonce()
		require.NoError(t, say(a, proof{text, own, key.Sign(asked.Nonce, own, text)}))
		var v verdict
		require.NoError(t, hear(a, &v))
		assert.Equal(t, in, v.Refusal == nil, "version %d", version)
		if !in {
			assert.Contains(t, v.Refusal.Fix, "Install")
		}
		a.Close()
	}
}

// What is no link costs its own connection.
func FuzzAccept(f *testing.F) {
	f.Add([]byte("\x00\x02{}"))
	f.Add([]byte("\xff\xffGET / HTTP/1.1\r\n\r\n"))
	f.Add([]byte("\x00\x11{\"hello\":\"{}\"}   "))
	f.Fuzz(func(t *testing.T, b []byte) {
		a, c := net.Pipe()
		go func() {
			go io.Copy(io.Discard, a)
			a.SetWriteDeadline(time.Now().Add(time.Second))
			a.Write(b)
			a.Close()
		}()
		if l, _, err := Accept(t.Context(), c, knows(pairing.NewKey())); err == nil {
			l.Close()
			t.Fatal("a stranger was let in")
		}
	})
}

func ExampleRefusal() {
	fmt.Println(errStranger)
	// Output: This server does not know this worker. Pair it: unlatch worker pair
}
