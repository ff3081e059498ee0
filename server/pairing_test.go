package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/pairing"
	signed "unlatch/core/ground/program"
	"unlatch/core/wire/link"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A site with a server, to which machines are paired.
type pairedSite struct {
	t  *testing.T
	p  *page
	s  *store.Store
	to jobs.ServerAddress
	id string
	on store.Options // of its database
}

func newPairedSite(t *testing.T) *pairedSite {
	on := store.Options{URL: storetest.URL(t), KeyFile: filepath.Join(t.TempDir(), "key")}
	p, s, _ := serveOn(t, on, Config{})
	p.setUp()
	made, err := s.Sites.Create(t.Context(), "Viaduct", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	to, err := url.Parse(p.url)
	require.NoError(t, err)
	return &pairedSite{t, p, s, jobs.ServerAddress{URL: to}, made.ID.String(), on}
}

// ask has a machine ask to be paired.
func (x *pairedSite) ask() (pairing.Identity, pairing.Asked) {
	x.t.Helper()
	i := pairing.NewIdentity(x.to.URL.String(), "")
	asked, err := jobs.Ask(x.t.Context(), x.to, pairing.Ask{Key: i.Key().Public(), Recipient: i.Recipient(), Machine: "box-3",
		Version: "0.1.0"})
	require.NoError(x.t, err)
	return i, asked
}

// pair pairs a machine as a worker of the site.
func (x *pairedSite) pair(name string) pairing.Identity {
	x.t.Helper()
	i, asked := x.ask()
	get[idBody](x.p, "POST", "/api/paired-workers", fields{"code": asked.Code, "name": name, "sites": []string{x.id}})
	out, err := jobs.Confirmed(x.t.Context(), x.to, asked.Token)
	require.NoError(x.t, err)
	require.Equal(x.t, name, out.Name)
	i.Worker = out.Worker
	return i
}

// uplink connects an identity until the test ends; what Run returns comes on the channel.
func (x *pairedSite) uplink(i pairing.Identity) (*jobs.Uplink, <-chan error) {
	x.t.Helper()
	u, err := jobs.NewUplink(i, link.Hello{Machine: "box-3", Version: "0.1.0"}, slog.New(slog.DiscardHandler))
	require.NoError(x.t, err)
	ended := make(chan error, 1)
	go func() { ended <- u.Run(x.t.Context()) }()
	return u, ended
}

func (x *pairedSite) list() []pairedView {
	return get[[]pairedView](x.p, "GET", "/api/paired-workers", nil)
}

// A machine is paired by the code that it shows, works on the database over its one connection, and is cut off the moment it is revoked.
func TestAPairedWorker(t *testing.T) {
	t.Parallel()
	x := newPairedSite(t)
	i := x.pair("Viaduct cabinet")
	u, ended := x.uplink(i)
	far, err := store.OpenWith(t.Context(), store.Options{URL: "postgres://worker@link/?sslmode=disable", Dial: u.Dial, AsIs: true})
	require.NoError(t, err)
	defer far.Close()
	sites, err := far.Sites.List(t.Context())
	require.NoError(t, err)
	require.Len(t, sites, 1)
	assert.Equal(t, "Viaduct", sites[0].Name)
	require.Eventually(t, func() bool { l := x.list(); return l[0].Connected && l[0].Seen != nil }, time.Minute, 20*time.Millisecond)
	assert.Equal(t, i.Key().Public().Name(), x.list()[0].Key)

	// In the middle of a statement.
	slow := make(chan error, 1)
	go func() {
		_, err := far.SQL().ExecContext(t.Context(), "SELECT pg_sleep(60)")
		slow <- err
	}()
	time.Sleep(50 * time.Millisecond)
	status, _, _ := x.p.do("DELETE", "/api/paired-workers/"+i.Worker, nil)
	require.Equal(t, 204, status)
	select {
	case err := <-slow:
		assert.Error(t, err)
	case <-time.After(30 * time.Second):
		t.Fatal("what it did goes on")
	}
	var no *link.Refusal
	select {
	case err := <-ended:
		require.ErrorAs(t, err, &no)
		assert.Contains(t, no.Problem, "revoked")
	case <-time.After(time.Minute):
		t.Fatal("it goes on asking")
	}
	ctx, done := context.WithTimeout(t.Context(), time.Second)
	defer done()
	_, err = u.Dial(ctx, "tcp", "")
	assert.ErrorAs(t, err, &no)
	assert.NotNil(t, x.list()[0].Revoked)
	status, _, _ = x.p.do("DELETE", "/api/paired-workers/"+i.Worker, nil)
	assert.Equal(t, 404, status, "it was revoked already")
}

// A key file that is used twice at once is told, and the second one is not let in while the first is there.
func TestAStolenKey(t *testing.T) {
	t.Parallel()
	x := newPairedSite(t)
	i := x.pair("Viaduct cabinet")
	first, _ := x.uplink(i)
	c, err := first.Dial(t.Context(), "tcp", "")
	require.NoError(t, err)
	c.Close()
	stranger := pairing.NewIdentity(i.Server, "")
	stranger.Worker = i.Worker
	_, ended := x.uplink(stranger)
	assert.Error(t, <-ended)
	assert.Nil(t, x.list()[0].Twice, "who knows the name of a worker alone has no key of it")
	thief, _ := x.uplink(i)
	ctx, done := context.WithTimeout(t.Context(), 3*time.Second)
	defer done()
	_, err = thief.Dial(ctx, "tcp", "")
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	require.Eventually(t, func() bool { return x.list()[0].Twice != nil }, time.Minute, 20*time.Millisecond)
	assert.NotEmpty(t, x.list()[0].TwiceFrom)
	c, err = first.Dial(t.Context(), "tcp", "")
	require.NoError(t, err, "the first one goes on")
	c.Close()
}

// Two servers of one database: a key is used at one of them at once, and a worker that is revoked at one is cut off from the other.
func TestAWorkerAndTwoServers(t *testing.T) {
	t.Parallel()
	x := newPairedSite(t)
	other, _, _ := serveOn(t, x.on, Config{})
	i := x.pair("Viaduct cabinet")
	theirs := i
	theirs.Server = other.url
	first, ended := x.uplink(theirs)
	c, err := first.Dial(t.Context(), "tcp", "")
	require.NoError(t, err)
	c.Close()
	far, err := store.OpenWith(t.Context(), store.Options{URL: "postgres://worker@link/?sslmode=disable", Dial: first.Dial, AsIs: true})
	require.NoError(t, err)
	defer far.Close()
	_, err = far.Sites.List(t.Context())
	require.NoError(t, err)

	thief, _ := x.uplink(i)
	ctx, done := context.WithTimeout(t.Context(), 3*time.Second)
	defer done()
	_, err = thief.Dial(ctx, "tcp", "")
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.Eventually(t, func() bool { return x.list()[0].Twice != nil }, time.Minute, 20*time.Millisecond)
	_, err = far.Sites.List(t.Context())
	require.NoError(t, err, "the first one goes on")

	// An event alone, which paired workers can make as well, ends nobody's connection.
	_, err = x.s.SQL().ExecContext(t.Context(), "SELECT pg_notify('unlatch', $1)", `{"what":"revoked","id":"`+i.Worker+`"}`)
	require.NoError(t, err)
	time.Sleep(200 * time.Millisecond)
	_, err = far.Sites.List(t.Context())
	require.NoError(t, err)
	select {
	case err := <-ended:
		t.Fatal("it was cut off by an event of nobody: ", err)
	default:
	}

	status, _, _ := x.p.do("DELETE", "/api/paired-workers/"+i.Worker, nil)
	require.Equal(t, 204, status)
	select {
	case err := <-ended:
		var no *link.Refusal
		require.ErrorAs(t, err, &no)
	case <-time.After(time.Minute):
		t.Fatal("it is connected to the other server still")
	}
}

// When a worker goes over to another server of the database it is let in there at once.
func TestAWorkerGoesToTheOtherServer(t *testing.T) {
	t.Parallel()
	x := newPairedSite(t)
	other, _, _ := serveOn(t, x.on, Config{})
	i := x.pair("Viaduct cabinet")
	ctx, end := context.WithCancel(t.Context())
	u, err := jobs.NewUplink(i, link.Hello{Machine: "box-3", Version: "0.1.0"}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	gone := make(chan struct{})
	go func() { u.Run(ctx); close(gone) }()
	far, err := store.OpenWith(t.Context(), store.Options{URL: "postgres://worker@link/?sslmode=disable", Dial: u.Dial, AsIs: true})
	require.NoError(t, err)
	defer far.Close()
	_, err = far.Sites.List(t.Context())
	require.NoError(t, err)
	end()
	<-gone
	i.Server = other.url
	next, _ := x.uplink(i)
	c, err := next.Dial(t.Context(), "tcp", "")
	require.NoError(t, err)
	c.Close()
	assert.Nil(t, x.list()[0].Twice, "nobody had its key")
}

// updates connects a paired worker to what it sees of its updates.
func (x *pairedSite) updates(u *jobs.Uplink) *store.FarUpdates {
	x.t.Helper()
	far, err := store.DialUpdates(x.t.Context(), u.Dial)
	require.NoError(x.t, err)
	x.t.Cleanup(far.Close)
	return far
}

// A worker is told of its own update and of nobody else's, reads the program from where it was cut off, and its word is shown.
func TestAWorkerIsToldToUpdate(t *testing.T) {
	t.Parallel()
	ctx, x := t.Context(), newPairedSite(t)
	text := strings.Repeat("the program ", 120_000) // some parts
	trusted := storetest.Offer(t, x.s, "9.1.0", text)
	i, j := x.pair("Viaduct cabinet"), x.pair("Depot cabinet")
	u, _ := x.uplink(i)
	v, _ := x.uplink(j)
	mine, other := x.updates(u), x.updates(v)
	version, err := mine.Told(ctx)
	require.NoError(t, err)
	assert.Empty(t, version)
	status, raw, _ := x.p.do("PUT", "/api/paired-workers/"+i.Worker+"/update", fields{"version": "9.2.0"})
	assert.Equal(t, 422, status)
	assert.Contains(t, raw, "not_offered")
	status, raw, _ = x.p.do("PUT", "/api/paired-workers/"+i.Worker+"/update", fields{"version": "9.1.0"})
	require.Equal(t, 204, status, raw)

	version, err = mine.Told(ctx)
	require.NoError(t, err)
	assert.Equal(t, "9.1.0", version)
	version, err = other.Told(ctx)
	require.NoError(t, err)
	assert.Empty(t, version)
	_, head, err := mine.Head(ctx, "9.1.0", "plan9", "arm64")
	require.NoError(t, err)
	assert.Nil(t, head)
	id, head, err := mine.Head(ctx, "9.1.0", runtime.GOOS, runtime.GOARCH)
	require.NoError(t, err)
	m, err := signed.Verify(head, trusted)
	require.NoError(t, err)
	for _, got := range []int{0, 1, 512 << 10, 600_001, len(text)} {
		var out strings.Builder
		out.WriteString(text[:got])
		require.NoError(t, mine.Read(ctx, id, &out, int64(got)))
		require.NoError(t, m.Copy(io.Discard, strings.NewReader(out.String())), "from %d on", got)
	}

	require.NoError(t, mine.Say(ctx, "9.0.0", store.UpdateDone, ""))
	require.NoError(t, other.Say(ctx, "9.1.0", store.UpdateFailed, "it is not mine"))
	require.NoError(t, mine.Say(ctx, "9.1.0", store.UpdateFailed, "the disk is full\x1b[2J"+strings.Repeat(".", 1000)))
	assert.Error(t, mine.Say(ctx, "9.1.0", "owned", ""), "no state of an update")
	for _, w := range x.list() {
		if w.ID.String() != i.Worker {
			assert.Nil(t, w.Update)
			continue
		}
		assert.Equal(t, []string{"9.1.0", store.UpdateFailed}, []string{w.Update.Version, w.Update.State})
		assert.Contains(t, w.Update.Problem, "the disk is full·")
	}
	far, err := store.OpenWith(ctx, store.Options{URL: "postgres://worker@link/?sslmode=disable", Dial: u.Dial, AsIs: true})
	require.NoError(t, err)
	defer far.Close()
	for _, sql := range []string{"UPDATE worker_programs SET version = '9.9.9'", "DELETE FROM worker_program_parts",
		"INSERT INTO worker_updates (worker_id, version, told_by) SELECT id, '9.1.0', 'me' FROM worker_programs",
		"UPDATE worker_updates SET version = '9.9.9'"} {
		_, err := far.SQL().ExecContext(ctx, sql)
		assert.ErrorContains(t, err, "permission denied", sql)
	}
}

// A code is good once, and whoever asks without end is let wait.
func TestCodesOfPairing(t *testing.T) {
	t.Parallel()
	x := newPairedSite(t)
	_, asked := x.ask()
	confirm := func(code string, sites ...string) (int, string) {
		status, raw, _ := x.p.do("POST", "/api/paired-workers", fields{"code": code, "name": "Box", "sites": append([]string{}, sites...)})
		return status, string(raw)
	}
	status, said := confirm("AAAA-AAAA", x.id)
	assert.Equal(t, 404, status)
	assert.Contains(t, said, "No machine shows this code")
	status, said = confirm(asked.Code)
	assert.Equal(t, 422, status)
	assert.Contains(t, said, "no_site")
	status, _ = confirm(asked.Code, "0192f0c1-0000-7000-8000-000000000000")
	assert.Equal(t, 404, status)
	status, _ = confirm(asked.Code, x.id)
	assert.Equal(t, 201, status)
	status, _ = confirm(asked.Code, x.id)
	assert.Equal(t, 404, status, "it was used")
	_, err := jobs.Confirmed(t.Context(), x.to, "guessed")
	var no *jobs.AskError
	require.ErrorAs(t, err, &no)
	assert.Equal(t, 404, no.Status)
	for _, body := range []string{"", "{}", `{"key":"AAAA"}`, "[1"} {
		res, err := http.Post(x.p.url+pairing.AskPath, "application/json", bytes.NewReader([]byte(body)))
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, 400, res.StatusCode, body)
	}
	shut := false
	for range 12 {
		_, err := jobs.Ask(t.Context(), x.to, pairing.Ask{Key: pairing.NewKey().Public()})
		shut = shut || errors.As(err, &no) && no.Status == 429
	}
	assert.True(t, shut)
}

// What proves nothing is not let in, whatever it says; a machine that nobody has confirmed is none of them.
func TestStrangersOnTheLink(t *testing.T) {
	t.Parallel()
	x := newPairedSite(t)
	i, _ := x.ask()
	other := x.pair("Viaduct cabinet")
	for _, worker := range []string{"", "nobody", "0192f0c1-0000-7000-8000-000000000000", other.Worker} {
		i.Worker = worker
		_, ended := x.uplink(i)
		var no *link.Refusal
		select {
		case err := <-ended:
			require.ErrorAs(t, err, &no)
			assert.Contains(t, no.Problem, "does not know")
		case <-time.After(time.Minute):
			t.Fatal("it is not turned away")
		}
	}
	res, err := http.Get(x.p.url + pairing.LinkPath)
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusUpgradeRequired, res.StatusCode)
	assert.Nil(t, x.list()[0].Seen)
	raw, err := json.Marshal(x.list())
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "seed")
	_, err = jobs.ReadServer("http://bench.example")
	var clear *jobs.InsecureError
	assert.ErrorAs(t, err, &clear)
}
