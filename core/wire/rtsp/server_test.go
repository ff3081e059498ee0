package rtsp

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// clockwork is a stream with two tracks that sends a packet of each.
type clockwork struct{}

func (clockwork) Request(v *Viewer, q *Request) bool {
	if q.Header.Get("X-Refuse") != "" {
		v.Reply(q, 403, "No")
		return true
	}
	return false
}

func (c clockwork) Stream(url string) (Stream, int, bool) {
	track := 0
	if _, n, ok := strings.Cut(url, "/track"); ok {
		fmt.Sscan(n, &track)
	}
	return c, track, strings.Contains(url, "/clock")
}

func (clockwork) SDP() string { return "v=0\r\nm=video 0 RTP/AVP 96\r\na=control:track1\r\n" }

func (clockwork) Send(ctx context.Context, to *Sink) {
	to.RTP(1, []byte("tick"))
	to.RTP(2, []byte("tock"))
	to.Interleave(99, []byte("stray"))
	to.Flush()
	<-ctx.Done()
}

// talk sends requests to a server one by one and returns the answers' statuses.
func talk(t *testing.T, s *Server, requests ...string) []int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go s.Serve(context.Background(), l)
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	r := bufio.NewReader(c)
	var out []int
	for _, q := range requests {
		_, err := io.WriteString(c, q+"\r\n\r\n")
		require.NoError(t, err)
		c.SetReadDeadline(time.Now().Add(5 * time.Second))
		res, err := ReadResponse(r)
		require.NoError(t, err, q)
		out = append(out, res.Status)
	}
	return out
}

func TestServerStates(t *testing.T) {
	const setup = "SETUP rtsp://h/clock/track1 RTSP/1.0\r\nCSeq: 1\r\nTransport: "
	for name, c := range map[string]struct {
		server   *Server
		requests []string
		want     []int
	}{
		"the usual way": {&Server{}, []string{"OPTIONS * RTSP/1.0", "DESCRIBE rtsp://h/clock RTSP/1.0", setup +
			"RTP/AVP/TCP;interleaved=4-5"}, []int{200, 200, 200}},
		"a path that is not there": {&Server{}, []string{"DESCRIBE rtsp://h/x RTSP/1.0", "SETUP rtsp://h/clock RTSP/1.0"}, []int{404, 404}},
		"play without a set-up":    {&Server{}, []string{"PLAY rtsp://h/clock RTSP/1.0"}, []int{455}},
		"a method that it lacks":   {&Server{}, []string{"RECORD rtsp://h/clock RTSP/1.0"}, []int{501}},
		"a group that it lacks":    {&Server{}, []string{setup + "RTP/AVP;multicast"}, []int{461}},
		"what the handler refuses": {&Server{}, []string{"DESCRIBE rtsp://h/clock RTSP/1.0\r\nX-Refuse: 1", "OPTIONS * RTSP/1.0"},
			[]int{403, 200}},
		"no session to be had":      {&Server{Sessions: -1}, []string{setup + "RTP/AVP/TCP"}, []int{453}},
		"datagrams without a port":  {&Server{}, []string{setup + "RTP/AVP;unicast"}, []int{500}},
		"nonsense ends the session": {&Server{}, []string{"GET / HTTP/1.1"}, []int{400}},
	} {
		s := c.server
		s.Handler, s.Name = clockwork{}, "clockwork"
		assert.Equal(t, c.want, talk(t, s, c.requests...), name)
		require.NoError(t, s.Close())
		assert.Zero(t, s.Viewers(), "%s: every session is given back", name)
	}
}

// What is sent is framed by the channels that were asked for, strays too, and only what was set up is sent.
func TestServerInterleaves(t *testing.T) {
	s := &Server{Handler: clockwork{}, Sessions: 1}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go s.Serve(context.Background(), l)
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	c.SetDeadline(time.Now().Add(5 * time.Second))
	r := bufio.NewReader(c)
	fmt.Fprint(c, "SETUP rtsp://h/clock/track2 RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP/TCP;interleaved=6-7\r\n\r\n")
	res, err := ReadResponse(r)
	require.NoError(t, err)
	assert.Contains(t, res.Header.Get("Transport"), "interleaved=6-7")
	assert.Equal(t, 1, s.Viewers())
	assert.Equal(t, []int{453}, talk(t, s, "SETUP rtsp://h/clock/track1 RTSP/1.0\r\nTransport: RTP/AVP/TCP"), "one session at a time")
	fmt.Fprint(c, "$\x00\x00\x02hi") // the viewer's RTCP is passed over
	fmt.Fprint(c, "PLAY rtsp://h/clock RTSP/1.0\r\nCSeq: 2\r\n\r\n")
	_, err = ReadResponse(r)
	require.NoError(t, err)
	want := "$\x06\x00\x04tock$\x63\x00\x05stray"
	got := make([]byte, len(want))
	_, err = io.ReadFull(r, got)
	require.NoError(t, err)
	assert.Equal(t, want, string(got))
	require.NoError(t, s.Close(), "it ends what plays")
	_, err = r.ReadByte()
	assert.ErrorIs(t, err, io.EOF)
	later, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	assert.ErrorIs(t, s.Serve(context.Background(), later), net.ErrClosed)
	_, err = net.Dial("tcp", later.Addr().String())
	assert.Error(t, err, "a listener that comes too late is closed, too")
}
