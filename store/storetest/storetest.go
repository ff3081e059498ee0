// Package storetest starts a PostgreSQL cluster for a test package and gives each test a database of its own.
package storetest

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/program"
	"unlatch/core/ground/signin"
	"unlatch/store"
	"unlatch/store/cluster"
)

var (
	shared *cluster.Cluster
	count  atomic.Int64
)

// Main runs a package's tests with a cluster; call it from TestMain.
func Main(m *testing.M) {
	dir, err := Dir()
	if err == nil {
		shared, err = cluster.Start(context.Background(), cluster.Options{Dir: filepath.Join(dir, "pg"), Scratch: true})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	shared.Stop()
	os.RemoveAll(dir)
	os.Exit(code)
}

// Dir makes a scratch folder that the database's user can reach.
func Dir() (string, error) {
	dir, err := os.MkdirTemp("", "unlatch-test-*")
	if err != nil {
		return "", err
	}
	return dir, os.Chmod(dir, 0o755)
}

// URL makes an empty database and returns its address.
func URL(t testing.TB) string {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, shared.URL)
	require.NoError(t, err)
	defer conn.Close(ctx)
	name := fmt.Sprintf("t%d", count.Add(1))
	_, err = conn.Exec(ctx, "CREATE DATABASE "+name)
	require.NoError(t, err)
	return strings.TrimSuffix(shared.URL, "unlatch") + name
}

// Open makes an empty database and opens a store on it.
func Open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(context.Background(), URL(t), filepath.Join(t.TempDir(), "key"), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// Target adds a target to a site and returns its ID.
func Target(t *testing.T, s *store.Store, site uuid.UUID, form act.TargetForm) uuid.UUID {
	t.Helper()
	put := act.PutTarget{ID: uuid.New(), New: true, TargetForm: form}
	if u, err := url.Parse(form.Address); err == nil {
		if at, err := netip.ParseAddrPort(u.Host); err == nil {
			put.Reach = []netip.AddrPort{at}
		}
	}
	id := put.ID
	require.NoError(t, s.Targets.Put(context.Background(), site, put))
	return id
}

// Owner is the person in whose name tests act.
var Owner = act.Person{Name: "owner", Role: act.Owner}

// Revoke is the act that lets a paired worker in no more.
func Revoke(i pairing.Identity) act.RevokeWorker {
	return act.RevokeWorker{ID: uuid.MustParse(i.Worker), Name: "the worker"}
}

// Pair pairs a machine as a worker of some sites, and returns what it keeps of that.
func Pair(t testing.TB, s *store.Store, shared bool, sites ...uuid.UUID) pairing.Identity {
	t.Helper()
	ctx := context.Background()
	i := pairing.NewIdentity("https://bench.example", "")
	a := act.PairWorker{ID: uuid.New(), Key: i.Key().Public(), Recipient: i.Recipient(), Name: "Worker " + i.Key().Public().Name(),
		Shared: shared,
		Sites:  sites}
	var err error
	a.Request, err = s.Paired.AskAtHand(ctx, store.Pairing{Key: a.Key, Recipient: a.Recipient})
	require.NoError(t, err)
	_, err = s.Acts().Keep(ctx, Owner, a.About(), a)
	require.NoError(t, err)
	i.Worker = a.ID.String()
	return i
}

// OpenFar opens the store of a paired worker on the database of a store.
func OpenFar(t testing.TB, s *store.Store, i pairing.Identity) *store.Store {
	t.Helper()
	return OpenFarBy(t, s, i, nil)
}

// OpenFarBy is OpenFar by a dialer; nil is for the usual one.
func OpenFarBy(t testing.TB, s *store.Store, i pairing.Identity, dial pgconn.DialFunc) *store.Store {
	t.Helper()
	ctx := context.Background()
	id := uuid.MustParse(i.Worker)
	role, password, err := s.Paired.Login(ctx, id)
	require.NoError(t, err)
	at, err := url.Parse(s.Pool.Config().ConnString())
	require.NoError(t, err)
	at.User = url.UserPassword(role, password)
	far, err := store.OpenWith(ctx, store.Options{URL: at.String(), Dial: dial,
		Far: &store.Far{Worker: id, Unwrap: signin.NewSecret(i.Unwrap)}})
	require.NoError(t, err)
	t.Cleanup(far.Close)
	return far
}

// Offer offers a signed program to paired workers, and returns the key that it is trusted by.
func Offer(t testing.TB, s *store.Store, version, text string) ed25519.PublicKey {
	t.Helper()
	private, public, err := program.NewKey()
	require.NoError(t, err)
	key, err := program.ReadKey(private)
	require.NoError(t, err)
	trusted, err := program.ReadTrusted(public)
	require.NoError(t, err)
	sum := sha256.Sum256([]byte(text))
	head, err := program.Sign(key, program.Manifest{Version: version, OS: runtime.GOOS, Arch: runtime.GOARCH, Size: int64(len(text)),
		SHA256: sum[:]})
	require.NoError(t, err)
	_, err = s.OfferProgram(t.Context(), head, strings.NewReader(text))
	require.NoError(t, err)
	return trusted
}
