package server

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/store"
	"unlatch/store/cluster"
	"unlatch/store/storetest"
)

func TestGateCountsBeforeItJudges(t *testing.T) {
	t.Parallel()
	now := time.Unix(0, 0)
	g := newGate(3, func() time.Time { return now })
	for range 3 {
		assert.Zero(t, g.begin("a"))
	}
	assert.Equal(t, time.Second, g.begin("a"), "three are under judgement: a fourth waits, whatever comes of them")
	assert.Zero(t, g.begin("b"), "others are not held up")
	now = now.Add(time.Second)
	assert.Zero(t, g.begin("a"))
	assert.Equal(t, 2*time.Second, g.begin("a"))
	for range 20 {
		now = now.Add(time.Minute)
		assert.Zero(t, g.begin("a"))
	}
	assert.Equal(t, time.Minute, g.begin("a"))
	g.passed("a")
	assert.Zero(t, g.begin("a"))
	for range 5 {
		assert.Zero(t, g.begin("c"))
		g.undo("c")
	}
	now = now.Add(time.Hour)
	assert.Zero(t, g.begin("a"), "what is long past is forgotten")
}

// Forty tries at once from one address: a handful is judged, two at a time.
func TestManyTriesAtOnceAreNotAllJudged(t *testing.T) {
	// Not beside others: it measures memory.
	start := time.Now()
	p, _, _ := serveWith(t, storetest.URL(t), Config{Now: func() time.Time { return start }})
	p.setUp()
	stranger := &page{t, p.url, &http.Client{}, p.store}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	var mu sync.Mutex
	judged, held := 0, 0
	var wg sync.WaitGroup
	for range 40 {
		wg.Go(func() {
			status, _, _ := stranger.do("POST", "/api/session", map[string]string{"name": "keeper", "password": "guess"})
			mu.Lock()
			defer mu.Unlock()
			switch status {
			case 401:
				judged++
			case 429:
				held++
			}
		})
	}
	wg.Wait()
	runtime.ReadMemStats(&after)
	assert.Equal(t, 40, judged+held)
	assert.LessOrEqual(t, judged, freeByAccount)
	assert.Less(t, after.Sys-before.Sys, uint64(600<<20), "each judgement takes 64 MiB; two run at once")

	// The owner's own browser is counted by itself: strangers who guess do not keep the owner out.
	status, raw, _ := p.do("POST", "/api/session", map[string]string{"name": "keeper", "password": "a long password"})
	assert.Equal(t, 200, status, raw)
	fresh := &page{t, p.url, &http.Client{}, p.store}
	fresh.problem("too_fast", "POST", "/api/session", map[string]string{"name": "keeper", "password": "a long password"})
}

func TestForwardedAddressesAreBelievedOfTrustedProxiesOnly(t *testing.T) {
	t.Parallel()
	s := bare(Config{TrustedProxies: address.MustParse("192.0.2.0/28")})
	for _, c := range []struct{ peer, forwarded, want string }{
		{"198.51.100.7:1234", "", "198.51.100.7"},
		{"198.51.100.7:1234", "203.0.113.9", "198.51.100.7"}, // anybody can write that line
		{"192.0.2.3:1234", "203.0.113.9", "203.0.113.9"},
		{"192.0.2.3:1234", "198.51.100.1, 203.0.113.9, 192.0.2.4", "203.0.113.9"}, // the first was written by the caller
		{"192.0.2.3:1234", "nonsense", "192.0.2.3"},
		{"192.0.2.3:1234", "", "192.0.2.3"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = c.peer
		if c.forwarded != "" {
			r.Header.Set("X-Forwarded-For", c.forwarded)
		}
		assert.Equal(t, c.want, s.callerAddress(r), "%+v", c)
	}
}

func TestHostAndOriginAreChecked(t *testing.T) {
	t.Parallel()
	public, _ := url.Parse("https://bench.example/")
	p, _, _ := serveWith(t, storetest.URL(t), Config{PublicURL: public})
	p.setUp()
	ask := func(method, host, origin string) int {
		req, err := http.NewRequest(method, p.url+"/api/session", strings.NewReader("{}"))
		require.NoError(t, err)
		req.Host = host
		req.Header.Set("Content-Type", "application/json")
		if origin != "" {
			req.Header.Set("Origin", origin)
		}
		res, err := (&http.Client{}).Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res.StatusCode
	}
	assert.Equal(t, 421, ask("GET", "rebound.example", ""), "a name that somebody else may lead here")
	for _, host := range []string{"127.0.0.1:8470", "localhost:8470", "[::1]:8470", "bench.example", "BENCH.example:443"} {
		assert.Equal(t, 200, ask("GET", host, ""), host)
	}
	assert.Equal(t, 403, ask("POST", "127.0.0.1:8470", "https://evil.example"))
	assert.Equal(t, 403, ask("POST", "127.0.0.1:8470", "null"))
	assert.Equal(t, 422, ask("POST", "127.0.0.1:8470", "https://bench.example"),
		"behind a proxy that rewrites Host: it came through, and only its body is wrong")
	assert.Equal(t, 422, ask("POST", "127.0.0.1:8470", "http://127.0.0.1:8470"))
}

// What was sent is in no problem and no line of the log, whatever is wrong with it.
func TestNoProblemRepeatsASecret(t *testing.T) {
	t.Parallel()
	p, _, log := serve(t, storetest.URL(t))
	p.setUp()
	const secret = "Tarn-Water-77"
	for path, body := range map[string]any{
		"/api/sign-ins": map[string]any{"user": "", "secret": secret},
		"/api/session":  map[string]any{"name": "", "password": secret},
		"/api/setup":    map[string]any{"name": "x", "password": secret, "extra": secret, "code": 5},
		"/api/paste":    map[string]any{"text": secret, "skip": secret},
		"/api/sites":    map[string]any{"name": secret, "ranges": secret},
	} {
		status, raw, h := p.do("POST", path, body)
		assert.GreaterOrEqual(t, status, 400, path)
		assert.Equal(t, "application/problem+json", h.Get("Content-Type"), path)
		assert.NotContains(t, raw, secret, path)
	}
	status, raw, _ := p.do("POST", "/api/sign-ins", json.RawMessage(`{"user":"a","secret":"`+secret+`","maker":7}`))
	assert.Equal(t, 422, status)
	assert.NotContains(t, raw, secret)
	assert.Contains(t, raw, "Maker: expected string", "it says what is wrong where")
	req, _ := http.NewRequest("POST", p.url+"/api/sign-ins", strings.NewReader(`{"user": "a", "secret": "`+secret))
	req.Header.Set("Content-Type", "application/json")
	res, err := p.client.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	assert.GreaterOrEqual(t, res.StatusCode, 400)
	assert.NotContains(t, log.String(), secret)
}

func TestMalformedIDsAndHealth(t *testing.T) {
	t.Parallel()
	p, _, _ := serve(t, storetest.URL(t))
	stranger := &page{t, p.url, &http.Client{}, p.store}
	p.setUp()
	for _, path := range []string{"/api/sites/none", "/api/sites/none/devices", "/api/devices/%00", "/api/stills/x",
		"/api/evidence/x/exchange", "/api/path-books/x/file", "/api/sites/x/events"} {
		stranger.problem("signed_out", "GET", path, nil)
		p.problem("not_found", "GET", path, nil)
	}
	stranger.problem("signed_out", "GET", "/api/openapi.json", nil)
	stranger.problem("signed_out", "GET", "/api/nothing", nil)
	p.problem("no_route", "GET", "/api/nothing", nil)
	status, _, _ := p.do("GET", "/api/openapi.json", nil)
	assert.Equal(t, 200, status)
	for path, want := range map[string]string{"/healthz": "ok\n", "/readyz": "ready\n"} {
		status, raw, _ := stranger.do("GET", path, nil)
		assert.Equal(t, 200, status)
		assert.Equal(t, want, raw)
	}
	p.problem("nul", "POST", "/api/sites", map[string]any{"name": "a\x00b", "ranges": []string{"192.0.2.0/24"}})
	status, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "a\x1b[2J b", "ranges": []string{"2001:db8::/32"},
		"confirm_large": true})
	assert.Equal(t, 201, status, raw)
	assert.Contains(t, raw, `"name":"a·[2J b"`)
	assert.NotContains(t, raw, ":-", "no total is negative: %s", raw)
}

func TestReadyzTellsOfAFullDisk(t *testing.T) {
	t.Parallel()
	p, _, _ := serveWith(t, storetest.URL(t), Config{Room: &Room{Folder: t.TempDir(), Least: 1 << 62}})
	status, raw, _ := p.do("GET", "/readyz", nil)
	assert.Equal(t, 503, status)
	assert.Contains(t, raw, "nearly full")
	p.setUp()
	_, raw, _ = p.do("GET", "/api/health", nil)
	assert.Contains(t, raw, `"low_on_disk":true`)
	r := &Room{Folder: t.TempDir(), Least: 1 << 62}
	low, turned := r.Turned()
	assert.True(t, low && turned)
	_, turned = r.Turned()
	assert.False(t, turned, "it is said once")
}

// A database that has stopped in the middle, as by SIGSTOP, holds a request up for its time and no longer, and is said.
func TestAStoppedDatabaseHoldsNoRequestForEver(t *testing.T) {
	t.Parallel()
	dir, err := storetest.Dir()
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	c, err := cluster.Start(context.Background(), cluster.Options{Dir: filepath.Join(dir, "pg"), Scratch: true})
	require.NoError(t, err)
	t.Cleanup(c.Stop)
	p, _, _ := serveWith(t, c.URL, Config{Patience: 6 * time.Second}) // enough for the setting up on a busy machine
	p.setUp()
	for _, pid := range family(t, c.Process()) {
		require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
		defer syscall.Kill(pid, syscall.SIGCONT)
	}
	status, raw, _ := p.do("GET", "/api/sites", nil)
	assert.Equal(t, 503, status, raw)
	assert.Contains(t, raw, "The database does not answer")
	status, _, _ = p.do("GET", "/readyz", nil)
	assert.Equal(t, 503, status)
	status, _, _ = p.do("GET", "/healthz", nil)
	assert.Equal(t, 200, status, "the server itself is alive")
	for _, pid := range family(t, c.Process()) {
		syscall.Kill(pid, syscall.SIGCONT)
	}
	require.Eventually(t, func() bool { status, _, _ := p.do("GET", "/api/sites", nil); return status == 200 }, 30*time.Second,
		50*time.Millisecond)
}

// family returns a process with its children (proc(5)).
func family(t *testing.T, parent int) []int {
	out := []int{parent}
	all, err := filepath.Glob("/proc/[0-9]*/stat")
	require.NoError(t, err)
	for _, f := range all {
		raw, _ := os.ReadFile(f)
		fields := strings.Fields(string(raw[bytes.LastIndexByte(raw, ')')+1:]))
		if len(fields) > 1 && fields[1] == strconv.Itoa(parent) {
			pid, err := strconv.Atoi(filepath.Base(filepath.Dir(f)))
			require.NoError(t, err)
			out = append(out, pid)
		}
	}
	return out
}

// Of two devices one cannot be claimed: nothing is written of either.
func TestNothingIsWrittenBeforeAllInputIsValid(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	ctx := context.Background()
	_, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"192.0.2.0/24"}})
	var site siteView
	require.NoError(t, json.Unmarshal([]byte(raw), &site))
	var ids []uuid.UUID
	for i, open := range []bool{true, true, false} {
		id, err := s.Devices.Sight(ctx, site.ID, nil, sighting.Sighting{Method: sighting.MDNS,
			Addr: netip.AddrFrom4([4]byte{192, 0, 2, byte(i + 7)}), Serial: strconv.Itoa(i), Kind: sighting.Camera})
		require.NoError(t, err)
		d, err := s.Devices.Get(ctx, id)
		require.NoError(t, err)
		require.NoError(t, s.Devices.Record(ctx, d, nil, store.Finding{Body: evidence.Reached{Addr: d.Status.Device.Addr}}))
		require.NoError(t, s.Devices.Record(ctx, d, nil, store.Finding{Body: evidence.SignedIn{Open: open}}))
		ids = append(ids, id)
	}
	keys := func() []store.SignIn {
		list, err := s.SignIns.List(ctx)
		require.NoError(t, err)
		return list
	}
	path := "/api/sites/" + site.ID.String() + "/claim"
	p.problem("not_fresh", "POST", path, map[string]any{"devices": ids, "user": "fitter", "strict": true})
	p.problem("not_fresh", "POST", path, map[string]any{"devices": ids, "user": "fitter", "secret": "tarn-water-77", "strict": true})
	p.problem("not_signed_in", "POST", "/api/sites/"+site.ID.String()+"/fixes",
		map[string]any{"devices": ids, "user": "watcher", "action": "stream_user", "strict": true})
	assert.Empty(t, keys())
	acts, err := s.Record.List(ctx, store.LineFilter{Limit: 10})
	require.NoError(t, err)
	assert.Len(t, acts, 1, "nor does the record say that anything was done")

	status, raw, _ := p.do("POST", path, map[string]any{"devices": ids[:2], "user": "fitter", "secret": "tarn-water-77"})
	require.Equal(t, 202, status, raw)
	require.Len(t, keys(), 1)
	assert.True(t, keys()[0].Bound, "a password from claiming is for what was claimed with it")
	assert.ElementsMatch(t, ids[:2], keys()[0].Devices)
	status, raw, _ = p.do("POST", path, map[string]any{"devices": ids[:2], "user": "fitter"})
	require.Equal(t, 202, status, raw)
	require.Len(t, keys(), 3)
	for _, k := range keys()[1:] {
		assert.Len(t, k.Devices, 1)
	}
}

// An event stream ends with its session.
func TestEventStreamEndsWithItsSession(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	site, err := s.Sites.Create(context.Background(), "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	res, err := p.client.Get(p.url + "/api/sites/" + site.ID.String() + "/events")
	require.NoError(t, err)
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	require.True(t, lines.Scan())
	p.do("DELETE", "/api/session", nil)
	for lines.Scan() { // to the end, which the test's time limit would miss
	}
}

func TestActsAreRecordedWithWhoAndWhere(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	_, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "Works", "ranges": []string{"192.0.2.0/24"}})
	var site siteView
	require.NoError(t, json.Unmarshal([]byte(raw), &site))
	p.do("PUT", "/api/sites/"+site.ID.String(), map[string]any{"name": "Works", "ranges": []string{"192.0.2.0/25"}})
	_, raw, _ = p.do("POST", "/api/sign-ins", map[string]any{"user": "fitter", "secret": "tarn-water-7", "site": site.ID})
	var key struct{ ID uuid.UUID }
	require.NoError(t, json.Unmarshal([]byte(raw), &key))
	p.do("POST", "/api/sites/"+site.ID.String()+"/sweeps", map[string]any{})
	p.do("POST", "/api/sign-ins/"+key.ID.String()+"/reveal", nil)
	p.do("DELETE", "/api/sign-ins/"+key.ID.String(), nil)
	p.do("DELETE", "/api/sites/"+site.ID.String(), nil)
	_, raw, _ = p.do("GET", "/api/audit", nil)
	var acts []store.Line
	require.NoError(t, json.Unmarshal([]byte(raw), &acts))
	var got []string
	for _, a := range acts {
		assert.Equal(t, "keeper", a.Person)
		got = append(got, string(a.Act)+"|"+a.Subject+"|"+a.Before+"|"+a.After+"|"+a.Site)
	}
	assert.Equal(t, []string{
		"delete-site|Works|192.0.2.0/25||Works",
		"delete-sign-in|fitter|||",
		"reveal-sign-in|fitter|||",
		"start-sweep|192.0.2.0/25|||Works",
		"add-sign-in|fitter|||Works",
		"change-site|Works|192.0.2.0/24|192.0.2.0/25|Works",
		"create-site|Works||192.0.2.0/24|Works",
	}, got)
	assert.NotContains(t, raw, "tarn-water-7")
	_, err := s.Record.List(context.Background(), store.LineFilter{Limit: 1})
	require.NoError(t, err)
}

func TestWeakPasswordsAreShownOnTheKeyring(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	_, err := s.SignIns.AddAll(context.Background(), signin.New{Label: "weak", User: "fitter", Secret: signin.NewSecret("lantern")},
		signin.New{Label: "good", User: "fitter", Secret: signin.NewSecret("kf3xq-7vbn2-mmwz9-a4c6e")})
	require.NoError(t, err)
	_, raw, _ := p.do("GET", "/api/sign-ins", nil)
	var keys []keyView
	require.NoError(t, json.Unmarshal([]byte(raw), &keys))
	assert.Contains(t, keys[0].Weak, "can be guessed")
	assert.Empty(t, keys[1].Weak)
	assert.NotContains(t, raw, "lantern")
}

// A spreadsheet of a few kilobytes that unpacks to hundreds of megabytes is refused before anything of it is unpacked; one with more
// rows than any list ends early.
func TestSpreadsheetsAreBounded(t *testing.T) {
	// Not beside others: it measures memory.
	var bomb bytes.Buffer
	z := zip.NewWriter(&bomb)
	w, err := z.Create("xl/worksheets/sheet1.xml")
	require.NoError(t, err)
	zeros := bytes.Repeat([]byte(" "), 1<<20)
	for range 300 {
		w.Write(zeros)
	}
	require.NoError(t, z.Close())
	require.Less(t, bomb.Len(), 1<<20)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	_, err = readList(bomb.Bytes(), nil)
	runtime.ReadMemStats(&after)
	assert.ErrorContains(t, err, "unpacks to more than")
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(16<<20))

	f := excelize.NewFile()
	stream, err := f.NewStreamWriter("Sheet1")
	require.NoError(t, err)
	require.NoError(t, stream.SetRow("A1", []any{"Camera", "IP"}))
	for i := range 20_100 {
		cell, _ := excelize.CoordinatesToCellName(1, i+2)
		require.NoError(t, stream.SetRow(cell, []any{"x", "192.0.2.7"}))
	}
	require.NoError(t, stream.Flush())
	var long bytes.Buffer
	require.NoError(t, f.Write(&long))
	_, err = readList(long.Bytes(), nil)
	assert.ErrorContains(t, err, "more than 20000 rows")
	_, err = readList([]byte("PK\x03\x04 not really"), nil)
	assert.ErrorContains(t, err, "cannot be read as a spreadsheet")
}

func TestCookiesAreSecureBehindTLS(t *testing.T) {
	t.Parallel()
	p, _, _ := serveWith(t, storetest.URL(t), Config{Secure: true})
	jar, _ := cookiejar.New(nil)
	p.client.Jar = jar
	status, _, h := p.do("POST", "/api/setup", map[string]string{"name": "keeper", "password": "a long password", "code": setupCode})
	require.Equal(t, 200, status)
	require.Len(t, h.Values("Set-Cookie"), 2)
	for _, c := range h.Values("Set-Cookie") {
		assert.Contains(t, c, "Secure")
		assert.Contains(t, c, "HttpOnly")
	}
	assert.Contains(t, h.Get("Strict-Transport-Security"), "max-age=")
}

// Answers are compressed where a browser takes that, each bears the ID by which it stands in the log, and the log repeats no query.
func TestRequestsAreLoggedAndCompressed(t *testing.T) {
	t.Parallel()
	p, _, log := serve(t, storetest.URL(t))
	p.setUp()
	ask := func(path, encoding string) *http.Response {
		req, err := http.NewRequest("GET", p.url+path, nil)
		require.NoError(t, err)
		req.Header.Set("Accept-Encoding", encoding)
		req.Header.Set("X-Request-Id", "chosen by the caller")
		res, err := p.client.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res
	}
	assert.Equal(t, "gzip", ask("/api/sites?looks=Tarn-Water-77", "gzip").Header.Get("Content-Encoding"))
	assert.Empty(t, ask("/api/sites", "identity").Header.Get("Content-Encoding"))
	a, b := ask("/api/sites", "gzip").Header.Get("X-Request-Id"), ask("/api/sites", "gzip").Header.Get("X-Request-Id")
	assert.NotEqual(t, a, b)
	assert.NotContains(t, a, "chosen")
	require.Eventually(t, func() bool { return strings.Contains(log.String(), b) }, 5*time.Second, 10*time.Millisecond)
	assert.Contains(t, log.String(), "path=/api/sites status=200")
	assert.NotContains(t, log.String(), "Tarn-Water-77")
}
