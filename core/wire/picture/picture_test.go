package picture_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/picture"
	"unlatch/sim/simtest"
)

var steward = signin.SignIn{User: "steward", Secret: signin.NewSecret("tarn-water")}

func fetch(url string, in signin.SignIn) (*picture.Picture, string, error) {
	log := exchange.NewLog(nil)
	f := &picture.Fetcher{Dial: &address.Guard{Allowed: address.MustParse("127.41.32.0/24")}, SignIn: in, Timeout: time.Second, Log: log}
	p, err := f.Fetch(context.Background(), url)
	return p, log.String(), err
}

func small() []byte {
	var b bytes.Buffer
	jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 32, 16)), nil)
	return b.Bytes()
}

func TestSnapshotWithASignIn(t *testing.T) {
	asked := 0
	at := simtest.Serve(t, "127.41.32.1", func(w http.ResponseWriter, r *http.Request) {
		asked++
		if r.Header.Get("Authorization") == "" {
			w.Header().Add("WWW-Authenticate", `Basic realm="x"`)
			w.Header().Add("WWW-Authenticate", `Digest realm="x", nonce="n", qop="auth", algorithm=SHA-256`)
			w.WriteHeader(401)
			return
		}
		assert.Contains(t, r.Header.Get("Authorization"), "Digest", "the strongest")
		w.Write(small())
	})
	p, log, err := fetch(at+"/a.jpg", steward)
	require.NoError(t, err)
	assert.Equal(t, 32, p.Width)
	assert.Equal(t, "digest SHA-256", p.Scheme)
	assert.Equal(t, 2, asked)
	assert.NotContains(t, log, "tarn-water")
	_, _, err = fetch(at+"/a.jpg", signin.SignIn{})
	var refused *picture.RefusedError
	require.ErrorAs(t, err, &refused)
	assert.False(t, refused.Tried)
}

// A web server that offers nothing but basic gets no password.
func TestBasicTakesLeave(t *testing.T) {
	got := 0
	at := simtest.Serve(t, "127.41.32.9", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			got++
			w.Write(small())
			return
		}
		w.Header().Add("WWW-Authenticate", `Basic realm="x"`)
		w.WriteHeader(401)
	})
	_, log, err := fetch(at+"/a.jpg", steward)
	require.ErrorAs(t, err, new(*signin.ReadableError))
	assert.Zero(t, got)
	assert.Contains(t, log, "the sign-in is not sent")
	f := &picture.Fetcher{Dial: &address.Guard{Allowed: address.MustParse("127.41.32.0/24")}, SignIn: steward,
		Leave: signin.Policy{Agreed: signin.InClear}.Leave}
	p, err := f.Fetch(context.Background(), at+"/a.jpg")
	require.NoError(t, err)
	assert.Equal(t, []any{"basic", 1}, []any{p.Scheme, got})
}

func TestMotionIsMeasured(t *testing.T) {
	at := simtest.Serve(t, "127.41.32.2", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", `multipart/x-mixed-replace; boundary=--cut`)
		for r.Context().Err() == nil {
			fmt.Fprintf(w, "\r\n%scut\r\nContent-Type: image/jpeg\r\n\r\n%s", strings.TrimPrefix(r.URL.Path, "/"), small())
			w.(http.Flusher).Flush()
			time.Sleep(50 * time.Millisecond)
		}
	})
	// The dashes before a boundary belong to the standard's way of writing it; some devices count them to its name, and send them once.
	for _, dashes := range []string{"----", "--"} {
		p, _, err := fetch(at+"/"+dashes, signin.SignIn{})
		require.NoError(t, err, dashes)
		assert.Equal(t, "mjpeg", p.Kind)
		// It counts arrivals, so a busy machine measures less than is sent, and never more.
		assert.Greater(t, p.FPS, 3.0)
		assert.Less(t, p.FPS, 24.0)
	}
}

func TestHostileAnswers(t *testing.T) {
	var mu sync.Mutex
	signed := map[string]int{}
	note := func(name string, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if r.Header.Get("Authorization") != "" {
			signed[name]++
		}
	}
	other := simtest.Serve(t, "127.41.32.3", func(w http.ResponseWriter, r *http.Request) { note("other", r); w.WriteHeader(401) })
	challenge := func(w http.ResponseWriter, lines ...string) {
		for _, l := range lines {
			w.Header().Add("WWW-Authenticate", l)
		}
		w.WriteHeader(401)
	}
	at := simtest.Serve(t, "127.41.32.4", func(w http.ResponseWriter, r *http.Request) {
		note(r.URL.Path, r)
		switch r.URL.Path {
		case "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		case "/outside":
			http.Redirect(w, r, "http://127.99.0.1/x", http.StatusFound)
		case "/file":
			http.Redirect(w, r, "file:///etc/passwd", http.StatusFound)
		case "/nowhere":
			w.WriteHeader(302)
		case "/other":
			if r.Header.Get("Authorization") == "" {
				challenge(w, `Digest realm="x", nonce="n"`)
				return
			}
			http.Redirect(w, r, other+"/x", http.StatusFound)
		case "/large":
			w.Write(bytes.Repeat([]byte{0xff}, 9<<20))
		case "/text":
			fmt.Fprint(w, "<html>hello")
		case "/stale":
			challenge(w, fmt.Sprintf(`Digest realm="x", nonce="%d", stale=true`, time.Now().UnixNano()))
		case "/wrong":
			challenge(w, `Digest realm="x", nonce="n"`)
		case "/schemes":
			challenge(w, strings.Repeat(`Digest realm="`, 1500), `Negotiate`, "%%%=;", `Digest qop=,,,=`,
				`Digest realm="x", nonce="n", algorithm=ROT13`)
		case "/parts":
			w.Header().Set("Content-Type", "multipart/x-mixed-replace; boundary=x")
			fmt.Fprint(w, "--y\r\nthis is no part")
		case "/locked":
			if r.Header.Get("Authorization") == "" {
				challenge(w, `Digest realm="x", nonce="n"`)
				return
			}
			w.Header().Set("Retry-After", "77")
			w.WriteHeader(503)
		}
	})
	for path, want := range map[string]any{
		"/loop": new(*picture.RedirectError), "/file": new(*picture.RedirectError), "/nowhere": new(*picture.RedirectError),
		"/outside": new(*address.OutOfScopeError),
		"/other":   new(*picture.RefusedError), "/large": new(*picture.NotPictureError), "/text": new(*picture.NotPictureError),
		"/stale": new(*picture.RefusedError),
		"/wrong": new(*picture.RefusedError), "/schemes": new(*picture.RefusedError), "/parts": new(*picture.NotPictureError),
		"/locked": new(*signin.LockedError),
	} {
		_, log, err := fetch(at+path, steward)
		assert.ErrorAs(t, err, want, path)
		assert.NotContains(t, log, "tarn-water", path)
	}
	assert.Zero(t, signed["other"], "a sign-in goes to no other host")
	assert.Equal(t, 1, signed["/wrong"], "a refused sign-in is sent once")
	assert.LessOrEqual(t, signed["/stale"], 3)
	assert.Zero(t, signed["/schemes"])
}

func FuzzFetch(f *testing.F) {
	f.Add("image/jpeg", small())
	f.Add("multipart/x-mixed-replace; boundary=x", []byte("--x\r\n\r\nabc\r\n--x--"))
	f.Fuzz(func(t *testing.T, kind string, body []byte) {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header()["Content-Type"] = []string{strings.Map(func(r rune) rune {
				if r < ' ' {
					return -1
				}
				return r
			}, kind)}
			w.Write(body)
		}))
		defer s.Close()
		p := &picture.Fetcher{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.0/8")}, Timeout: time.Second}
		if got, err := p.Fetch(context.Background(), s.URL); err == nil && (got.Width == 0 || got.Frames == 0) {
			t.Fatalf("%+v", got)
		}
	})
}
