package bridge_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/bridge"
	"unlatch/sim/simtest"
)

var ctx = context.Background()

func client(t *testing.T, at, secret string, log *exchange.Log) *bridge.Client {
	o := bridge.Options{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.0/8")}, Timeout: 900 * time.Millisecond, Log: log,
		Leave: signin.Policy{Agreed: signin.InClear}.Leave}
	if secret != "" {
		o.SignIn = signin.SignIn{User: "desk", Secret: signin.NewSecret(secret)}
	}
	c, err := bridge.New(at, o)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func failures(list []bridge.Result) (out []string) {
	for _, r := range list {
		if r.Problem != "" && !r.Skipped {
			out = append(out, r.What+": "+r.Problem)
		}
	}
	return out
}

// The check passes on every stand-in, and leaves nothing behind; on each that breaks the contract it fails and says why.
func TestCheck(t *testing.T) {
	good := map[string]string{"hybrid": "", "templates": "", "software": "", "panel": ", project: 2",
		"intercom": ", recorders: [192.0.2.1]", "directory": "", "platform": ""}
	broken := map[string]string{"hangs": "bridge's answer", "endless": "more than 4 MB", "version": "speaks version",
		"twice": "listed twice", "flaps": "first [",
		"half": "EOF", "deep": "nested without end", "tells": "tells a password", "no_problem": "without a problem document",
		"lies":    "does not hold the camera",
		"forgets": "not where it was put", "open": "answered without one"}
	var b strings.Builder
	fmt.Fprintln(&b, "name: bridges\ntargets:")
	n := 10
	at := map[string]string{}
	add := func(name, kind, more string) {
		n++
		fmt.Fprintf(&b, "  - {name: %s, kind: %s, address: 127.46.42.%d, port: 8081, user: desk, secret: oak-door-52, slots: 4%s}\n",
			name, kind, n, more)
		at[name] = fmt.Sprintf("http://127.46.42.%d:8081", n)
	}
	for kind, more := range good {
		add(kind, kind, more)
	}
	for how := range broken {
		add("bad-"+how, "hybrid", ", broken: "+how)
	}
	w := simtest.Start(t, b.String())
	for kind := range good {
		c := bridge.Checker{Client: client(t, at[kind], "oak-door-52", nil), Stranger: client(t, at[kind], "", nil)}
		list := c.Check(ctx)
		assert.Empty(t, failures(list), kind)
		assert.Greater(t, len(list), 4, kind)
		for _, s := range w.Bridge(kind).Look().Slots {
			assert.True(t, s.Entry == nil || strings.HasPrefix(s.Entry.Key, "project"), "%s: nothing is left behind: %+v", kind, s.Entry)
		}
	}
	for how, why := range broken {
		c := bridge.Checker{Client: client(t, at["bad-"+how], "oak-door-52", nil), Stranger: client(t, at["bad-"+how], "", nil)}
		assert.Contains(t, strings.Join(failures(c.Check(ctx)), "\n"), why, how)
	}
	reading := bridge.Checker{Client: client(t, at["panel"], "oak-door-52", nil), ReadOnly: true}
	before := len(w.Bridge("panel").Look().Slots)
	assert.Empty(t, failures(reading.Check(ctx)))
	assert.Len(t, w.Bridge("panel").Look().Slots, before)
}

// No password of an entry, and no sign-in, stands in the exchange.
func TestTheExchangeHoldsNoSecret(t *testing.T) {
	simtest.Start(t, "name: one\ntargets:\n  - {name: a, kind: hybrid, address: 127.46.43.11, port: 8081, user: desk, secret: "+
		"oak-door-52, slots: 2, streams: 8554}")
	log := exchange.NewLog(nil)
	c := client(t, "http://127.46.43.11:8081", "oak-door-52", log)
	_, err := c.Put(ctx, "1", bridge.Entry{Key: "k", Name: "n", User: "viewer", Password: "camera-pass-3",
		Streams: []bridge.Stream{{Role: "main", URL: "rtsp://127.46.43.99/x"}}})
	require.NoError(t, err)
	_, err = c.Push(ctx, "1", bridge.Push{Ingest: "rtmp://127.46.43.99/live", Key: "stream-key-9", Stream: "main"})
	require.NoError(t, err)
	s, err := c.Slot(ctx, "1")
	require.NoError(t, err)
	assert.Empty(t, s.Entry.Password)
	text := log.String()
	for _, secret := range []string{"camera-pass-3", "stream-key-9", "oak-door-52"} {
		assert.NotContains(t, text, secret)
	}
	assert.Contains(t, text, "PUT http://127.46.43.11:8081/v1/slots/1")
}

func TestAddresses(t *testing.T) {
	for _, bad := range []string{"", "127.0.0.1:8081", "ftp://127.0.0.1", "http://u:p@127.0.0.1", "http://127.0.0.1/?a=1", "http://"} {
		_, err := bridge.New(bad, bridge.Options{})
		assert.ErrorContains(t, err, "no address of a bridge", bad)
	}
}

// A bridge that redirects is not followed: a sign-in stays with its host.
func TestNoRedirectIsFollowed(t *testing.T) {
	elsewhere := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	defer other.Close()
	first := httptest.NewServer(http.RedirectHandler(other.URL, http.StatusTemporaryRedirect))
	defer first.Close()
	_, err := client(t, first.URL, "oak-door-52", nil).Target(ctx)
	assert.ErrorAs(t, err, new(*bridge.BrokenError))
	assert.Zero(t, elsewhere)
}

// A bridge is known by its certificate: another one gets no sign-in.
func TestAnotherCertificate(t *testing.T) {
	asked := 0
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		w.Write([]byte(`{"contract":"1","name":"Wall","kind":"panel"}`))
	}))
	defer server.Close()
	at := func(pin string) (*bridge.Client, error) {
		c, err := bridge.New(server.URL, bridge.Options{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.1")}, Pin: pin})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		_, err = c.Target(ctx)
		return c, err
	}
	c, err := at("")
	require.NoError(t, err)
	require.NotNil(t, c.Shown())
	_, err = at(c.Shown().SHA256)
	require.NoError(t, err)
	before := asked
	_, err = at(strings.Repeat("0", 64))
	require.ErrorAs(t, err, new(*certificate.ChangedError))
	assert.Equal(t, before, asked, "nothing was sent to it")
}

// Whatever a bridge answers is an error or a list that keeps the contract.
func FuzzAnswers(f *testing.F) {
	f.Add(`{"slots":[{"id":"1","label":"one","state":"free"}]}`)
	f.Add(`{"slots":[{"id":"1","state":"used","entry":{"key":"k","name":"\u202e","streams":null}}]}`)
	f.Add(strings.Repeat("[", 100))
	answer := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte(answer)) }))
	defer server.Close()
	f.Fuzz(func(t *testing.T, text string) {
		answer = text
		c, err := bridge.New(server.URL, bridge.Options{Dial: &address.Guard{Allowed: address.MustParse("127.0.0.0/8")}})
		require.NoError(t, err)
		defer c.Close()
		s, err := c.Slots(ctx)
		if err != nil {
			return
		}
		seen := map[string]bool{}
		for _, x := range s.Slots {
			if seen[x.ID] || x.ID == "" || strings.ContainsAny(x.Label, "\x00\u202e\n") {
				t.Fatalf("%+v", x)
			}
			seen[x.ID] = true
		}
		if _, err := json.Marshal(s); err != nil {
			t.Fatal(err)
		}
	})
}
