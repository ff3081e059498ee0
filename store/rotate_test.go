package store_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/telling"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A safe is a store with one of everything that is encrypted in it.
type safe struct {
	*store.Store
	t                               *testing.T
	url, key                        string
	signIn, rule, feed, pack, relay uuid.UUID
	person                          act.Person
	feedToken, ceremony             string
	worker                          uuid.UUID
	password                        string // of the worker's role
}

func newSafe(t *testing.T) *safe {
	t.Helper()
	x := &safe{t: t, url: storetest.URL(t), key: filepath.Join(t.TempDir(), "key"), rule: uuid.New(), pack: uuid.New(), ceremony: "token"}
	x.Store = x.open()
	site, err := x.Sites.Create(ctx, "Tarn Ferry", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	x.person, err = x.People.CreateFirst(ctx, "Owner Olive", "x")
	require.NoError(t, err)
	x.signIn, err = x.SignIns.Add(ctx, signin.New{User: "viewer", Secret: signin.NewSecret("oak-door-52")})
	require.NoError(t, err)
	require.NoError(t, x.Tellings.Put(ctx, act.PutTellRule{ID: x.rule, Site: site.ID, Rule: telling.Listener{Name: "Desk"},
		Secret: signin.NewSecret("ash-gate-7")}))
	require.NoError(t, x.Handovers.Begin(ctx, x.person, act.MakeHandover{Site: site.ID, ID: x.pack,
		Passphrase: signin.NewSecret("elm-lock-31")}))
	x.feed = storetest.Target(t, x.Store, site.ID, act.TargetForm{Name: "Wall", Kind: "feed"})
	require.NoError(t, x.Targets.OpenFeed(ctx, site.ID, x.feed))
	x.feedToken, err = x.Targets.FeedToken(ctx, x.feed)
	require.NoError(t, err)
	factor := uuid.New()
	_, err = x.Pool.Exec(ctx, "INSERT INTO factors (id, person_id, kind, name, secret) VALUES ($1, $2, 'passkey', 'Key', '\\x00')", factor,
		x.person.ID)
	require.NoError(t, err)
	require.NoError(t, x.UsePasskey(ctx, factor, "larch-pin-8"))
	require.NoError(t, x.BeginCeremony(ctx, x.ceremony, store.Ceremony{Purpose: "add", Person: x.person.ID, State: "yew-bolt-4",
		Until: time.Now().Add(time.Hour)}))
	x.relay = uuid.New()
	device, err := x.Devices.Sight(ctx, site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(), Kind: sighting.Camera,
		Addr: netip.MustParseAddr("192.0.2.7"), Endpoint: "urn:1"})
	require.NoError(t, err)
	_, err = x.Acts().Keep(ctx, x.person, act.About{Site: site.ID}, act.PutRelay{ID: x.relay, Site: site.ID, Device: device, User: "desk",
		RelayForm: act.RelayForm{Role: "main", Path: "a/main", For: "Desk", Push: &act.PushForm{To: "rtmps://ingest.example/live"}},
		Secret:    signin.NewSecret("fir-hasp-9"), Key: signin.NewSecret("elm-key-3")})
	require.NoError(t, err)
	x.worker = uuid.MustParse(storetest.Pair(t, x.Store, false, site.ID).Worker)
	_, x.password, err = x.Paired.Login(ctx, x.worker)
	require.NoError(t, err)
	return x
}

func (x *safe) open() *store.Store {
	x.t.Helper()
	s, err := store.Open(ctx, x.url, x.key, slog.New(slog.DiscardHandler))
	require.NoError(x.t, err)
	x.t.Cleanup(s.Close)
	return s
}

// opens makes sure that a store reads everything.
func (x *safe) opens(s *store.Store) {
	x.t.Helper()
	in, err := s.SignIns.Decrypt(ctx, x.signIn)
	if assert.NoError(x.t, err) {
		assert.Equal(x.t, "oak-door-52", in.Secret.Reveal())
	}
	secret, err := s.Tellings.Secret(ctx, x.rule)
	if assert.NoError(x.t, err) {
		assert.Equal(x.t, "ash-gate-7", secret.Reveal())
	}
	secret, err = s.Handovers.Passphrase(ctx, x.pack)
	if assert.NoError(x.t, err) {
		assert.Equal(x.t, "elm-lock-31", secret.Reveal())
	}
	token, err := s.Targets.FeedToken(ctx, x.feed)
	assert.NoError(x.t, err)
	assert.Equal(x.t, x.feedToken, token)
	factors, err := s.Factors(ctx, x.person.ID)
	if assert.NoError(x.t, err) && assert.Len(x.t, factors, 1) {
		assert.Equal(x.t, "larch-pin-8", factors[0].Secret)
	}
	secret, err = s.Relays.Secret(ctx, x.relay)
	if assert.NoError(x.t, err) {
		assert.Equal(x.t, "fir-hasp-9", secret.Reveal())
	}
	if secret, err = s.Relays.Key(ctx, x.relay); assert.NoError(x.t, err) {
		assert.Equal(x.t, "elm-key-3", secret.Reveal())
	}
	_, password, err := s.Paired.Login(ctx, x.worker)
	assert.NoError(x.t, err)
	assert.Equal(x.t, x.password, password)
	c, err := s.Ceremony(ctx, x.ceremony, "add", x.person.ID)
	assert.NoError(x.t, err)
	assert.Equal(x.t, "yew-bolt-4", c.State)
}

// quick waits less for late writes.
var quick = store.Rotation{Settle: 20 * time.Millisecond}

// Everything that is encrypted is encrypted with the new key, also by processes that run meanwhile; the old one opens nothing any more.
func TestTheKeyIsRotatedWhileOthersWork(t *testing.T) {
	t.Parallel()
	x := newSafe(t)
	old, err := os.ReadFile(x.key)
	require.NoError(t, err)
	other := x.open()
	working, stop := context.WithCancel(ctx)
	added := make(chan []uuid.UUID)
	go func() {
		var ids []uuid.UUID
		for i := 0; working.Err() == nil; i++ {
			id, err := other.SignIns.Add(ctx, signin.New{User: "u", Secret: signin.NewSecret(fmt.Sprint("beech-", i))})
			assert.NoError(t, err)
			ids = append(ids, id)
			in, err := other.SignIns.Decrypt(ctx, id)
			if assert.NoError(t, err) {
				assert.Equal(t, fmt.Sprint("beech-", i), in.Secret.Reveal())
			}
			time.Sleep(2 * time.Millisecond)
		}
		added <- ids
	}()
	time.Sleep(50 * time.Millisecond)
	done, err := x.RotateKey(ctx, quick)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, done, 7)
	stop()
	ids := <-added
	now, err := os.ReadFile(x.key)
	require.NoError(t, err)
	assert.Len(t, now, len(old))
	assert.NotEqual(t, old, now)
	x.opens(x.Store)
	x.opens(other)
	fresh := x.open()
	x.opens(fresh)
	for _, id := range ids {
		_, err := fresh.SignIns.Decrypt(ctx, id)
		assert.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(x.key+".old", old, 0o600))
	_, err = store.Open(ctx, x.url, x.key+".old", slog.New(slog.DiscardHandler))
	assert.ErrorAs(t, err, new(*store.KeyError))
	lines, err := x.Record.List(ctx, store.LineFilter{Act: "rotate-key", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, lines, 1)
}

// Wherever the process dies, everything is still read, and the next call goes on to the end.
func TestARotationThatDiesGoesOn(t *testing.T) {
	t.Parallel()
	x := newSafe(t)
	first, err := os.ReadFile(x.key)
	require.NoError(t, err)
	died := errors.New("killed")
	deaths := 0
	for steps := 1; ; steps++ {
		r, left := quick, steps
		r.Step = func() {
			if left--; left == 0 {
				panic(died)
			}
		}
		alive := func() (whole bool) {
			s := x.open()
			defer func() {
				if p := recover(); p != nil {
					require.Equal(t, died, p)
					deaths++
				}
			}()
			_, err := s.RotateKey(ctx, r)
			require.NoError(t, err)
			return true
		}
		whole := alive()
		x.opens(x.Store)
		x.opens(x.open())
		if whole {
			break
		}
		require.Less(t, steps, 40)
	}
	assert.Greater(t, deaths, 3)
	last, err := os.ReadFile(x.key)
	require.NoError(t, err)
	assert.Len(t, last, len(first))
	assert.NotEqual(t, first, last)
	var rows int
	require.NoError(t, x.Pool.QueryRow(ctx, "SELECT count(*) FROM settings WHERE name = 'key_rotation'").Scan(&rows))
	assert.Zero(t, rows)
}

// A copy of a prepared key file opens what is encrypted before the rotation and after it.
func TestACopyOfAPreparedKeyFileServesThroughout(t *testing.T) {
	t.Parallel()
	x := newSafe(t)
	require.NoError(t, store.PrepareKey(x.key))
	require.NoError(t, store.PrepareKey(x.key), "once more changes nothing")
	raw, err := os.ReadFile(x.key)
	require.NoError(t, err)
	copied := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(copied, raw, 0o600))
	elsewhere, err := store.Open(ctx, x.url, copied, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer elsewhere.Close()
	x.opens(elsewhere)
	_, err = x.RotateKey(ctx, quick)
	require.NoError(t, err)
	x.opens(elsewhere)
	x.opens(x.Store)
	now, err := os.ReadFile(x.key)
	require.NoError(t, err)
	assert.Equal(t, raw[32:], now, "the prepared key is the one that is used")
}

// Whatever the store encrypts is rotated: each place that encrypts is counted.
func TestEveryEncryptedColumnIsRotated(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	calls := map[string]int{}
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		if n := len(regexp.MustCompile(`cipher\.Encrypt\(`).FindAll(raw, -1)); n > 0 {
			calls[name] = n
		}
	}
	assert.Equal(t, map[string]int{"datakeys.go": 3, "far.go": 1, "tellings.go": 1, "handovers.go": 1, "seen.go": 1, "factors.go": 3,
		"store.go": 1,
		"pass.go":  1, "rotate.go": 2}, calls, "a new column belongs into the list in rotate.go, and into newSafe above")
}

// What does not open with either key stops the rotation, and the old key stays.
func TestARotationThatCannotReadStops(t *testing.T) {
	t.Parallel()
	x := newSafe(t)
	_, err := x.Pool.Exec(ctx, "UPDATE data_keys SET sealed = '\\x00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff00112233'")
	require.NoError(t, err)
	_, err = x.RotateKey(ctx, quick)
	assert.ErrorContains(t, err, "a value in data_keys")
	raw, err := os.ReadFile(x.key)
	require.NoError(t, err)
	assert.Len(t, raw, 64, "both keys are kept")
	secret, err := x.Tellings.Secret(ctx, x.rule)
	require.NoError(t, err)
	assert.Equal(t, "ash-gate-7", secret.Reveal())
}
