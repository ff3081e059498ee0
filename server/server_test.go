package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"unlatch/core/decide/act"
	"unlatch/core/stream/sighting"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/cluster"
	"unlatch/store/storetest"
)

func TestMain(m *testing.M) {
	argonMemory = 1 << 10
	storetest.Main(m)
}

const setupCode = "SETUP-CODE"

// page is a browser as far as the API is concerned.
type page struct {
	t      *testing.T
	url    string
	client *http.Client
	store  *store.Store
}

// A journal is a log that is read while it is written.
type journal struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (j *journal) Write(p []byte) (int, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.buf.Write(p)
}

func (j *journal) String() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.buf.String()
}

func serve(t *testing.T, url string) (*page, *store.Store, *journal) {
	return serveWith(t, url, Config{})
}

func serveWith(t *testing.T, url string, cfg Config) (*page, *store.Store, *journal) {
	return serveTraced(t, url, cfg, nil)
}

// serveTraced is serveWith, telling trace of each statement that is sent to the database.
func serveTraced(t *testing.T, url string, cfg Config, trace func(context.Context, *pgx.Conn, string)) (*page, *store.Store, *journal) {
	return serveOn(t, store.Options{URL: url, KeyFile: filepath.Join(t.TempDir(), "key"), Trace: trace}, cfg)
}

// serveOn is serveWith on a store with options.
func serveOn(t *testing.T, o store.Options, cfg Config) (*page, *store.Store, *journal) {
	log := &journal{}
	l := slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	o.Log = l
	s, err := store.OpenWith(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	q, err := jobs.NewQueue(s, l)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	web := fstest.MapFS{"index.html": {Data: []byte("<title>Unlatch</title>")}, "assets/a-1.js": {Data: []byte("1")}}
	cfg.Store, cfg.Queue, cfg.Web, cfg.Log, cfg.SetupCode, cfg.Agent = s, q, web, l, setupCode, jobs.Here{}
	h := httptest.NewServer(New(ctx, cfg))
	t.Cleanup(h.Close)
	jar, _ := cookiejar.New(nil)
	return &page{t, h.URL, &http.Client{Jar: jar}, s}, s, log
}

func (p *page) do(method, path string, body any, header ...string) (int, string, http.Header) {
	p.t.Helper()
	var r io.Reader
	if body != nil {
		raw, err := json.Marshal(body)
		require.NoError(p.t, err)
		r = bytes.NewReader(raw)
	}
	req, err := http.NewRequest(method, p.url+path, r)
	require.NoError(p.t, err)
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := p.client.Do(req)
	require.NoError(p.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	return res.StatusCode, string(raw), res.Header
}

// problem expects an answer of RFC 9457 with a cause.
func (p *page) problem(cause string, method, path string, body any, header ...string) Problem {
	p.t.Helper()
	status, raw, h := p.do(method, path, body, header...)
	var out Problem
	require.NoError(p.t, json.Unmarshal([]byte(raw), &out), raw)
	assert.Equal(p.t, cause, out.Cause, raw)
	assert.Equal(p.t, status, out.Status)
	assert.Equal(p.t, "application/problem+json", h.Get("Content-Type"))
	return out
}

const keeperPassword = "a long password"

// keeperHash is that of the password of the first account: hashing takes its time by design, so it is done once.
var keeperHash = sync.OnceValue(func() string { return HashPassword(keeperPassword) })

// setUp makes the first account and signs in.
func (p *page) setUp() {
	p.t.Helper()
	ctx := context.Background()
	keeper, err := p.store.People.CreateFirst(ctx, "keeper", keeperHash())
	require.NoError(p.t, err)
	p.signIn(keeper)
}

// signIn begins a session for a person.
func (p *page) signIn(as act.Person) {
	p.t.Helper()
	token, browser := newToken(), newToken()
	later := time.Now().Add(time.Hour)
	require.NoError(p.t, p.store.People.StartSession(context.Background(),
		store.NewSession{Person: as.ID, Token: token, Until: later, Browser: browser, BrowserUntil: later}))
	at, err := url.Parse(p.url)
	require.NoError(p.t, err)
	p.client.Jar.SetCookies(at, []*http.Cookie{{Name: cookieName, Value: token, Path: "/"}, {Name: browserCookie, Value: browser, Path: "/"}})
}

func TestFirstAccountAndSession(t *testing.T) {
	t.Parallel()
	p, _, _ := serve(t, storetest.URL(t))
	_, raw, _ := p.do("GET", "/api/session", nil)
	assert.JSONEq(t, `{"name":"","needs_setup":true,"rights":[]}`, raw)
	p.problem("signed_out", "GET", "/api/sites", nil)
	p.problem("wrong_code", "POST", "/api/setup", map[string]string{"name": "keeper", "password": "a long password", "code": "guess"})
	status, _, h := p.do("POST", "/api/setup", map[string]string{"name": "keeper", "password": "a long password",
		"code": " " + setupCode + "\n"})
	require.Equal(t, 200, status)
	cookie := h.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		assert.Contains(t, cookie, want)
	}
	p.problem("set_up_already", "POST", "/api/setup", map[string]string{"name": "second", "password": "a long password", "code": setupCode})
	status, raw, _ = p.do("GET", "/api/sites", nil)
	assert.Equal(t, 200, status, raw)
	p.do("DELETE", "/api/session", nil)
	p.problem("signed_out", "GET", "/api/sites", nil)
	status, _, _ = p.do("POST", "/api/session", map[string]string{"name": "keeper", "password": "a long password"})
	assert.Equal(t, 200, status)
}

func TestPasswordsAreHashedWithArgon2id(t *testing.T) {
	t.Parallel()
	h := HashPassword("a long password")
	assert.True(t, strings.HasPrefix(h, "$argon2id$v=19$"))
	assert.NotEqual(t, h, HashPassword("a long password"))
	assert.True(t, checkPassword(h, "a long password"))
	assert.False(t, checkPassword(h, "a long passwore"))
	assert.False(t, checkPassword("", ""))
	assert.False(t, checkPassword("$argon2id$v=19$broken$x$y", "x"))
}

func TestHeadersAndOrigin(t *testing.T) {
	t.Parallel()
	p, _, _ := serve(t, storetest.URL(t))
	_, body, h := p.do("GET", "/sites/anything", nil)
	assert.Contains(t, body, "<title>Unlatch</title>", "every path is the application")
	for name, want := range map[string]string{"Content-Security-Policy": "default-src 'self'", "X-Content-Type-Options": "nosniff",
		"X-Frame-Options": "DENY", "Referrer-Policy": "no-referrer"} {
		assert.Contains(t, h.Get(name), want)
	}
	_, _, h = p.do("GET", "/assets/a-1.js", nil)
	assert.Contains(t, h.Get("Cache-Control"), "immutable")
	p.problem("cross_origin", "POST", "/api/session", map[string]string{"name": "a", "password": "b"}, "Origin", "http://elsewhere.example")
	p.problem("cross_origin", "POST", "/api/session", map[string]string{"name": "a", "password": "b"}, "Sec-Fetch-Site", "cross-site")
}

func TestSites(t *testing.T) {
	t.Parallel()
	p, _, _ := serve(t, storetest.URL(t))
	p.setUp()
	bad := p.problem("bad_range", "POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"192.0.2.0/24, platform"}})
	assert.Contains(t, bad.Detail, `"platform"`)
	p.problem("no_name", "POST", "/api/sites", map[string]any{"name": "  ", "ranges": []string{"192.0.2.0/24"}})
	p.problem("bad_range", "POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{" , "}})
	large := p.problem("too_many_addresses", "POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"10.0.0.0/8"}})
	assert.EqualValues(t, 1<<24, large.Count)
	assert.Contains(t, large.Detail, "16,777,216")
	status, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"10.0.0.0/8"}, "confirm_large": true})
	require.Equal(t, 201, status, raw)
	var site siteView
	require.NoError(t, json.Unmarshal([]byte(raw), &site))
	p.problem("too_many_addresses", "POST", "/api/sites/"+site.ID.String()+"/sweeps", map[string]any{})
	status, raw, _ = p.do("PUT", "/api/sites/"+site.ID.String(), map[string]any{"name": "Engine Works", "ranges": []string{"192.0.2.0/24"}})
	require.Equal(t, 204, status, raw)
	_, raw, _ = p.do("GET", "/api/sites", nil)
	assert.Contains(t, raw, `"Engine Works"`)
	p.problem("not_found", "GET", "/api/sites/01900000-0000-7000-8000-000000000000", nil)
	status, _, _ = p.do("GET", "/api/interfaces", nil)
	assert.Equal(t, 200, status)
	status, _, _ = p.do("DELETE", "/api/sites/"+site.ID.String(), nil)
	assert.Equal(t, 204, status)
}

func TestKeyringNeverShowsASecretUnlessAsked(t *testing.T) {
	t.Parallel()
	p, _, log := serve(t, storetest.URL(t))
	p.setUp()
	p.problem("no_user", "POST", "/api/sign-ins", map[string]string{"user": " ", "secret": "brass-lamp-41"})
	status, raw, _ := p.do("POST", "/api/sign-ins", map[string]string{"user": "fitter", "secret": "brass-lamp-41"})
	require.Equal(t, 201, status, raw)
	var made struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(raw), &made))
	_, raw, _ = p.do("GET", "/api/sign-ins", nil)
	assert.Contains(t, raw, `"fitter"`)
	assert.NotContains(t, raw, "brass-lamp-41")
	_, raw, _ = p.do("POST", "/api/sign-ins/"+made.ID+"/reveal", nil)
	assert.JSONEq(t, `{"secret":"brass-lamp-41"}`, raw)
	assert.NotContains(t, log.String(), "brass-lamp-41")
	status, _, _ = p.do("DELETE", "/api/sign-ins/"+made.ID, nil)
	assert.Equal(t, 204, status)
	p.problem("not_found", "POST", "/api/sign-ins/"+made.ID+"/reveal", nil)
}

func TestDevicesSayWhatToDoNext(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	_, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"192.0.2.0/24"}})
	var site siteView
	require.NoError(t, json.Unmarshal([]byte(raw), &site))
	in, err := s.Devices.Sight(context.Background(), site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery,
		Addr: netip.MustParseAddr("192.0.2.7"), Endpoint: "urn:1", Kind: sighting.Camera,
		XAddr: "http://192.0.2.7:8080/onvif/device_service"})
	require.NoError(t, err)
	_, err = s.Devices.Sight(context.Background(), site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery,
		Addr: netip.MustParseAddr("198.51.100.7"), Stray: true, Endpoint: "urn:2", Kind: sighting.Camera})
	require.NoError(t, err)
	_, raw, _ = p.do("GET", "/api/sites/"+site.ID.String()+"/devices", nil)
	var list []deviceView
	require.NoError(t, json.Unmarshal([]byte(raw), &list))
	require.Len(t, list, 2)
	assert.Equal(t, "open", list[0].Next.Action)
	assert.Equal(t, "reachable", list[0].At)
	assert.Equal(t, "http://192.0.2.7:8080/", list[0].Web)
	assert.Equal(t, "change_ranges", list[1].Next.Action)
	assert.True(t, list[1].Stray)

	status, raw, _ := p.do("PATCH", "/api/devices/"+in.String(), map[string]string{"name": " Signal box stairs "})
	require.Equal(t, 200, status, raw)
	_, raw, _ = p.do("GET", "/api/devices/"+in.String(), nil)
	assert.Contains(t, raw, `"name":"Signal box stairs"`)
	_, raw, _ = p.do("GET", "/api/devices/"+in.String()+"/evidence", nil)
	assert.Contains(t, raw, "Heard at 192.0.2.7 by ws-discovery")
	p.problem("no_target", "POST", "/api/sites/"+site.ID.String()+"/open",
		map[string]any{"devices": []string{in.String()}, "target": in.String()})
	p.problem("not_found", "POST", "/api/sites/"+site.ID.String()+"/open", map[string]any{"devices": []string{site.ID.String()}})
	p.problem("not_found", "GET", "/api/stills/"+in.String(), nil)
}

func TestEventsReachThePage(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	_, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"192.0.2.0/24"}})
	var site siteView
	require.NoError(t, json.Unmarshal([]byte(raw), &site))
	res, err := p.client.Get(p.url + "/api/sites/" + site.ID.String() + "/events")
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
	lines := make(chan string, 64)
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := res.Body.Read(buf)
			if err != nil {
				return
			}
			lines <- string(buf[:n])
		}
	}()
	var got string
	require.Eventually(t, func() bool {
		_, err := s.Devices.Sight(context.Background(), site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(),
			Addr: netip.MustParseAddr("192.0.2.7"), Endpoint: "urn:1"})
		require.NoError(t, err)
		select {
		case l := <-lines:
			got += l
		case <-time.After(20 * time.Millisecond):
		}
		return strings.Contains(got, "event: changes")
	}, 20*time.Second, time.Millisecond)
	jar := p.client.Jar
	p.client.Jar = nil
	p.problem("signed_out", "GET", "/api/sites/"+site.ID.String()+"/events", nil)
	p.problem("signed_out", "GET", "/api/evidence/"+site.ID.String()+"/exchange", nil)
	p.client.Jar = jar
}

func TestDatabaseAwayIsSaid(t *testing.T) {
	t.Parallel()
	dir, err := storetest.Dir()
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	c, err := cluster.Start(context.Background(), cluster.Options{Dir: filepath.Join(dir, "pg"), Scratch: true})
	require.NoError(t, err)
	defer c.Stop()
	p, _, _ := serve(t, c.URL)
	p.setUp()
	c.Pause()
	away := p.problem("database_away", "GET", "/api/sites", nil)
	assert.Equal(t, 503, away.Status)
	require.NoError(t, c.Resume(context.Background()))
	status, raw, _ := p.do("GET", "/api/sites", nil)
	assert.Equal(t, 200, status, raw)
}

// The front end's types are made from this document; ./dev types makes both anew.
func TestOpenAPIDocumentIsCurrent(t *testing.T) {
	t.Parallel()
	want, err := OpenAPI()
	require.NoError(t, err)
	got, err := os.ReadFile("../web/src/api/openapi.json")
	require.NoError(t, err)
	assert.JSONEq(t, string(want), string(got), "run: ./dev types")
	p, _, _ := serve(t, storetest.URL(t))
	p.setUp()
	status, raw, _ := p.do("GET", "/api/openapi.json", nil)
	assert.Equal(t, 200, status)
	assert.Contains(t, raw, `"/api/sites/{site}/open"`)
}

// The answer to what begins a run says that it runs, since when, and how much there is to do.
func TestTheAnswerToABegunRunIsTrue(t *testing.T) {
	t.Parallel()
	p, _, _ := serve(t, storetest.URL(t))
	p.setUp()
	_, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"192.0.2.0/30"}})
	var site siteView
	require.NoError(t, json.Unmarshal([]byte(raw), &site))
	status, raw, _ := p.do("POST", "/api/sites/"+site.ID.String()+"/sweeps", map[string]any{})
	require.Equal(t, 202, status, raw)
	var run runView
	require.NoError(t, json.Unmarshal([]byte(raw), &run))
	assert.Equal(t, "running", run.State)
	assert.WithinDuration(t, time.Now(), run.Created, time.Minute)
	assert.EqualValues(t, 20, run.Total)
}

func TestAddressLists(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	_, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"192.0.2.0/24"}})
	var site siteView
	require.NoError(t, json.Unmarshal([]byte(raw), &site))
	path := "/api/sites/" + site.ID.String() + "/address-list"
	for last, serial := range map[string]string{"7": "C1", "9": "C9"} {
		_, err := s.Devices.Sight(context.Background(), site.ID, nil, sighting.Sighting{Method: sighting.MDNS,
			Addr: netip.MustParseAddr("192.0.2." + last), Serial: serial, Kind: sighting.Camera})
		require.NoError(t, err)
	}
	f := excelize.NewFile()
	for i, row := range [][]any{{"Camera", "IP", "Serial"}, {"Turntable", "192.0.2.7", "C1"}, {"Coal stage", "192.0.2.8", ""},
		{"=1+1", "nowhere", ""}} {
		require.NoError(t, f.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &row))
	}
	var file bytes.Buffer
	require.NoError(t, f.Write(&file))
	status, raw, _ := p.do("PUT", path, map[string]any{"content": file.Bytes()})
	require.Equal(t, 200, status, raw)
	var got listView
	require.NoError(t, json.Unmarshal([]byte(raw), &got))
	assert.Equal(t, []int{3, 1, 2, 1}, []int{got.Rows, len(got.Result.Found), len(got.Result.Missing), len(got.Result.Unexpected)})
	assert.Equal(t, []string{`Line 4: "nowhere" is not an address.`}, got.Warnings)
	_, raw, _ = p.do("POST", path+"/names", nil)
	assert.JSONEq(t, `{"named":1}`, raw)
	_, raw, _ = p.do("GET", "/api/sites/"+site.ID.String()+"/devices", nil)
	assert.Contains(t, raw, `"name":"Turntable"`)

	assert.Contains(t, p.problem("bad_list", "PUT", path, map[string]any{"content": []byte("PK\x03\x04 not a spreadsheet")}).Detail,
		"spreadsheet")
	p.problem("bad_list", "PUT", path, map[string]any{"content": []byte("hello")})
	_, raw, _ = p.do("GET", path, nil)
	assert.Contains(t, raw, `"rows":3`, "a bad list does not take the good one away")
	p.do("DELETE", path, nil)
	_, raw, _ = p.do("GET", path, nil)
	assert.Contains(t, raw, `"rows":0`)
}
