package server

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/coder/websocket"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/ground/pairing"
	"unlatch/core/work/live"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/storetest"
)

// endless is a body that never ends and counts what was read of it.
type endless struct{ read int64 }

func (e *endless) Read(p []byte) (int, error) {
	e.read += int64(len(p))
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

// Nothing of a body is read before the session is judged, an operation takes no more than its own bound, and what requests without
// a session hold together is bounded.
func TestBodiesAreBounded(t *testing.T) {
	p, s, _ := serve(t, storetest.URL(t))
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	handler := New(ctx, Config{Store: s, Log: slog.New(slog.DiscardHandler), SetupCode: setupCode, Web: fstest.MapFS{}})
	ask := func(path string, cookie string) (int, int64) {
		body := &endless{}
		r := httptest.NewRequest("POST", path, body)
		r.Host = "127.0.0.1"
		r.Header.Set("Content-Type", "application/json")
		if cookie != "" {
			r.AddCookie(&http.Cookie{Name: cookieName, Value: cookie})
		}
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		return w.Code, body.read
	}
	for _, path := range []string{"/api/sites", "/api/sign-ins/import", "/api/paste", "/api/nowhere"} {
		status, read := ask(path, "")
		assert.Equal(t, http.StatusUnauthorized, status, path)
		assert.Zero(t, read, "%s: a stranger's body is not looked at", path)
	}
	status, read := ask("/api/session", "")
	assert.Equal(t, http.StatusRequestEntityTooLarge, status)
	assert.LessOrEqual(t, read, int64(strangerBody+16<<10))

	p.setUp()
	at, err := url.Parse(p.url)
	require.NoError(t, err)
	token := p.client.Jar.Cookies(at)[0].Value
	for path, bound := range map[string]int64{"/api/sites": usualBody, "/api/paste": 2 << 20} {
		status, read := ask(path, token)
		assert.Equal(t, http.StatusRequestEntityTooLarge, status, path)
		assert.LessOrEqual(t, read, bound+16<<10, path)
	}

	// A hundred strangers that begin to sign in and never finish.
	before := held()
	var conns []net.Conn
	var all sync.WaitGroup
	for range 100 {
		c, err := net.Dial("tcp", at.Host)
		require.NoError(t, err)
		conns = append(conns, c)
		all.Go(func() {
			fmt.Fprintf(c, "POST /api/session HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n", at.Host, 24<<20)
			io.Copy(c, io.LimitReader(&endless{}, 24<<20))
		})
	}
	all.Wait() // each was refused, or its connection closed, before all of it was sent
	after := held()
	assert.Less(t, after-before, int64(48<<20), "%d MB are held", (after-before)>>20)
	for _, c := range conns {
		c.Close()
	}
}

// held returns what the process holds now.
func held() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// Every route that the server has wants a session, but those that are meant for whoever comes: a test walks all of them, so that no new one
// escapes.
func TestEveryRouteWantsASession(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	open := map[string]bool{"GET /healthz": true, "GET /readyz": true, "GET /metrics": true, "GET /*": true, "GET /api/session": true,
		"POST /api/session": true, "DELETE /api/session": true, "POST /api/setup": true, "POST /api/link": true,
		"POST /api/link/take": true, "POST /api/session/second": true, "POST /api/sign-on/begin": true,
		"POST /api/sign-on/finish": true, "GET /feeds/{token}": true,
		"POST /feeds/{token}/showing": true, "GET " + jobs.PicturesPath: true,
		"GET " + pairing.LinkPath: true, "GET " + pairing.AskPath: true, "POST " + pairing.AskPath: true}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	all := New(ctx, Config{Store: s, Log: slog.New(slog.DiscardHandler), Web: fstest.MapFS{}})
	parameter := regexp.MustCompile(`\{[^}]*\}`)
	walked := 0
	require.NoError(t, chi.Walk(all.handler.(chi.Routes),
		func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
			if open[method+" "+route] {
				return nil
			}
			walked++
			r := httptest.NewRequest(method, parameter.ReplaceAllString(strings.TrimSuffix(route, "*"), uuid.NewString()), nil)
			r.Host = "127.0.0.1"
			w := httptest.NewRecorder()
			all.ServeHTTP(w, r)
			assert.Equal(t, http.StatusUnauthorized, w.Code, "%s %s", method, route)
			return nil
		}))
	assert.Greater(t, walked, 100)
}

// A body that does not come on ends by itself.
func TestABodyHasToComeOn(t *testing.T) {
	t.Parallel()
	var by time.Time
	extend := func(at time.Time) error { by = at; return nil }
	raw, err := readBody(strings.NewReader("whole"), 100, extend)
	require.NoError(t, err)
	assert.Equal(t, "whole", string(raw))
	assert.Less(t, time.Until(by), bodyPause+time.Second, "what has not come on by then is cut off")
	_, err = readBody(bytes.NewReader(make([]byte, 101)), 100, extend)
	assert.ErrorIs(t, err, errTooLarge)
	_, err = readBody(strings.NewReader(`{"a":"\u0000"}`), 100, extend)
	assert.ErrorIs(t, err, errNUL)
}

// shows is a stream that tells that it has begun and then shows nothing.
type shows struct{ hub live.Hub }

func (x *shows) Watch(_ context.Context, device uuid.UUID, role string, wish live.Wish) (*live.Viewer, error) {
	return x.hub.Watch(device.String()+role, wish, func(ctx context.Context, to *live.Room) error {
		<-ctx.Done()
		return ctx.Err()
	})
}

// Signing out ends the live pictures of the session at once, by whichever server process it was done.
func TestLivePicturesEndWithTheirSession(t *testing.T) {
	t.Parallel()
	p, s, _ := serveWith(t, storetest.URL(t), Config{Live: &shows{}})
	p.setUp()
	x := newShed(t, p, s, 1)
	at, err := url.Parse(p.url)
	require.NoError(t, err)
	l := p.look(x.ids[0], "role=main")
	require.NoError(t, s.People.EndSession(t.Context(), p.client.Jar.Cookies(at)[0].Value)) // as another process would
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)                         // a look now and then would take a minute
	defer cancel()
	_, _, err = l.conn.Read(ctx)
	require.Error(t, err)
	assert.NoError(t, ctx.Err(), "it ended by itself")
}

// A pass that was used is not good again when the server has been started anew.
func TestAPassIsGoodOnceOverRestarts(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	workers, err := jobs.StartWorkers(s, slog.New(slog.DiscardHandler), jobs.Options{})
	require.NoError(t, err)
	t.Cleanup(workers.Stop)
	p.setUp()
	site := get[siteView](p, "POST", "/api/sites", map[string]any{"name": "Far", "ranges": []string{"127.44.97.0/24"}}).ID
	var names []string
	require.Eventually(t, func() bool {
		names, err = s.Workers.Reaching(t.Context(), site)
		return err == nil && len(names) > 0
	}, 20*time.Second, 20*time.Millisecond)
	pass, err := s.Workers.Pass(names[0], time.Now())
	require.NoError(t, err)
	connect := func(url string) int {
		conn, res, err := websocket.Dial(t.Context(), "ws"+url[4:]+jobs.PicturesPath,
			&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + pass}}})
		if err == nil {
			conn.CloseNow()
		}
		return res.StatusCode
	}
	assert.Equal(t, 101, connect(p.url))
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	again := httptest.NewServer(New(ctx, Config{Store: s, Log: slog.New(slog.DiscardHandler), Web: fstest.MapFS{}}))
	defer again.Close()
	assert.Equal(t, 401, connect(again.URL))
}

// Who takes a file with the passwords of all cameras stands in the record by name, as with every other operation that hands out secrets.
func TestHandingOutPasswordsNamesThePerson(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 1)
	x.provenAt(t, x.ids[0], "192.0.2.1")
	path := "/api/sites/" + x.site.ID.String() + "/targets"
	id := get[idBody](p, "POST", path, map[string]any{"name": "List", "kind": "template",
		"settings": map[string]string{"text": "{{range .Cameras}}{{.Name}}{{end}}", "passwords": "yes"}}).ID
	require.NoError(t, s.Targets.Wish(t.Context(), act.InAnySlot(id, x.ids...)))
	status, _, _ := p.do("GET", path+"/"+id.String()+"/file", nil)
	require.Equal(t, 200, status)
	acts, err := s.Record.List(t.Context(), store.LineFilter{Site: x.site.ID, Limit: 5})
	require.NoError(t, err)
	assert.Equal(t, "took a list with passwords for", acts[0].Action)
	assert.Equal(t, "keeper", acts[0].Person)
}

// The deadline for a body ends with the body: the work that follows may take as long as a request may.
func TestTheDeadlineOfABodyEndsWithIt(t *testing.T) {
	t.Parallel()
	var set []time.Time
	raw, err := readBody(strings.NewReader("{}"), 100, func(by time.Time) error { set = append(set, by); return nil })
	require.NoError(t, err)
	assert.Equal(t, "{}", string(raw))
	require.Greater(t, len(set), 1)
	assert.False(t, set[0].IsZero())
	assert.True(t, set[len(set)-1].IsZero())
}

// A deadlineRecorder is a connection as far as its read deadlines go.
type deadlineRecorder struct {
	*httptest.ResponseRecorder
	set []time.Time
}

func (d *deadlineRecorder) SetReadDeadline(by time.Time) error {
	d.set = append(d.set, by)
	return nil
}

// No deadline for the body is left while an operation works, by whomever it was set.
func TestNoDeadlineIsLeftWhileWorkIsDone(t *testing.T) {
	t.Parallel()
	r := chi.NewMux()
	api := humachi.New(r, huma.DefaultConfig("x", "1"))
	api.UseMiddleware((&Server{}).readBodies(api))
	conn := &deadlineRecorder{ResponseRecorder: httptest.NewRecorder()}
	worked := false
	huma.Register(api, huma.Operation{OperationID: "take", Method: "PUT", Path: "/take"},
		func(context.Context, *struct{ Body struct{ Name string } }) (*struct{}, error) {
			worked = true
			assert.True(t, conn.set[len(conn.set)-1].IsZero())
			return nil, nil
		})
	r.ServeHTTP(conn, httptest.NewRequest("PUT", "/take", strings.NewReader(`{"Name":"x"}`)))
	assert.True(t, worked, conn.Body.String())
}
