package player

import (
	"context"
	"fmt"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/rtsp"
)

// box is a device with one stream: what kinds of track it has, and which it gives.
type box struct {
	kinds    []string
	refuses  string // SETUP of a track of this kind
	stopped  atomic.Bool
	requests atomic.Int64
}

func (b *box) Request(v *rtsp.Viewer, q *rtsp.Request) bool {
	b.requests.Add(1)
	_, track, _ := b.Stream(q.URL)
	if q.Method == "SETUP" && track > 0 && b.kinds[track-1] == b.refuses {
		v.Reply(q, 500, "No")
		return true
	}
	return false
}

func (b *box) Stream(url string) (rtsp.Stream, int, bool) {
	track := 0
	if _, n, ok := strings.Cut(url, "/track"); ok {
		fmt.Sscan(n, &track)
	}
	return b, track, true
}

func (b *box) SDP() string {
	var s strings.Builder
	s.WriteString("v=0\r\n")
	for i, k := range b.kinds {
		fmt.Fprintf(&s, "m=%s 0 RTP/AVP %d\r\na=rtpmap:%d X/90000\r\na=control:track%d\r\n", k, 96+i, 96+i, i+1)
	}
	return s.String()
}

func (b *box) Send(ctx context.Context, to *rtsp.Sink) {
	defer b.stopped.Store(true)
	for n := byte(0); ctx.Err() == nil; n++ {
		for i := range b.kinds {
			to.RTP(i+1, []byte{byte(i), n})
		}
		if to.Flush() != nil {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Millisecond):
		}
	}
}

// serve serves the box over what takes allows, and returns its URL.
func serve(t *testing.T, b *box, takes func(string) bool) (*rtsp.Server, Request) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &rtsp.Server{Name: "box", Handler: b, Takes: takes, Group: func(_ rtsp.Stream, track int) (*net.UDPAddr, int) {
		return &net.UDPAddr{IP: net.IPv4(239, 255, 77, 1), Port: 52400 + 2*track}, 1
	}}
	go s.Serve(context.Background(), l)
	t.Cleanup(func() { s.Close() })
	u, err := streamurl.Parse("rtsp://" + l.Addr().String() + "/x")
	require.NoError(t, err)
	return s, Request{Dial: &net.Dialer{}, URL: u, Timeout: 500 * time.Millisecond}
}

// collect plays until each track that was set up has sent something.
func collect(t *testing.T, s *Session) map[int]byte {
	t.Helper()
	got := map[int]byte{}
	require.NoError(t, s.Run(context.Background(), func(p Packet) { got[p.Track] = p.Payload[0] },
		func() bool { return len(got) == len(s.Tracks) }))
	return got
}

func TestTheFirstTrackOfEachKindIsPlayed(t *testing.T) {
	b := &box{kinds: []string{"audio", "video", "video", "application"}}
	server, req := serve(t, b, nil)
	var steps []string
	req.Kinds, req.Step = []string{"video", "audio", "text", "application"}, func(name string) { steps = append(steps, name) }
	s, err := Open(context.Background(), req)
	require.NoError(t, err)
	assert.Equal(t, []string{"connect", "describe", "set up video", "set up audio", "set up application", "play"}, steps)
	assert.Equal(t, map[int]byte{0: 1, 1: 0, 2: 3}, collect(t, s), "each packet under its own track, whatever order the description has")
	assert.Equal(t, []int{0, 1, 2, -1}, []int{s.First("video"), s.First("audio"), s.First("application"), s.First("text")})
	assert.Equal(t, []any{"box", "none", rtsp.TCP}, []any{s.Server, s.Auth, s.Transport})
	assert.Equal(t, 1, server.Viewers())
	require.NoError(t, s.Close())
	assert.Zero(t, server.Viewers(), "the device has its session back")
	assert.True(t, b.stopped.Load())
}

func TestATrackThatIsRefused(t *testing.T) {
	b := &box{kinds: []string{"video", "audio"}, refuses: "audio"}
	server, req := serve(t, b, nil)
	req.Kinds = []string{"video", "audio"}
	s, err := Open(context.Background(), req)
	require.NoError(t, err, "the picture is played without the sound")
	assert.Len(t, s.Tracks, 1)
	s.Close()

	b.refuses = "video"
	_, err = Open(context.Background(), req)
	assert.ErrorAs(t, err, new(*rtsp.StatusError))
	req.Kinds = []string{"text"}
	_, err = Open(context.Background(), req)
	assert.Equal(t, &NoTrackError{Kind: "text"}, err)
	assert.Zero(t, server.Viewers(), "nothing is left open after an error")
}

func TestTransportsAreGoneThrough(t *testing.T) {
	tcp := func(s string) bool { return strings.Contains(s, "TCP") }
	group := func(s string) bool { return strings.Contains(s, "multicast") }
	for _, c := range []struct {
		name  string
		takes func(string) bool
		want  rtsp.Transport
	}{
		{"all", nil, rtsp.TCP},
		{"datagrams only", func(s string) bool { return !tcp(s) && !group(s) }, rtsp.UDP},
		{"groups only", group, rtsp.Multicast},
	} {
		_, req := serve(t, &box{kinds: []string{"video"}}, c.takes)
		s, err := Open(context.Background(), req)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, s.Transport, c.name)
		assert.Equal(t, map[int]byte{0: 0}, collect(t, s), c.name)
		s.Close()
	}
	server, req := serve(t, &box{kinds: []string{"video"}}, func(string) bool { return false })
	s, err := Open(context.Background(), req)
	var status *rtsp.StatusError
	require.ErrorAs(t, err, &status)
	assert.Equal(t, []any{461, rtsp.TCP}, []any{status.Status, s.Transport}, "the first refusal is what is said")
	assert.Zero(t, server.Viewers())
	req.Transport = rtsp.UDP
	s, err = Open(context.Background(), req)
	assert.ErrorAs(t, err, &status)
	assert.Equal(t, rtsp.UDP, s.Transport, "what was asked for is all that is tried")
}

// silent takes datagram sessions and sends nothing, as behind a firewall.
type silent struct{ box }

func (s *silent) Stream(url string) (rtsp.Stream, int, bool) {
	_, track, ok := s.box.Stream(url)
	return s, track, ok
}

func (s *silent) Send(ctx context.Context, to *rtsp.Sink) { <-ctx.Done() }

func TestDatagramsThatDoNotArrive(t *testing.T) {
	b := &silent{box{kinds: []string{"video"}}}
	server, req := serve(t, &b.box, nil)
	server.Handler = b
	req.Transport = rtsp.UDP
	_, err := Open(context.Background(), req)
	assert.ErrorAs(t, err, new(*rtsp.SilentError), "that it says it plays is not that it does")
	assert.Zero(t, server.Viewers())
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Open(ctx, req)
	assert.ErrorIs(t, err, context.Canceled)
}
