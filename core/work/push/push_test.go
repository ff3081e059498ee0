package push_test

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/hours"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtmp"
	"unlatch/core/work/fanout"
	"unlatch/core/work/push"
)

const patience = 60 * time.Second

// A platform takes streams in.
type platform struct {
	mu     sync.Mutex
	begun  int
	keys   []string
	frames int
	sound  int
	ended  int
	bad    string // a key that is turned down
	until  int    // frames after which it hangs up; 0 for never
	conns  []net.Conn
}

func (p *platform) App(string) bool { return true }

func (p *platform) Begin(_, key string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.keys = append(p.keys, key)
	if key == p.bad {
		return errors.New("this key was withdrawn")
	}
	p.begun++
	return nil
}

func (p *platform) Frame(_ string, f rtmp.Frame) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.frames++; p.frames == p.until {
		for _, c := range p.conns {
			c.Close()
		}
	}
}

func (p *platform) Sound(string, []byte, []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sound++
}

func (p *platform) End(string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended++
}

// of reads what has come.
func (p *platform) of(read func() bool) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return read()
}

func (p *platform) serve(t *testing.T, l net.Listener) {
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			p.mu.Lock()
			p.conns = append(p.conns, conn)
			p.mu.Unlock()
			go rtmp.Serve(conn, p)
		}
	}()
}

// camera returns what takes a stream that ffmpeg makes: 20 pictures a second, and no sound where audio is "".
func camera(t *testing.T, video, audio string) func(ctx context.Context) (*fanout.Consumer, error) {
	var hub fanout.Hub
	args := "-v error -re -f lavfi -i testsrc=size=320x180:rate=20"
	if audio != "" {
		args += " -f lavfi -i sine=frequency=300:sample_rate=16000"
	}
	args += " -c:v libx264 -preset veryfast -g 20 -pix_fmt yuv420p " + video + " " + audio + " -flush_packets 1 -muxdelay 0 -f mpegts pipe:1"
	return func(ctx context.Context) (*fanout.Consumer, error) {
		return hub.Join(ctx, "made", func(ctx context.Context) (*player.Session, error) {
			c := exec.CommandContext(t.Context(), "ffmpeg", strings.Fields(args)...)
			out, err := c.StdoutPipe()
			if err != nil {
				return nil, err
			}
			if err := c.Start(); err != nil {
				return nil, err
			}
			s, err := player.Read(ctx, player.Making{Out: out, Timeout: patience})
			if err != nil {
				return nil, err
			}
			s.OnClose(func() {
				c.Process.Kill()
				c.Wait()
			})
			return s.Session, nil
		})
	}
}

// start sends a stream to an address until the test ends.
func start(t *testing.T, p push.Push) *push.Server {
	s := &push.Server{}
	t.Cleanup(s.Close)
	p.ID = "1"
	p.Dial = &address.Guard{Allowed: address.MustParse("127.0.0.0/8")}
	s.Set([]push.Push{p})
	return s
}

// becomes waits until a push is in a state, and returns what is said of it.
func becomes(t *testing.T, s *push.Server, want push.State) string {
	t.Helper()
	require.Eventually(t, func() bool { return s.Statuses()[0].State == want }, patience, 20*time.Millisecond, "%v", s.Statuses())
	return s.Statuses()[0].Says
}

// ingest listens for a platform, and returns its address.
func ingest(t *testing.T) (net.Listener, rtmp.Ingest) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	return l, rtmp.Ingest{Host: l.Addr().String(), App: "live"}
}

// A program of everybody's takes the stream in as it was: B-frames in their order, and silence where there is no sound.
func TestOthersTakeItIn(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ video, audio string }{
		"no sound":  {"-tune zerolatency", ""},
		"AAC":       {"-tune zerolatency", "-c:a aac"},
		"B-frames":  {"-bf 2 -b_strategy 0", "-c:a aac"},
		"a pyramid": {"-bf 3 -b_strategy 0 -b-pyramid normal", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			l, to := ingest(t)
			l.Close()
			file := filepath.Join(t.TempDir(), "taken.flv")
			receiver := exec.CommandContext(t.Context(), "ffmpeg", "-v", "error", "-listen", "1", "-i", "rtmp://"+to.Host+"/live/key",
				"-t", "4", "-c", "copy", file)
			require.NoError(t, receiver.Start())
			s := start(t, push.Push{To: to, Key: signin.NewSecret("key"), Silence: true, Take: camera(t, c.video, c.audio)})
			becomes(t, s, push.Sending)
			done := make(chan error, 1)
			go func() { done <- receiver.Wait() }()
			select {
			case err := <-done:
				require.NoError(t, err)
			case <-time.After(patience):
				receiver.Process.Kill()
				t.Fatal("the receiver does not end")
			}
			out, err := exec.Command("ffmpeg", "-v", "warning", "-i", file, "-f", "null", "-").CombinedOutput()
			require.NoError(t, err)
			assert.Empty(t, string(out), "nothing is to complain of")
			out, err = exec.Command("ffprobe", "-v", "error", "-show_entries", "stream=codec_name,has_b_frames", "-of", "compact=p=0", file).
				CombinedOutput()
			require.NoError(t, err)
			assert.Contains(t, string(out), "codec_name=aac")
			out, err = exec.Command("ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "frame=pkt_dts_time,pts_time", "-of",
				"csv=p=0", file).CombinedOutput()
			require.NoError(t, err)
			checkTimes(t, string(out))
		})
	}
}

// checkTimes wants pictures in the order in which they are shown, a twentieth of a second apart.
func checkTimes(t *testing.T, list string) {
	t.Helper()
	last, n, off := -1.0, 0, 0
	for _, line := range strings.Fields(list) {
		var at float64
		if _, err := fmt.Sscanf(strings.Split(line, ",")[0], "%f", &at); err != nil {
			continue
		}
		if last >= 0 {
			assert.Greater(t, at, last)
			if at-last > 0.06 || at-last < 0.04 {
				off++
			}
		}
		last, n = at, n+1
	}
	assert.Greater(t, n, 40)
	assert.LessOrEqual(t, off, 2, "pictures are as far apart as the camera's")
}

// The key goes to nobody on TLS who is a stranger; a certificate that was agreed on is one that is known.
func TestAKeyIsSentToNoStranger(t *testing.T) {
	t.Parallel()
	web := httptest.NewTLSServer(nil) // for its certificate
	defer web.Close()
	l, to := ingest(t)
	p := &platform{}
	p.serve(t, tls.NewListener(l, &tls.Config{Certificates: web.TLS.Certificates}))
	to.Secure = true
	one := push.Push{To: to, Key: signin.NewSecret("brass-key-99"), Take: camera(t, "-tune zerolatency", "")}
	s := start(t, one)
	says := becomes(t, s, push.Broken)
	assert.Contains(t, says, "Nobody vouches")
	sum := sha256.Sum256(web.Certificate().Raw)
	pin := hex.EncodeToString(sum[:])
	assert.Contains(t, says, pin)
	assert.NotContains(t, says, "brass-key")
	assert.True(t, p.of(func() bool { return len(p.keys) == 0 }))

	one.Pin = pin
	known := start(t, one)
	becomes(t, known, push.Sending)
	assert.True(t, p.of(func() bool { return p.keys[0] == "brass-key-99" }))
	one.Pin = strings.Repeat("0", 64)
	assert.Contains(t, becomes(t, start(t, one), push.Broken), "Nobody vouches")
}

// A platform that hangs up is sent to again; one that turns the key down is quoted; a stop ends it at once.
func TestAPushGoesOn(t *testing.T) {
	t.Parallel()
	l, to := ingest(t)
	p := &platform{until: 15}
	p.serve(t, l)
	one := push.Push{To: to, Key: signin.NewSecret("right"), Silence: true, Take: camera(t, "-tune zerolatency", "")}
	s := start(t, one)
	require.Eventually(t, func() bool { return p.of(func() bool { return p.begun > 1 && p.frames > 30 && p.sound > 10 }) }, patience,
		20*time.Millisecond)
	becomes(t, s, push.Sending)

	one.ID, one.Dial, one.Paused = "1", &address.Guard{Allowed: address.MustParse("127.0.0.0/8")}, true
	ended := p.ended
	s.Set([]push.Push{one})
	becomes(t, s, push.Stopped)
	require.Eventually(t, func() bool { return p.of(func() bool { return p.ended > ended }) }, patience, 20*time.Millisecond)
	one.Paused, one.Hours = false, hours.Week{From: "03:00", Until: "03:01", Zone: zoneWhereItIsNoon()}
	s.Set([]push.Push{one})
	becomes(t, s, push.OffHours)
	one.Hours = hours.Week{}
	s.Set([]push.Push{one})
	becomes(t, s, push.Sending)

	q := &platform{bad: "wrong"}
	m, other := ingest(t)
	q.serve(t, m)
	refused := start(t, push.Push{To: other, Key: signin.NewSecret("wrong"), Take: one.Take})
	assert.Contains(t, becomes(t, refused, push.Refused), "this key was withdrawn")
}

// zoneWhereItIsNoon returns a zone in which it is far from three at night.
func zoneWhereItIsNoon() string {
	if h := time.Now().UTC().Hour(); h >= 1 && h <= 5 {
		return "Asia/Tokyo"
	}
	return "UTC"
}

// Streams that no platform takes are told as that, and nothing is sent.
func TestStreamsThatAreNotTaken(t *testing.T) {
	t.Parallel()
	l, to := ingest(t)
	p := &platform{}
	p.serve(t, l)
	other := push.Push{To: to, Take: camera(t, "-tune zerolatency", "-c:a mp2")}
	assert.Contains(t, becomes(t, start(t, other), push.NoStream), "sound in AAC")
	shut, nowhere := ingest(t)
	shut.Close()
	assert.Regexp(t, `the machine is there, and nothing listens on that port`, becomes(t, start(t, push.Push{To: nowhere,
		Take: camera(t, "-tune zerolatency", "")}), push.Broken))
	away := func(context.Context) (*fanout.Consumer, error) { return nil, errors.New("the camera does not answer") }
	assert.Contains(t, becomes(t, start(t, push.Push{To: to, Take: away}), push.NoStream), "does not answer")
	assert.True(t, p.of(func() bool { return p.begun == 0 }))
}

func ExampleServer() {
	s := &push.Server{}
	defer s.Close()
	s.Set([]push.Push{{ID: "1", Paused: true}})
	fmt.Println(len(s.Statuses()))
	// Output: 1
}
