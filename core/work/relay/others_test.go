package relay_test

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/wire/rtsp"
)

// secureAt serves the house's relays over TLS too, with a certificate that nobody vouches for, and returns where.
func (h *house) secureAt() string {
	web := httptest.NewTLSServer(nil) // for its certificate
	h.t.Cleanup(web.Close)
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(h.t, err)
	go h.server.Serve(h.t.Context(), tls.NewListener(l, &tls.Config{Certificates: web.TLS.Certificates}))
	return l.Addr().String()
}

// Programs of everybody's take relays over every transport: ffmpeg counts pictures, and GStreamer decodes them.
func TestOthersTakeRelays(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	secure := h.secureAt()
	sign := consumer.User + ":" + consumer.Secret.Reveal() + "@"
	plain, safe := "rtsp://"+sign+h.at+"/clock/main", "rtsps://"+sign+secure+"/clock/main"
	for _, c := range []struct{ over, url string }{{"tcp", plain}, {"udp", plain}, {"http", plain}, {"tcp", safe}} {
		ctx, done := context.WithTimeout(t.Context(), time.Minute)
		out, err := exec.CommandContext(ctx, "ffmpeg", "-v", "error", "-rtsp_transport", c.over, "-i", c.url, "-map", "0:v", "-frames:v", "5",
			"-f", "rawvideo", "-pix_fmt", "gray", "-").Output()
		done()
		require.NoError(t, err, "ffmpeg over %s of %s: %s", c.over, c.url, out)
		assert.Len(t, out, 5*320*180, c.over)
	}
	for _, c := range []struct{ over, url string }{{"tcp", plain}, {"udp", plain}, {"tcp+http", "rtsph" + strings.TrimPrefix(plain, "rtsp")},
		{"tcp", safe}} {
		folder := t.TempDir()
		play := exec.CommandContext(t.Context(), "gst-launch-1.0", strings.Fields("-q rtspsrc location="+c.url+" protocols="+c.over+
			" tls-validation-flags=0 latency=0 ! rtph264depay ! h264parse ! avdec_h264 ! videoconvert ! pngenc ! multifilesink location="+folder+
			"/picture%d.png")...)
		said := &strings.Builder{}
		play.Stderr = said
		require.NoError(t, play.Start())
		assert.Eventually(t, func() bool {
			found, _ := filepath.Glob(folder + "/*.png")
			return len(found) >= 5
		}, time.Minute, 50*time.Millisecond, "GStreamer over %s of %s", c.over, c.url)
		play.Process.Kill()
		play.Wait()
		assert.NotContains(t, said.String(), "ERROR")
	}
}

// Halves of sessions within HTTP that never become whole, or that hold something else, cost their own connections alone.
func TestTunnelsThatAreNone(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	sound, err := h.plays(t.Context(), "clock/main", rtsp.Tunnel, consumer)
	require.NoError(t, err)
	defer sound.Close()
	half := func(method, cookie string) net.Conn {
		c, err := net.Dial("tcp4", h.at)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		c.SetDeadline(time.Now().Add(30 * time.Second))
		fmt.Fprintf(c, "%s /clock/main HTTP/1.0\r\nx-sessioncookie: %s\r\n\r\n", method, cookie)
		return c
	}
	first := func(c net.Conn) string {
		line, _ := bufio.NewReader(c).ReadString('\n')
		return strings.TrimSpace(line)
	}
	assert.Contains(t, first(half("GET", "")), "404")
	assert.Contains(t, first(half("POST", "nobody")), "404")
	assert.Contains(t, first(half("GET", strings.Repeat("x", 300))), "404")
	alone := half("GET", "one")
	assert.Contains(t, first(alone), "200")
	assert.Contains(t, first(half("GET", "one")), "404", "there is one of that cookie already")
	junk := half("GET", "two")
	assert.Contains(t, first(junk), "200")
	post := half("POST", "two")
	io.WriteString(post, "!!!! this is no base64")
	_, err = io.Copy(io.Discard, junk)
	assert.NoError(t, err, "it is shut")
	_, err = io.Copy(io.Discard, alone)
	assert.NoError(t, err, "it is shut after the time that a first request has")
	_, err = io.Copy(io.Discard, post)
	assert.NoError(t, err, "both halves end together")
	assert.Equal(t, 320, measured(t, sound, 1).Width)
}
