package certs_test

import (
	"context"
	"crypto/tls"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/doctor"
	"unlatch/server/certs"
)

// A clock is set by a test.
type clock struct {
	mu sync.Mutex
	at time.Time
}

func (c *clock) now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.at
}

func (c *clock) pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = c.at.Add(d)
}

// A bench is a server that gets its certificate by ACME.
type bench struct {
	t     *testing.T
	d     *directory
	k     *certs.Keeper
	at    string // of the TLS listener
	clock *clock
	asked certs.ACME
}

func newBench(t *testing.T, offers string) *bench {
	d := newDirectory(t, offers)
	b := &bench{t: t, d: d, clock: &clock{at: time.Now()}}
	b.asked = certs.ACME{Directory: d.url + "/directory", Mail: "keeper@bench.example", Host: "bench.example", Data: t.TempDir(),
		Roots:  d.roots,
		ByHTTP: offers == "http-01", OwnHosts: []string{"localhost"}, Log: slog.New(slog.DiscardHandler), Now: b.clock.now}
	var err error
	b.k, err = certs.WithACME(b.asked)
	require.NoError(t, err)
	l := listen(t)
	b.at = l.Addr().String()
	secure := tls.NewListener(l, &tls.Config{GetCertificate: b.k.Get, NextProtos: b.k.Protocols()})
	go http.Serve(secure, http.NotFoundHandler())
	d.host = b.at
	if plain := b.k.Challenges(); plain != nil {
		l := listen(t)
		go http.Serve(l, plain)
		d.host = l.Addr().String()
	}
	return b
}

// serves returns the certificate that a browser sees.
func (b *bench) serves() (names []string, fingerprint string) {
	b.t.Helper()
	conn, err := tls.Dial("tcp", b.at, &tls.Config{InsecureSkipVerify: true, ServerName: "bench.example"})
	require.NoError(b.t, err)
	defer conn.Close()
	c := conn.ConnectionState().PeerCertificates
	return c[0].DNSNames, certs.Fingerprint(&tls.Certificate{Certificate: [][]byte{c[0].Raw}})
}

// Both ways in which a directory asks back lead to a certificate, which is served without a restart, kept over one, and renewed when a
// third of its life is left.
func TestACertificateByACME(t *testing.T) {
	t.Parallel()
	for _, offers := range []string{"http-01", "tls-alpn-01"} {
		t.Run(offers, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, offers)
			names, first := b.serves()
			assert.Equal(t, []string{"localhost"}, names, "until there is one, that of its own making")
			assert.Equal(t, doctor.SelfMade, b.k.State().Source)
			b.k.Renew(t.Context())
			require.Empty(t, b.k.State().Problem)
			names, second := b.serves()
			assert.Equal(t, []string{"bench.example"}, names)
			assert.NotEqual(t, first, second)
			conn, err := tls.Dial("tcp", b.at, &tls.Config{RootCAs: b.d.roots, ServerName: "bench.example"})
			require.NoError(t, err, "its chain is trusted")
			conn.Close()
			assert.Equal(t, doctor.FromACME, b.k.State().Source)

			b.clock.pass(50 * 24 * time.Hour)
			b.k.Renew(t.Context())
			_, same := b.serves()
			assert.Equal(t, second, same)
			assert.Equal(t, 1, b.d.orders, "nothing is asked before it is due")

			again, err := certs.WithACME(b.asked)
			require.NoError(t, err)
			assert.Equal(t, second, again.Fingerprint(), "kept over a restart")

			b.clock.pass(11 * 24 * time.Hour)
			b.k.Renew(t.Context())
			_, third := b.serves()
			assert.NotEqual(t, second, third)
			assert.Equal(t, 2, b.d.orders)
			info, err := os.Stat(filepath.Join(b.asked.Data, "acme", "certificate.pem"))
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		})
	}
}

// Whatever a directory does, the server serves what it has, and says why there is nothing new.
func TestDirectoriesThatAreNoHelp(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		spoil func(*directory)
		says  string
		used  bool // its certificate is served all the same
	}{
		"refuses":           {func(d *directory) { d.refuse = "no such name\r\nhere" }, "it refuses: no such name", false},
		"ends tomorrow":     {func(d *directory) { d.middle = 24 * time.Hour; d.life = 25 * time.Hour }, "", true},
		"ended":             {func(d *directory) { d.life = -time.Second }, "which is of no use", false},
		"a chain that ends": {func(d *directory) { d.middle = time.Second }, "ends on", true},
		"another name":      {func(d *directory) { d.lie = "other.example" }, "is for somebody else", false},
		"another key":       {func(d *directory) { d.lie = "key" }, "", false},
		"cannot ask":        {func(d *directory) { d.host = "127.0.0.1:1" }, "the answer there is another's", false},
		"talks on":          {func(d *directory) { d.oversize = true }, "invalid character", false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, "http-01")
			_, before := b.serves()
			c.spoil(b.d)
			b.k.Renew(t.Context())
			_, after := b.serves()
			assert.Equal(t, c.used, before != after)
			s := b.k.State()
			assert.Contains(t, s.Problem, c.says)
			assert.NotContains(t, s.Problem, "\n")
			if !c.used {
				assert.NotEmpty(t, s.Problem)
			}
			assert.LessOrEqual(t, len(s.Problem), 600)
		})
	}
}

func TestASlowDirectoryHoldsNothingUp(t *testing.T) {
	t.Parallel()
	b := newBench(t, "http-01")
	b.d.slow = 20 * time.Second
	ctx, stop := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer stop()
	done := make(chan struct{})
	go func() { b.k.Renew(ctx); close(done) }()
	names, _ := b.serves()
	assert.Equal(t, []string{"localhost"}, names)
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("it waits for the directory longer than it was told")
	}
}

// A directory that refuses is asked ever less often.
func TestADirectoryIsNotHammered(t *testing.T) {
	t.Parallel()
	d := newDirectory(t, "http-01")
	d.refuse = "not today"
	data := t.TempDir()
	k, err := certs.WithACME(certs.ACME{Directory: d.url + "/directory", Host: "bench.example", Data: data, Roots: d.roots, ByHTTP: true,
		Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	var waits []time.Duration
	for range 14 {
		k.Renew(t.Context())
		waits = append(waits, k.Wait())
	}
	assert.Equal(t, time.Minute, waits[0])
	assert.Equal(t, 2*time.Minute, waits[1])
	assert.Equal(t, 6*time.Hour, waits[13])
}

func TestWhatACMEWants(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ directory, host, says string }{
		{"http://ca.example/directory", "bench.example", "takes an address such as https://"},
		{"", "bench.example", "takes an address"},
		{"https://ca.example/directory", "", "set public-url"},
	} {
		_, err := certs.WithACME(certs.ACME{Directory: c.directory, Host: c.host, Data: t.TempDir()})
		assert.ErrorContains(t, err, c.says)
	}
}

// Files that somebody renews are served without a restart; what cannot be used is told, and the old one stays.
func TestGivenFilesAreReadAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	one, err := certs.Own(dir, []string{"one.example"}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	cert, key := filepath.Join(dir, "tls-cert.pem"), filepath.Join(dir, "tls-key.pem")
	k, err := certs.Given(cert, key, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	assert.Equal(t, one.Fingerprint(), k.Fingerprint())
	other := t.TempDir()
	two, err := certs.Own(other, []string{"two.example"}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	for _, name := range []string{"tls-cert.pem", "tls-key.pem"} {
		raw, err := os.ReadFile(filepath.Join(other, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), raw, 0o600))
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), time.Time{}, time.Now().Add(time.Hour)))
		k.Renew(t.Context())
		if name == "tls-cert.pem" {
			assert.Contains(t, k.State().Problem, "cannot be used")
			assert.Equal(t, one.Fingerprint(), k.Fingerprint())
		}
	}
	assert.Empty(t, k.State().Problem)
	assert.Equal(t, two.Fingerprint(), k.Fingerprint())
	_, err = certs.Given(filepath.Join(dir, "none"), key, slog.New(slog.DiscardHandler))
	assert.ErrorContains(t, err, "cannot be used")
}

// One of its own making is made anew before it ends, while the server runs.
func TestAnOwnCertificateIsMadeAnew(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		k, err := certs.Own(dir, []string{"127.0.0.1"}, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		first := k.Fingerprint()
		ctx, stop := context.WithCancel(context.Background())
		go k.Keep(ctx)
		time.Sleep(769 * 24 * time.Hour)
		synctest.Wait()
		assert.Equal(t, first, k.Fingerprint())
		time.Sleep(2 * 24 * time.Hour)
		synctest.Wait()
		assert.NotEqual(t, first, k.Fingerprint())
		stop()
	})
	raw, err := os.ReadFile(filepath.Join(dir, "tls-key.pem"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tls-key.pem"), raw[:len(raw)/2], 0o600))
	_, err = certs.Own(dir, nil, slog.New(slog.DiscardHandler))
	assert.ErrorContains(t, err, "restore it, or remove it")
	assert.NotContains(t, strings.ToLower(err.Error()), "private key-----")
}
