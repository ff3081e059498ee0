package e2e

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"sync"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/wire/rtmp"
	"unlatch/sim/simtest"
)

// A stream is served to web pages by a tick. The address that is made plays it by WebRTC and by HLS, in a page of another site as well.
func TestAPagePlaysAStream(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: paged
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.77.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10, audio: aac}], defects: {sessions: 1}}
`)
	b := start(t, "--relay", "127.43.77.5:8554", "--relay-pages", "127.43.77.5:8590")
	b.bring("Line", "127.43.77.0/27", 1)
	b.count(`[data-at="placed"]`, 1)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR(`[role=row]`, `127\.43\.77\.11`).MustClick()
	b.page.MustElement("#bench")
	b.press("^Serve it on$")
	b.typeIn("for", "The booking hall's page")
	b.typeIn("path", "clock/main")
	b.page.MustElement(`[aria-label="For web pages"]`).MustClick()
	b.page.MustElementR("[role=dialog] button", "^Serve it on$").MustClick()
	b.page.MustElement(`[data-relay="clock/main"]`).MustElementR("button", "^Address for pages$").MustClick()
	b.clean("an address for pages is asked for")
	b.page.MustElementR("[role=dialog] button", "^Make the address$").MustClick()
	text := b.page.MustElementR("[role=dialog]", "iframe").MustText()
	b.clean("an address for pages")
	at := regexp.MustCompile(`http://127\.43\.77\.5:8590/\S+/clock/main/`).FindString(text)
	require.NotEmpty(t, at, text)
	embed := regexp.MustCompile(`<iframe[^>]*></iframe>`).FindString(text)
	require.NotEmpty(t, embed, text)

	for _, by := range []string{"webrtc", "hls"} {
		p := b.page.Browser().MustPage(at + "?by=" + by)
		plays(t, p, by)
		p.MustClose()
	}
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "<!doctype html><title>Booking hall</title><body>%s", embed)
	}))
	defer other.Close()
	p := b.page.Browser().MustPage(other.URL)
	plays(t, p.MustElement("iframe").MustFrame(), "webrtc")
	p.MustClose()

	b.page.MustElementR("[role=dialog] button", "^Done$").MustClick()
	b.page.MustElement(`[data-relay="clock/main"]`).MustElementR("button", "^Remove$").MustClick()
	b.press("^Serve it no more$")
	b.count(`[data-relay="clock/main"]`, 0)
	eventually(t, func() bool {
		res, err := http.Get(at)
		return err == nil && res.Body.Close() == nil && res.StatusCode == http.StatusNotFound
	}, patience, 100*time.Millisecond, "the address opens nothing any more")
}

// plays waits until a page shows a moving picture that came one way.
func plays(t *testing.T, p *rod.Page, by string) {
	t.Helper()
	p = p.Timeout(patience)
	p.MustElement(fmt.Sprintf(`body[data-plays=%s]`, by))
	p.MustWait(`() => { const v = document.querySelector("video"); return v.videoWidth === 320 && v.currentTime > 0; }`)
	from := p.MustEval(`() => document.querySelector("video").currentTime`).Num()
	p.MustWait(fmt.Sprintf(`() => document.querySelector("video").currentTime > %f + 1`, from))
}

// ingest is a live platform that takes one key.
type ingest struct {
	mu     sync.Mutex
	frames int
	sound  int
	ended  int
}

func (p *ingest) App(name string) bool { return name == "live" }

func (p *ingest) Begin(_, key string) error {
	if key != "brass-key-41" {
		return fmt.Errorf("no such key")
	}
	return nil
}

func (p *ingest) Frame(string, rtmp.Frame)     { p.count(&p.frames) }
func (p *ingest) Sound(string, []byte, []byte) { p.count(&p.sound) }
func (p *ingest) End(string)                   { p.count(&p.ended) }

func (p *ingest) count(n *int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	*n++
}

// read returns what has come: pictures, pieces of sound, and ends of streams.
func (p *ingest) read() (frames, sound, ended int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.frames, p.sound, p.ended
}

// A stream is sent to a live platform, whose word is shown; it is stopped with all others of the site by one click, and begun again.
func TestAStreamIsSentToAPlatform(t *testing.T) {
	t.Parallel()
	simtest.Start(t, `
name: sent
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.43.78.11, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 300, gop: 10}], defects: {sessions: 1}}
`)
	l, err := net.Listen("tcp4", "127.43.78.40:0")
	require.NoError(t, err)
	defer l.Close()
	platform := &ingest{}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go rtmp.Serve(conn, platform)
		}
	}()
	b := start(t, "--relay", "127.43.78.5:8554")
	b.bring("Line", "127.43.78.0/27", 1)
	b.count(`[data-at="placed"]`, 1)
	b.page.MustElement(`[data-run="finished"]`)
	b.page.MustElementR(`[role=row]`, `127\.43\.78\.11`).MustClick()
	b.page.MustElement("#bench")
	b.press("^Send to a platform$")
	b.typeIn("for", "Beacon Line")
	b.typeIn("to", "rtmp://"+l.Addr().String()+"/live")
	b.typeIn("key", "wrong-key-12")
	b.page.MustElement(`[aria-label="The key may go out unencrypted"]`).MustClick()
	b.clean("a stream is to be sent to a platform")
	b.page.MustElementR("[role=dialog] button", "^Send it$").MustClick()
	row := b.page.MustElementR(`[data-push="refused"]`, "no such key")
	assert.NotContains(t, b.page.MustElement("#bench").MustText(), "wrong-key-12")
	b.clean("a platform that turns the key down")
	row.MustParent().MustElementR("button", "^Remove$").MustClick()
	b.press("^Serve it no more$")
	b.count("[data-push]", 0)

	b.press("^Send to a platform$")
	b.typeIn("for", "Beacon Line")
	b.typeIn("to", "rtmp://"+l.Addr().String()+"/live")
	b.typeIn("key", "brass-key-41")
	b.page.MustElement(`[aria-label="The key may go out unencrypted"]`).MustClick()
	b.page.MustElementR("[role=dialog] button", "^Send it$").MustClick()
	b.page.MustElement(`[data-push="sending"]`)
	eventually(t, func() bool {
		frames, sound, _ := platform.read()
		return frames > 20 && sound > 50
	}, patience, 50*time.Millisecond, "pictures, and silence beside them")
	b.press("^Stop sending$")
	b.page.MustElement(`[data-push="stopped"]`)
	eventually(t, func() bool { _, _, ended := platform.read(); return ended > 0 }, patience, 50*time.Millisecond)
	b.press("^Begin again$")
	b.page.MustElement(`[data-push="sending"]`)
}
