package pages_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pion/webrtc/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/player"
	"unlatch/core/work/fanout"
	"unlatch/core/work/pages"
	"unlatch/sim/simtest"
)

const yard = `
name: paged
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.52.150.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10, audio: "aac"}], defects: {sessions: 1}}
  - {name: Box, maker: corvane, model: V4, address: 127.52.150.12, scene: coal-stage, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 20, audio: "true"}], defects: {sessions: 1}}
`

const (
	patience = 60 * time.Second
	long     = time.Hour
)

var secret = signin.NewSecret("oak-door-52")

// A house is a server of pages of the cameras.
type house struct {
	t      *testing.T
	server *pages.Server
	list   []pages.Page
	at     string
	now    atomic.Int64 // added to the clock
	taken  atomic.Int32
}

func newHouse(t *testing.T, network string) *house {
	t.Helper()
	world := simtest.Start(t, strings.ReplaceAll(yard, "127.52.150.", network))
	udp, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { udp.Close() })
	h := &house{t: t}
	h.server = pages.New(pages.Options{Datagrams: udp, Taken: func(string, string) { h.taken.Add(1) },
		Now: func() time.Time { return time.Now().Add(time.Duration(h.now.Load())) }})
	t.Cleanup(h.server.Close)
	var hub fanout.Hub
	for _, name := range []string{"Clock", "Box"} {
		u, err := streamurl.Parse(world.Device(name).URL(0))
		require.NoError(t, err)
		h.list = append(h.list, pages.Page{ID: name, Path: strings.ToLower(name) + "/main", Secret: secret, Most: 2,
			Take: func(ctx context.Context) (*fanout.Consumer, error) {
				return hub.Join(ctx, name, func(ctx context.Context) (*player.Session, error) {
					return player.Open(ctx, player.Request{Kinds: []string{"video", "audio"}, URL: u,
						Dial:   &address.Guard{Allowed: address.MustParse(network + "0/24")},
						SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
				})
			}})
	}
	h.server.Set(h.list)
	web := httptest.NewServer(h.server)
	t.Cleanup(web.Close)
	h.at = web.URL
	return h
}

// address returns that of a page.
func (h *house) address(path string) string {
	return h.at + pages.Sign(secret, path, time.Now().Add(long))
}

// takers counts all who take something.
func (h *house) takers() (n int) {
	for _, s := range h.server.Statuses() {
		n += s.Takers
	}
	return n
}

func (h *house) get(url string) (status int, body string) {
	h.t.Helper()
	res, err := http.Get(url)
	require.NoError(h.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(h.t, err)
	return res.StatusCode, string(raw)
}

// Programs of everybody's play the address: picture, size and sound, for as long as they like.
func TestOthersPlayHLS(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "127.52.151.")
	at := h.address("clock/main") + "index.m3u8"
	status, index := h.get(at)
	require.Equal(t, 200, status, index)
	assert.Regexp(t, `CODECS="avc1\.[0-9A-F]{6},mp4a\.40\.2",RESOLUTION=320x180`, index)
	out, err := exec.CommandContext(t.Context(), "ffprobe", "-v", "error", "-show_entries", "stream=codec_name,width,height", "-of",
		"compact=p=0", at).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "codec_name=h264|width=320|height=180")
	assert.Contains(t, string(out), "codec_name=aac")
	out, err = exec.CommandContext(t.Context(), "ffmpeg", "-v", "error", "-i", at, "-t", "3", "-f", "null", "-").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Empty(t, string(out), "nothing was to complain of")

	folder := t.TempDir()
	play := exec.CommandContext(t.Context(), "gst-launch-1.0", strings.Fields("-q uridecodebin name=in uri="+at+" in. ! video/x-raw ! queue !"+
		" videoconvert ! pngenc ! multifilesink location="+folder+"/picture%d.png in. ! audio/x-raw ! queue ! fakesink")...)
	require.NoError(t, play.Start())
	require.Eventually(t, func() bool {
		found, _ := filepath.Glob(folder + "/*.png")
		return len(found) > 10
	}, patience, 50*time.Millisecond)
	play.Process.Kill()
	play.Wait()
	assert.GreaterOrEqual(t, h.taken.Load(), int32(4), "each player is told of")
	assert.Equal(t, 1, h.takers(), "all who take it by HLS share one cutting of it")
}

// A part that is to come next is waited for, and carries on where the playlist ended.
func TestPartsAreWaitedFor(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "127.52.152.")
	at := h.address("clock/main")
	h.get(at + "index.m3u8")
	_, list := h.get(at + "stream.m3u8?_HLS_msn=1&_HLS_part=0")
	require.Contains(t, list, "segment0.m4s")
	hint := regexp.MustCompile(`PRELOAD-HINT:TYPE=PART,URI="(part[0-9.]+m4s)"`).FindStringSubmatch(list)
	require.NotNil(t, hint, list)
	status, part := h.get(at + hint[1])
	assert.Equal(t, 200, status)
	assert.Contains(t, part, "moof")
	status, _ = h.get(at + "init0.mp4")
	assert.Equal(t, 200, status)
	for ask, want := range map[string]int{"stream.m3u8?_HLS_msn=4000": 400, "stream.m3u8?_HLS_msn=x": 400, "segment9999.m4s": 404,
		"init7.mp4": 404, "..%2f..%2fetc/passwd": 404, "whatever": 404} {
		status, body := h.get(at + ask)
		assert.Equal(t, want, status, "%s: %s", ask, body)
	}
}

// An address that has ended opens nothing, whoever it was shared with, and nobody prolongs it or makes one for another stream.
func TestAnAddressEnds(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "127.52.153.")
	at := h.address("clock/main")
	status, _ := h.get(at + "index.m3u8")
	require.Equal(t, 200, status)
	peer := h.watch(at, "video")
	peer.plays(5)

	token := strings.Split(strings.TrimPrefix(at, h.at+"/"), "/")[0]
	end, code, _ := strings.Cut(token, ".")
	for _, bad := range []string{end + "z." + code, end + ".", code, "." + code, end + "." + strings.ToLower(code), "-1." + code} {
		status, body := h.get(h.at + "/" + bad + "/clock/main/index.m3u8")
		assert.Equal(t, 404, status, body)
	}
	status, _ = h.get(h.at + "/" + token + "/box/main/index.m3u8")
	assert.Equal(t, 404, status, "it was made for another stream")
	status, _ = h.get(h.at + pages.Sign(signin.NewSecret("another"), "clock/main", time.Now().Add(long)) + "index.m3u8")
	assert.Equal(t, 404, status)

	short := h.at + pages.Sign(secret, "clock/main", time.Now().Add(3*time.Second))
	other := h.watch(short, "video")
	other.ends()
	h.now.Store(int64(2 * long))
	for _, leaf := range []string{"", "index.m3u8", "stream.m3u8", "init0.mp4"} {
		status, body := h.get(at + leaf)
		assert.Equal(t, http.StatusGone, status, leaf)
		assert.Contains(t, body, "has ended")
	}
	res, err := http.Post(at+"whep", "application/sdp", strings.NewReader("v=0"))
	require.NoError(t, err)
	assert.Equal(t, http.StatusGone, res.StatusCode)
	h.server.Set(nil)
	peer.ends()
}

// A viewer takes a page by WebRTC.
type viewer struct {
	t        *testing.T
	conn     *webrtc.PeerConnection
	status   int
	answer   string
	location string
	packets  chan string // kinds
	gone     chan struct{}
}

// watch begins to take a page's stream; kinds are what it asks for.
func (h *house) watch(at string, kinds ...string) *viewer {
	h.t.Helper()
	var e webrtc.SettingEngine
	e.SetIncludeLoopbackCandidate(true)
	e.SetInterfaceFilter(func(name string) bool { return name == "lo" })
	m := &webrtc.MediaEngine{}
	require.NoError(h.t, m.RegisterDefaultCodecs())
	conn, err := webrtc.NewAPI(webrtc.WithSettingEngine(e), webrtc.WithMediaEngine(m)).NewPeerConnection(webrtc.Configuration{})
	require.NoError(h.t, err)
	h.t.Cleanup(func() { conn.Close() })
	v := &viewer{t: h.t, conn: conn, packets: make(chan string, 1000), gone: make(chan struct{})}
	conn.OnTrack(func(t *webrtc.TrackRemote, _ *webrtc.RTPReceiver) {
		for {
			if _, _, err := t.ReadRTP(); err != nil {
				return
			}
			select {
			case v.packets <- t.Kind().String() + " " + t.Codec().MimeType:
			default:
			}
		}
	})
	conn.OnConnectionStateChange(func(s webrtc.PeerConnectionState) {
		if s == webrtc.PeerConnectionStateDisconnected || s == webrtc.PeerConnectionStateFailed || s == webrtc.PeerConnectionStateClosed {
			select {
			case <-v.gone:
			default:
				close(v.gone)
			}
		}
	})
	for _, k := range kinds {
		_, err := conn.AddTransceiverFromKind(webrtc.NewRTPCodecType(k),
			webrtc.RTPTransceiverInit{Direction: webrtc.RTPTransceiverDirectionRecvonly})
		require.NoError(h.t, err)
	}
	offer, err := conn.CreateOffer(nil)
	require.NoError(h.t, err)
	gathered := webrtc.GatheringCompletePromise(conn)
	require.NoError(h.t, conn.SetLocalDescription(offer))
	<-gathered
	res, err := http.Post(at+"whep", "application/sdp", strings.NewReader(conn.LocalDescription().SDP))
	require.NoError(h.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(h.t, err)
	v.status, v.answer, v.location = res.StatusCode, string(raw), res.Header.Get("Location")
	if v.status == http.StatusCreated {
		require.NoError(h.t, conn.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeAnswer, SDP: v.answer}), v.answer)
	}
	return v
}

// plays waits for some packets, and returns of which kinds they are.
func (v *viewer) plays(n int) map[string]int {
	v.t.Helper()
	require.Equal(v.t, http.StatusCreated, v.status, v.answer)
	out := map[string]int{}
	for range n {
		select {
		case kind := <-v.packets:
			out[kind]++
		case <-time.After(patience):
			v.t.Fatal("no packets come")
		}
	}
	return out
}

// ends waits until the connection has ended.
func (v *viewer) ends() {
	v.t.Helper()
	require.Equal(v.t, http.StatusCreated, v.status, v.answer)
	for {
		select {
		case <-v.gone:
			return
		case <-v.packets:
		case <-time.After(patience):
			v.t.Fatal("it goes on")
		}
	}
}

// Several browsers take one session with the camera, with the sound that they play. One too many is told so; one that leaves makes room.
func TestWebRTC(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "127.52.154.")
	at := h.address("box/main")
	one, two := h.watch(at, "video", "audio"), h.watch(at, "video")
	kinds := one.plays(60)
	assert.Greater(t, kinds["video video/H264"], 5, kinds)
	assert.Greater(t, kinds["audio audio/PCMU"], 5, kinds)
	two.plays(10)
	assert.NotContains(t, one.answer, "a=ice-options:trickle")
	assert.Contains(t, one.answer, "a=ice-lite")
	full := h.watch(at, "video")
	assert.Equal(t, http.StatusServiceUnavailable, full.status)
	assert.Contains(t, full.answer, "as many")

	q, err := http.NewRequest(http.MethodDelete, h.at+one.location, nil)
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, res.StatusCode)
	one.ends()
	require.Eventually(t, func() bool { return h.takers() == 1 }, patience, 20*time.Millisecond)
	three := h.watch(at, "video")
	three.plays(10)
}

func TestOffersThatAreNone(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "127.52.155.")
	at := h.address("box/main")
	post := func(kind, body string) (int, string) {
		res, err := http.Post(at+"whep", kind, strings.NewReader(body))
		require.NoError(t, err)
		defer res.Body.Close()
		raw, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(raw)
	}
	for _, c := range []struct {
		kind, body string
		want       int
	}{
		{"application/json", "v=0", 415}, {"application/sdp", "", 400}, {"application/sdp", "v=0\r\n", 400},
		{"application/sdp", strings.Repeat("a=x\r\n", 20_000), 413}, {"application/sdp", "\x00\xff", 400},
		{"application/sdp", "v=0\r\no=- 0 0 IN IP4 0.0.0.0\r\ns=-\r\nt=0 0\r\nm=video 9 UDP/TLS/RTP/SAVPF 96\r\n", 400},
	} {
		status, body := post(c.kind, c.body)
		assert.Equal(t, c.want, status, "%.40q: %s", c.body, body)
	}
	for _, method := range []string{"GET", "PUT", "PATCH"} {
		q, err := http.NewRequest(method, at+"whep", nil)
		require.NoError(t, err)
		res, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		assert.Equal(t, http.StatusMethodNotAllowed, res.StatusCode, method)
	}
	status, _ := h.get(at + "whep/nobody")
	assert.Equal(t, http.StatusMethodNotAllowed, status)
	require.Eventually(t, func() bool { return h.takers() == 0 }, patience, 20*time.Millisecond, "what could not be answered is let go")
	v := h.watch(at, "video")
	v.plays(5)
}

func Example() {
	at := pages.Sign(signin.NewSecret("oak-door-52"), "footbridge/main", time.Unix(1_800_000_000, 0))
	fmt.Println(strings.HasSuffix(at, "/footbridge/main/"), strings.HasPrefix(at, "/"))
	// Output: true true
}
