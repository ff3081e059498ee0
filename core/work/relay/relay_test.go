package relay_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
	"unlatch/core/work/convert"
	"unlatch/core/work/fanout"
	"unlatch/core/work/relay"
	"unlatch/sim"
	"unlatch/sim/scene"
	"unlatch/sim/simtest"
	"unlatch/sim/transport"
)

const yard = `
name: relayed
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.52.0.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10, audio: "true"}], defects: {sessions: 1}}
  - {name: Bank, maker: lumenhythe, model: L5, address: 127.52.0.12, scene: viaduct, streams: [{width: 320, height: 180, fps: 10,
       kbps: 200, gop: 5, codec: h265}]}
  - {name: Hut, maker: corvane, model: V1, address: 127.52.0.13, scene: coal-stage, streams: [{width: 320, height: 180, fps: 5,
       kbps: 900, codec: jpeg}]}
`

// A house is a relay server with relays of the cameras.
type house struct {
	t      *testing.T
	world  *sim.World
	server *relay.Server
	hub    fanout.Hub
	at     string
	opened atomic.Int32
	list   []relay.Relay
	net    string // of the cameras
}

var consumer = signin.SignIn{User: "desk", Secret: signin.NewSecret("oak-door-52")}

// networks are those that the tests have taken: each has one of its own.
var networks atomic.Int32

func newHouse(t *testing.T) *house {
	t.Helper()
	h := &house{t: t, server: &relay.Server{}, net: fmt.Sprintf("127.52.%d.", networks.Add(1))}
	h.world = simtest.Start(t, strings.ReplaceAll(yard, "127.52.0.", h.net))
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	h.at = l.Addr().String()
	go h.server.Serve(t.Context(), l)
	t.Cleanup(h.server.Close)
	for _, name := range []string{"Clock", "Bank", "Hut"} {
		h.list = append(h.list, h.relay(name))
	}
	h.server.Set(h.list)
	return h
}

func (h *house) relay(name string) relay.Relay {
	u, err := streamurl.Parse(h.world.Device(name).URL(0))
	require.NoError(h.t, err)
	return relay.Relay{ID: name, Path: strings.ToLower(name) + "/main", User: consumer.User, Secret: consumer.Secret,
		Take: func(ctx context.Context) (*fanout.Consumer, error) {
			return h.hub.Join(ctx, name, func(ctx context.Context) (*player.Session, error) {
				h.opened.Add(1)
				return player.Open(ctx, player.Request{Kinds: []string{"video", "audio"}, URL: u,
					Dial:   &address.Guard{Allowed: address.MustParse(h.net + "0/24")},
					SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
			})
		}}
}

// plays takes a relay as a recorder does.
func (h *house) plays(ctx context.Context, path string, transport rtsp.Transport, with signin.SignIn) (*player.Session, error) {
	u, err := streamurl.Parse("rtsp://" + h.at + "/" + path)
	require.NoError(h.t, err)
	return player.Open(ctx, player.Request{Kinds: []string{"video", "audio"}, URL: u, Transport: transport, SignIn: with,
		Dial: &address.Guard{Allowed: address.MustParse("127.0.0.0/8")}})
}

// measured reads a session for a while and measures its picture.
func measured(t *testing.T, s *player.Session, seconds float64) media.Measured {
	t.Helper()
	m := media.NewMeter(s.Tracks[0].Track)
	end := time.Now().Add(time.Duration(seconds * float64(time.Second)))
	require.NoError(t, s.Run(t.Context(), func(p player.Packet) {
		if p.Track == 0 && !p.RTCP {
			m.Packet(p.Payload, p.At)
		}
	}, func() bool { return time.Now().After(end) }))
	return m.Measured()
}

// A camera that allows one session is taken by several at once, over each transport, and each has the whole of it.
func TestOneSessionForManyTakers(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	for _, transport := range []rtsp.Transport{rtsp.TCP, rtsp.UDP, rtsp.Tunnel} {
		t.Run(string(transport), func(t *testing.T) {
			t.Parallel()
			s, err := h.plays(t.Context(), "clock/main", transport, consumer)
			require.NoError(t, err)
			defer s.Close()
			assert.Contains(t, s.Auth, "SHA-256")
			require.Len(t, s.Tracks, 2, "picture and sound")
			m := measured(t, s, 2.5)
			assert.Equal(t, 320, m.Width)
			assert.InDelta(t, 10, m.FPS, 3)
			assert.Zero(t, m.Lost)
		})
	}
	for _, path := range []string{"bank/main", "hut/main"} {
		s, err := h.plays(t.Context(), path, rtsp.TCP, consumer)
		require.NoError(t, err, path)
		assert.Equal(t, 320, measured(t, s, 1.5).Width, path)
		s.Close()
	}
}

// Nothing is told to who has no sign-in, not even which names there are; and who tries too often is let wait.
func TestOnlyWithTheRelaysOwnSignIn(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	for _, with := range []signin.SignIn{{}, {User: "desk", Secret: signin.NewSecret("wrong")},
		{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}} {
		for _, path := range []string{"clock/main", "nobody/main"} {
			_, err := h.plays(t.Context(), path, rtsp.TCP, with)
			var status *rtsp.StatusError
			var refused *rtsp.AuthError
			assert.True(t, assert.Error(t, err) && (assert.ErrorAs(t, err, &refused) || assert.ErrorAs(t, err, &status)), "%s: %v", path, err)
		}
	}
	assert.Zero(t, h.opened.Load(), "no camera was asked")
	for range 10 {
		h.plays(t.Context(), "clock/main", rtsp.TCP, signin.SignIn{User: "desk", Secret: signin.NewSecret("wrong")})
	}
	_, err := h.plays(t.Context(), "clock/main", rtsp.TCP, consumer)
	assert.ErrorContains(t, err, "403")
}

// A relay that is taken away, or opens by another sign-in, ends for who takes it; the others go on.
func TestARelayThatIsTakenAway(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	gone, err := h.plays(t.Context(), "clock/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer gone.Close()
	stays, err := h.plays(t.Context(), "bank/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer stays.Close()
	changed := h.relay("Clock")
	changed.Secret = signin.NewSecret("another")
	h.server.Set([]relay.Relay{changed, h.list[1]})
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	assert.Error(t, gone.Run(ctx, func(player.Packet) {}, func() bool { return false }))
	assert.NoError(t, ctx.Err())
	assert.Equal(t, 320, measured(t, stays, 1).Width)
	_, err = h.plays(t.Context(), "hut/main", rtsp.TCP, consumer)
	assert.Error(t, err, "it was taken away")
}

// The session begins with the first taker and ends after the last; a relay that is always on begins by itself.
func TestWhenTheCameraIsPlayed(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	assert.Zero(t, h.hub.Streams())
	s, err := h.plays(t.Context(), "bank/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	assert.Equal(t, 1, h.hub.Streams())
	measured(t, s, 0.3)
	assert.EqualValues(t, 1, h.opened.Load(), "described and played in one session")
	s.Close()
	require.Eventually(t, func() bool { return h.hub.Streams() == 0 }, 20*time.Second, 20*time.Millisecond)
	always := h.relay("Clock")
	always.Always = true
	h.server.Set([]relay.Relay{always})
	require.Eventually(t, func() bool { return h.hub.Streams() == 1 }, 20*time.Second, 20*time.Millisecond)
	h.server.Set(nil)
	require.Eventually(t, func() bool { return h.hub.Streams() == 0 }, 20*time.Second, 20*time.Millisecond)
}

// Most bounds who takes one stream, and the bound is told as RTSP has it.
func TestTooManyTakers(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	few := h.relay("Bank")
	few.Most = 1
	h.server.Set([]relay.Relay{few})
	first, err := h.plays(t.Context(), "bank/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer first.Close()
	measured(t, first, 0.3)
	_, err = h.plays(t.Context(), "bank/main", rtsp.TCP, consumer)
	assert.ErrorContains(t, err, "453")
	assert.Equal(t, 320, measured(t, first, 1).Width)
}

// One that stops reading changes nothing for another, and goes on with the newest picture when it reads again.
func TestATakerThatStopsReading(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	slow, err := h.plays(t.Context(), "hut/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer slow.Close()
	quick, err := h.plays(t.Context(), "hut/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer quick.Close()
	m := measured(t, quick, 4) // meanwhile nobody reads the other
	assert.Zero(t, m.Lost)
	assert.InDelta(t, 5, m.FPS, 1.5)
	assert.Equal(t, 320, measured(t, slow, 1).Width)
}

// Connections that say nothing, or nonsense, hold nobody else up, and no more of them are kept than one address may have.
func TestFloods(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	var conns []net.Conn
	for i := range 100 {
		c, err := net.Dial("tcp4", h.at)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		if i%2 == 0 {
			fmt.Fprintf(c, "DESCRIBE rtsp://%s/clock/main RTSP/1.0\r\nCSeq: ", h.at)
		}
		conns = append(conns, c)
	}
	var shut atomic.Int32
	var all sync.WaitGroup
	for _, c := range conns {
		all.Go(func() {
			c.SetReadDeadline(time.Now().Add(3 * time.Second))
			if _, err := c.Read(make([]byte, 1)); err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
				shut.Add(1)
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, len(conns)-64, shut.Load(), "one address has 64")
	for _, c := range conns {
		c.Close()
	}
	for _, junk := range []string{"GET / HTTP/1.0\r\n\r\n", "\x16\x03\x01\x00\x05hello", strings.Repeat("A", 100_000), "$\x00\xff\xff",
		"DESCRIBE * RTSP/1.0\r\nCSeq: 1\r\n\r\n", "SETUP rtsp://x/\x00 RTSP/1.0\r\nContent-Length: 999999999\r\n\r\n"} {
		require.Eventually(t, func() bool {
			c, err := net.Dial("tcp4", h.at)
			if err != nil {
				return false
			}
			defer c.Close()
			c.SetDeadline(time.Now().Add(3 * time.Second))
			c.Write([]byte(junk))
			bufio.NewReader(c).ReadString('\n')
			return true
		}, 20*time.Second, 50*time.Millisecond)
	}
	require.Eventually(t, func() bool {
		s, err := h.plays(t.Context(), "bank/main", rtsp.TCP, consumer)
		if err != nil {
			return false
		}
		defer s.Close()
		return measured(t, s, 0.5).Width == 320
	}, 60*time.Second, 100*time.Millisecond)
}

// What a clumsy client does costs it its own connection at most: sound ones beside it feel nothing.
func TestClumsyClients(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	sound, err := h.plays(t.Context(), "clock/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer sound.Close()

	s, err := h.plays(t.Context(), "clock/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer s.Close()
	assert.Equal(t, 320, measured(t, s, 0.5).Width)

	// One byte a second of a request: it is shut after the time that a first request has.
	slow, err := net.Dial("tcp4", h.at)
	require.NoError(t, err)
	defer slow.Close()
	shut := make(chan struct{})
	go func() {
		defer close(shut)
		io.Copy(io.Discard, slow)
	}()
	go func() {
		for _, b := range []byte("OPTIONS * RTSP/1.0\r\nCSeq: 1\r\n\r\n") {
			if _, err := slow.Write([]byte{b}); err != nil {
				return
			}
			time.Sleep(time.Second)
		}
	}()
	for name, request := range map[string]string{
		"64 kB of headers": "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\nX: " + strings.Repeat("y", 64<<10) + "\r\n\r\n",
		"no CSeq":          "OPTIONS * RTSP/1.0\r\n\r\n",
		"SETUP of nothing": "SETUP rtsp://" + h.at + "/ RTSP/1.0\r\nCSeq: 1\r\nTransport: RTP/AVP/TCP;interleaved=0-1\r\n\r\n",
		"PLAY of nothing":  "PLAY rtsp://" + h.at + "/clock/main RTSP/1.0\r\nCSeq: 9\r\nSession: 1\r\n\r\n",
		"interleaved":      "$\x00\x00\x04abcd$\x09\xff\xff" + strings.Repeat("z", 70_000) + "nonsense\r\n\r\n",
	} {
		c, err := net.Dial("tcp4", h.at)
		require.NoError(t, err)
		c.SetDeadline(time.Now().Add(20 * time.Second))
		c.Write([]byte(request))
		line, _ := bufio.NewReader(c).ReadString('\n')
		assert.NotContains(t, line, "200 OK\r\nSession", name)
		c.Close()
	}
	assert.Equal(t, 320, measured(t, sound, 1).Width)
	select {
	case <-shut:
	case <-time.After(30 * time.Second):
		t.Error("a request of a byte a second is waited for without end")
	}
}

// A thousand wrong sign-ins shut their address out for a while, and who takes the stream already goes on.
func TestAThousandWrongSignIns(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	sound, err := h.plays(t.Context(), "clock/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer sound.Close()
	wrong := signin.SignIn{User: consumer.User, Secret: signin.NewSecret("guess")}
	refused := 0
	for range 20 {
		if _, err := h.plays(t.Context(), "clock/main", rtsp.TCP, wrong); err != nil {
			refused++
		}
	}
	assert.Equal(t, 20, refused)
	c, err := net.Dial("tcp4", h.at)
	require.NoError(t, err)
	defer c.Close()
	c.SetDeadline(time.Now().Add(20 * time.Second))
	r := bufio.NewReader(c)
	last := ""
	for n := range 1000 {
		fmt.Fprintf(c, "DESCRIBE rtsp://%s/clock/main RTSP/1.0\r\nCSeq: %d\r\n"+
			"Authorization: Digest username=\"desk\", realm=\"x\", nonce=\"%d\", uri=\"/clock/main\", response=\"00\"\r\n\r\n", h.at, n+1, n)
		line, err := r.ReadString('\n')
		if err != nil {
			break // it is hung up on
		}
		last = line
		for line != "\r\n" {
			if line, err = r.ReadString('\n'); err != nil {
				break
			}
		}
	}
	assert.Contains(t, last, "403")
	_, err = h.plays(t.Context(), "clock/main", rtsp.TCP, consumer)
	assert.Error(t, err, "nor with the right one, for a minute")
	assert.Equal(t, 320, measured(t, sound, 0.5).Width)
}

// A transport stream in datagrams, whose pictures have any length, is served as RTP that every taker reads.
func TestATransportStreamIsServedOn(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	library := &scene.Library{Dir: simtest.MediaDir(t)}
	clip, err := library.Clip(t.Context(), scene.Format{Scene: "viaduct", Width: 640, Height: 360, FPS: 10, Kbps: 900, GOP: 10,
		Profile: "main"})
	require.NoError(t, err)
	from, group := netip.MustParseAddr(h.net+"20"), netip.MustParseAddrPort("239.52.7.20:20000")
	sending, stop := context.WithCancel(context.Background())
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		transport.Send(sending, transport.Options{Clip: clip, From: from, To: group})
	}()
	t.Cleanup(func() { stop(); <-sent })
	u, err := streamurl.Parse("udp://@" + group.String())
	require.NoError(t, err)
	guard := &address.Guard{Allowed: address.MustParse(h.net + "0/24")}
	h.server.Set([]relay.Relay{{ID: "ts", Path: "encoder/main", User: consumer.User, Secret: consumer.Secret,
		Take: func(ctx context.Context) (*fanout.Consumer, error) {
			return h.hub.Join(ctx, "ts", func(ctx context.Context) (*player.Session, error) {
				return player.Open(ctx, player.Request{Kinds: []string{"video"}, URL: u, Dial: guard})
			})
		}}})
	for _, over := range []rtsp.Transport{rtsp.TCP, rtsp.UDP} {
		s, err := h.plays(t.Context(), "encoder/main", over, consumer)
		require.NoError(t, err, over)
		m := measured(t, s, 2)
		assert.Equal(t, 640, m.Width, over)
		assert.InDelta(t, 10, m.FPS, 3, over)
		assert.Zero(t, m.Lost, over)
		s.Close()
	}
}

// A camera that restarts under its takers ends their sessions; asked anew, it plays again, with other numbers of its own.
func TestACameraThatRestarts(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	s, err := h.plays(t.Context(), "clock/main", rtsp.TCP, consumer)
	require.NoError(t, err)
	defer s.Close()
	assert.Equal(t, 320, measured(t, s, 0.5).Width)
	require.NoError(t, h.world.Trouble(sim.Trouble{Kind: "firmware", Name: "Clock", To: "2.0.0"}))
	begun := time.Now()
	tooLong := func() bool { return time.Since(begun) > time.Minute }
	assert.Error(t, s.Run(t.Context(), func(player.Packet) {}, tooLong), "it is told by its end")
	require.Eventually(t, func() bool {
		again, err := h.plays(t.Context(), "clock/main", rtsp.TCP, consumer)
		if err != nil {
			return false
		}
		defer again.Close()
		return measured(t, again, 0.5).Width == 320
	}, time.Minute, 500*time.Millisecond)
}

// A stream that is turned into JPEG is served as RTP has it, to a player that is not ours too; one that is a JPEG file each as well.
func TestAConvertedStreamIsServed(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	var machine convert.Machine
	machine.Set(conversion.Rates{Budget: 8})
	form := conversion.Shape{Codec: "MJPEG", Width: 160, Height: 96, FPS: 5, Sound: "none"}
	r := h.relay("Bank")
	plain := r.Take
	r.Path, r.ID = "bank/panel", "Bank panel"
	r.Take = func(ctx context.Context) (*fanout.Consumer, error) {
		return h.hub.Join(ctx, "Bank panel", func(ctx context.Context) (*player.Session, error) {
			from, err := plain(ctx)
			if err != nil {
				return nil, err
			}
			return machine.Open(ctx, from, conversion.Source{}, form)
		})
	}
	h.server.Set(append(h.list, r))
	for _, transport := range []rtsp.Transport{rtsp.TCP, rtsp.UDP} {
		s, err := h.plays(t.Context(), "bank/panel", transport, consumer)
		require.NoError(t, err)
		got := measured(t, s, 2)
		s.Close()
		assert.Equal(t, []any{"MJPEG", 160, 96}, []any{got.Codec, got.Width, got.Height}, transport)
		assert.InDelta(t, 5, got.FPS, 1.5, transport)
	}
	out, err := exec.Command("ffmpeg", "-v", "error", "-rtsp_transport", "tcp", "-i", "rtsp://"+consumer.User+":"+consumer.Secret.Reveal()+"@"+
		h.at+"/bank/panel", "-frames:v", "3", "-f", "rawvideo", "-pix_fmt", "gray", "-").Output()
	require.NoError(t, err)
	assert.Len(t, out, 3*160*96)
}
