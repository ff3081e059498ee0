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
	"sync"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/ground/pairing"
	"unlatch/core/ground/program"
	"unlatch/core/ground/scram"
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
	if err == nil {
		err = connectFaster(shared.URL)
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

// connectFaster has the database keep its password hashed once, and not scram.Rounds times. Tests connect some thousand times, and the race
// detector makes hashing ten times as slow.
func connectFaster(at string) error {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, at)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, fmt.Sprintf("ALTER ROLE unlatch PASSWORD '%s'", scram.Verifier(conn.Config().Password, 1)))
	return err
}

// Dir makes a scratch folder that the database's user can reach.
func Dir() (string, error) {
	dir, err := os.MkdirTemp("", "unlatch-test-*")
	if err != nil {
		return "", err
	}
	return dir, os.Chmod(dir, 0o755)
}

// pattern makes a database with empty tables, once for all tests of a package, and returns its name.
var pattern = sync.OnceValues(func() (name string, err error) {
	name = "pattern"
	at, err := create(name, "template1")
	if err != nil {
		return "", err
	}
	s, err := store.OpenWith(context.Background(), store.Options{URL: at, AsIs: true})
	if err != nil {
		return "", err
	}
	defer s.Close() // nobody may be connected to a database that is copied
	return name, s.Migrate(context.Background())
})

// create makes a database as a copy of another and returns its address.
func create(name, as string) (string, error) {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, shared.URL)
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "CREATE DATABASE "+name+" TEMPLATE "+as)
	return strings.TrimSuffix(shared.URL, "unlatch") + name, err
}

// URL makes a database with empty tables and returns its address.
func URL(t testing.TB) string {
	t.Helper()
	from, err := pattern()
	require.NoError(t, err)
	at, err := create(fmt.Sprintf("t%d", count.Add(1)), from)
	require.NoError(t, err)
	return at
}

// EmptyURL makes a database without any tables and returns its address.
func EmptyURL(t testing.TB) string {
	t.Helper()
	at, err := create(fmt.Sprintf("t%d", count.Add(1)), "template1")
	require.NoError(t, err)
	return at
}

// Open makes a database and opens a store on it.
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
