package store_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/store"
	"unlatch/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

func sight(addr, endpoint string) sighting.Sighting {
	return sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now().UTC(), Addr: netip.MustParseAddr(addr), Endpoint: endpoint,
		Kind: sighting.Camera}
}

func TestOneDeviceAcrossAnAddressChange(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "Tarn Ferry station", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	port := sighting.Sighting{Method: sighting.PortSweep, At: time.Now().UTC(), Addr: netip.MustParseAddr("192.0.2.7"),
		Kind: sighting.Camera, Ports: []sighting.Port{{Number: 554, Speaks: "rtsp"}}}
	a, err := s.Devices.Sight(ctx, site.ID, nil, port)
	require.NoError(t, err)
	b, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:1"))
	require.NoError(t, err)
	c, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.9", "urn:1"))
	require.NoError(t, err)
	assert.Equal(t, a, b)
	assert.Equal(t, a, c)
	other, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.9", "urn:2"))
	require.NoError(t, err)
	assert.NotEqual(t, a, other)

	all, err := s.Devices.List(ctx, site.ID)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "192.0.2.9", all[0].Status.Device.Addr.String())
	assert.Equal(t, latch.Open, all[0].Status.Latch(latch.Heard).State)
	assert.Equal(t, latch.Reachable, all[0].Status.At())
}

func TestEvidenceIsAppendOnly(t *testing.T) {
	t.Parallel()
	url := storetest.URL(t)
	s, err := store.Open(ctx, url, filepath.Join(t.TempDir(), "key"), nil)
	require.NoError(t, err)
	defer s.Close()
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	id, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:1"))
	require.NoError(t, err)
	d, err := s.Devices.Get(ctx, id)
	require.NoError(t, err)
	require.NoError(t, s.Devices.Record(ctx, d, nil, store.Finding{Body: evidence.Reached{Addr: netip.MustParseAddr("192.0.2.7")},
		Exchange: "> hello"}))
	history, err := s.Devices.History(ctx, id, 10)
	require.NoError(t, err)
	require.Len(t, history, 2)
	assert.True(t, history[0].HasExchange)
	text, err := s.Devices.Exchange(ctx, history[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "> hello", text)
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "UPDATE evidence SET body = '{}'")
	assert.ErrorContains(t, err, "append-only")
}

func TestSignInsAreEncryptedAtRest(t *testing.T) {
	t.Parallel()
	url, key := storetest.URL(t), filepath.Join(t.TempDir(), "key")
	s, err := store.Open(ctx, url, key, nil)
	require.NoError(t, err)
	id, err := s.SignIns.Add(ctx, signin.New{Label: "Fitter", User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	info, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var raw []byte
	require.NoError(t, conn.QueryRow(ctx, "SELECT sealed FROM sign_ins").Scan(&raw))
	assert.False(t, bytes.Contains(raw, []byte("brass")))
	in, err := s.SignIns.Decrypt(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "brass-lamp-41", in.Secret.Reveal())

	_, err = conn.Exec(ctx, "INSERT INTO sign_ins (id, label, user_name, sealed) VALUES ($1, 'moved', 'x', $2)", uuid.New(), raw)
	require.NoError(t, err)
	list, err := s.SignIns.List(ctx)
	require.NoError(t, err)
	_, err = s.SignIns.Decrypt(ctx, list[1].ID)
	assert.ErrorContains(t, err, "does not open", "a value moved to another entry is no use")
	s.Close()

	require.NoError(t, os.Chmod(key, 0o644))
	_, err = store.Open(ctx, url, key, nil)
	assert.ErrorContains(t, err, "chmod 600")
	require.NoError(t, os.WriteFile(key, []byte("short"), 0o600))
	require.NoError(t, os.Chmod(key, 0o600))
	_, err = store.Open(ctx, url, key, nil)
	assert.ErrorContains(t, err, "damaged")
}

// There is one first account. The names of a line in the record stay when what they name is gone, and the record is read page by page.
func TestTheRecordOutlivesWhatItNames(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	p, err := s.People.CreateFirst(ctx, "keeper", "hash")
	require.NoError(t, err)
	_, err = s.People.CreateFirst(ctx, "second", "hash")
	assert.ErrorIs(t, err, store.ErrTaken)
	site, err := s.Sites.Create(ctx, "Tarn Ferry", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	device, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:1"))
	require.NoError(t, err)
	for _, a := range []act.About{{Name: "open-latches", Site: site.ID}, {Name: "tune-devices", Site: site.ID},
		{Name: "forget-devices", Site: site.ID}} {
		require.NoError(t, s.Acts().Write(ctx, p, a, act.Line{Subject: "Clock", SiteName: "Tarn Ferry",
			Devices: []uuid.UUID{device}, DeviceName: "192.0.2.7", Before: "a", After: "b"}))
	}
	_, err = s.Devices.Forget(ctx, site.ID, []uuid.UUID{device})
	require.NoError(t, err)
	require.NoError(t, s.Sites.Delete(ctx, site.ID))
	lines, err := s.Record.List(ctx, store.LineFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, lines, 3)
	last := lines[2]
	assert.Equal(t, []string{"keeper", "opened latches of", "Clock", "Tarn Ferry", "192.0.2.7", "a", "b"},
		[]string{last.Person, last.Action, last.Subject, last.Site, last.Device, last.Before, last.After})
	older, err := s.Record.List(ctx, store.LineFilter{Site: site.ID, Before: lines[0].Number, Limit: 1})
	require.NoError(t, err)
	require.Len(t, older, 1)
	assert.Equal(t, lines[1].ID, older[0].ID)
}

// Many workers at once, and a restart in between, never spend more than the budget on one device.
func TestWorkersRacingKeepTheBudget(t *testing.T) {
	t.Parallel()
	url, key := storetest.URL(t), filepath.Join(t.TempDir(), "key")
	s, err := store.Open(ctx, url, key, nil)
	require.NoError(t, err)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	device, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:1"))
	require.NoError(t, err)
	in, err := s.SignIns.Add(ctx, signin.New{Label: "a", User: "a", Secret: signin.NewSecret("a")})
	require.NoError(t, err)
	var mu sync.Mutex
	allowed, held := 0, 0
	race := func(s *store.Store, n int) {
		var wg sync.WaitGroup
		for range n {
			wg.Go(func() {
				var try uuid.UUID
				var err error
				var h *signin.HeldBackError
				for {
					if try, err = s.SignIns.BeginTry(ctx, store.Try{Device: device, SignIn: in, Purpose: signin.DeviceService}); !errors.As(err,
						&h) || !h.Spacing {
						break
					}
					later(t, s, time.Until(h.Until))
				}
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					allowed++
					assert.NoError(t, s.SignIns.EndTry(ctx, try, signin.Refused, 0))
					return
				}
				assert.ErrorAs(t, err, &h)
				held++
			})
		}
		wg.Wait()
	}
	race(s, 2)
	s.Close()
	s, err = store.Open(ctx, url, key, nil)
	require.NoError(t, err)
	defer s.Close()
	race(s, 10)
	assert.Equal(t, signin.Budget, allowed)
	assert.Equal(t, 12-signin.Budget, held)
	left, err := s.SignIns.Candidates(ctx, device, site.ID, store.Known{Words: "", Kind: ""}, signin.DeviceService, false)
	require.NoError(t, err)
	assert.Empty(t, left, "a sign-in that was refused is not tried again")
}

// moving keeps two calls of later apart: each changes many rows, and two would wait for each other's without end.
var moving sync.Mutex

// later lets time pass for the tries of a store, whose clock is the database's: what was done is moved back instead.
func later(t *testing.T, s *store.Store, d time.Duration) {
	moving.Lock()
	defer moving.Unlock()
	_, err := s.Pool.Exec(ctx, "UPDATE tries SET at = at - make_interval(secs => $1), until = until - make_interval(secs => $1)",
		max(d, 0).Seconds()+0.001) // never into the future
	assert.NoError(t, err)
}

// What a device says of a lock holds for every key, purpose and worker, and is no refusal of the key that met it.
func TestALockedDeviceIsLeftAlone(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	device, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:1"))
	require.NoError(t, err)
	one, err := s.SignIns.Add(ctx, signin.New{Label: "a", User: "a", Secret: signin.NewSecret("a")})
	require.NoError(t, err)
	two, err := s.SignIns.Add(ctx, signin.New{Label: "b", User: "b", Secret: signin.NewSecret("b")})
	require.NoError(t, err)
	try, err := s.SignIns.BeginTry(ctx, store.Try{Device: device, SignIn: one, Purpose: signin.DeviceService})
	require.NoError(t, err)
	require.NoError(t, s.SignIns.EndTry(ctx, try, signin.Shut, time.Second))
	for _, key := range []uuid.UUID{one, two} {
		var held *signin.HeldBackError
		_, err = s.SignIns.BeginTry(ctx, store.Try{Device: device, SignIn: key, Purpose: signin.Streams})
		require.ErrorAs(t, err, &held)
		assert.True(t, held.Locked)
	}
	later(t, s, time.Second)
	left, err := s.SignIns.Candidates(ctx, device, site.ID, store.Known{Words: "", Kind: ""}, signin.DeviceService, false)
	require.NoError(t, err)
	require.Len(t, left, 2)
	assert.Equal(t, signin.Shut, left[0].Last)
	_, err = s.SignIns.BeginTry(ctx, store.Try{Device: device, SignIn: one, Purpose: signin.DeviceService})
	assert.NoError(t, err)
}

// What opened one device is tried first on the next of its kind, and what its kind has refused comes last.
func TestDevicesOfAKindAreLearntFrom(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	one, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:1"))
	require.NoError(t, err)
	two, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.8", "urn:2"))
	require.NoError(t, err)
	ids := map[string]uuid.UUID{}
	for _, label := range []string{"a", "b", "c"} {
		ids[label], err = s.SignIns.Add(ctx, signin.New{Label: label, User: label, Secret: signin.NewSecret(label)})
		require.NoError(t, err)
	}
	for label, result := range map[string]signin.Result{"a": signin.Refused, "c": signin.Opened} {
		try, err := s.SignIns.BeginTry(ctx, store.Try{Device: one, SignIn: ids[label], Purpose: signin.DeviceService, Kind: "Brackwell B5"})
		if held := new(signin.HeldBackError); errors.As(err, &held) {
			later(t, s, time.Until(held.Until))
			try, err = s.SignIns.BeginTry(ctx, store.Try{Device: one, SignIn: ids[label], Purpose: signin.DeviceService, Kind: "Brackwell B5"})
		}
		require.NoError(t, err)
		require.NoError(t, s.SignIns.EndTry(ctx, try, result, 0))
	}
	order := func(kind string) (out string) {
		list, err := s.SignIns.Candidates(ctx, two, site.ID, store.Known{Words: kind, Kind: kind}, signin.DeviceService, false)
		require.NoError(t, err)
		for _, k := range list {
			out += k.Label
		}
		return out
	}
	assert.Equal(t, "cba", order("Brackwell B5"))
	assert.Equal(t, "cab", order("Corvane V4"), "of another kind, what opens more comes first")
}

// A sign-in for one device, or for streams, is tried nowhere else; what the device service refuses may still be the stream service's.
func TestPurposeAndDeviceOfASignIn(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	device, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:1"))
	require.NoError(t, err)
	other, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.8", "urn:2"))
	require.NoError(t, err)
	add := func(label string, terms signin.Terms) uuid.UUID {
		id, err := s.SignIns.Add(ctx, signin.New{Label: label, User: label, Secret: signin.NewSecret(label)})
		require.NoError(t, err)
		require.NoError(t, s.SignIns.SetTerms(ctx, id, label, terms))
		return id
	}
	all := add("all", signin.Terms{})
	add("stream", signin.Terms{Purpose: signin.Streams})
	add("own", signin.For("", device))
	gone := add("gone", signin.For("", device))
	labels := func(d uuid.UUID, p signin.Purpose) (out []string) {
		list, err := s.SignIns.Candidates(ctx, d, site.ID, store.Known{Words: "", Kind: ""}, p, false)
		require.NoError(t, err)
		for _, k := range list {
			out = append(out, k.Label)
		}
		return out
	}
	assert.Equal(t, []string{"own", "gone", "all"}, labels(device, signin.DeviceService))
	require.NoError(t, s.SignIns.SetTerms(ctx, gone, "gone", signin.Terms{Bound: true}))
	assert.Equal(t, []string{"own", "all"}, labels(device, signin.DeviceService), "what is bound to devices that are gone is tried nowhere")
	assert.Equal(t, []string{"all", "stream"}, labels(other, signin.Streams))
	try, err := s.SignIns.BeginTry(ctx, store.Try{Device: device, SignIn: all, Purpose: signin.DeviceService})
	require.NoError(t, err)
	require.NoError(t, s.SignIns.EndTry(ctx, try, signin.Refused, 0))
	assert.Equal(t, []string{"own"}, labels(device, signin.DeviceService))
	assert.Equal(t, []string{"own", "all", "stream"}, labels(device, signin.Streams))
}

func TestEventsArrive(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	listening, cancel := context.WithCancel(ctx)
	defer cancel()
	got := make(chan store.Event, 16)
	go s.Listen(listening, func(e store.Event) { got <- e }, func() {})
	require.Eventually(t, func() bool {
		_, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:1"))
		require.NoError(t, err)
		select {
		case e := <-got:
			return assert.Equal(t, site.ID, e.Site) && assert.Equal(t, "device", e.What)
		case <-time.After(50 * time.Millisecond):
			return false
		}
	}, 10*time.Second, time.Millisecond)
}

func TestRangesSurviveTheDatabase(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	want := address.MustParse("192.0.2.0/24", "198.51.100.7", "2001:db8::/64")
	site, err := s.Sites.Create(ctx, "Engine Works", want)
	require.NoError(t, err)
	back, err := s.Sites.Get(ctx, site.ID)
	require.NoError(t, err)
	assert.Equal(t, want.Strings(), back.Ranges.Strings())
	raw, err := json.Marshal(back.Ranges)
	require.NoError(t, err)
	assert.JSONEq(t, `["192.0.2.0/24","198.51.100.7","2001:db8::/64"]`, string(raw))
	_, err = s.Sites.Get(ctx, uuid.New())
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.ErrorIs(t, s.Sites.Delete(ctx, uuid.New()), store.ErrNotFound)
}

// The order in which sign-ins are tried is explained, and what is for another site or maker is never tried.
func TestCandidatesKeepToTheirScope(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "Viaduct", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	other, err := s.Sites.Create(ctx, "Works", address.MustParse("198.51.100.0/24"))
	require.NoError(t, err)
	device, err := s.Devices.Sight(ctx, site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery,
		Addr:     netip.MustParseAddr("192.0.2.7"),
		Endpoint: "urn:7", Name: "Corvane V4"})
	require.NoError(t, err)
	ids := map[string]uuid.UUID{}
	for _, k := range []struct {
		label string
		terms signin.Terms
	}{{"any", signin.Terms{}}, {"elsewhere", signin.Terms{Site: &other.ID}}, {"here", signin.Terms{Site: &site.ID}}, {"corvane",
		signin.Terms{Maker: "corvane", Factory: true}}, {"other maker", signin.Terms{Maker: "Lumenhythe"}}, {"second", signin.Terms{}}} {
		id, err := s.SignIns.Add(ctx, signin.New{Label: k.label, User: "fitter", Secret: signin.NewSecret("x")})
		require.NoError(t, err)
		require.NoError(t, s.SignIns.SetTerms(ctx, id, k.label, k.terms))
		ids[k.label] = id
	}
	order := func() (labels, why []string) {
		list, err := s.SignIns.Candidates(ctx, device, site.ID, store.Known{Words: "Corvane V4", Kind: "Corvane V4"},
			signin.DeviceService, false)
		require.NoError(t, err)
		for _, k := range list {
			labels, why = append(labels, k.Label), append(why, k.Turn.String())
		}
		return labels, why
	}
	labels, why := order()
	assert.Equal(t, []string{"corvane", "here", "any", "second"}, labels)
	assert.Equal(t, []string{"it is for corvane", "it is for this site", "its turn on the keyring", "its turn on the keyring"}, why)
	require.NoError(t, s.SignIns.Order(ctx, []uuid.UUID{ids["second"], ids["any"]}))
	try, err := s.SignIns.BeginTry(ctx, store.Try{Device: device, SignIn: ids["here"], Purpose: signin.DeviceService})
	require.NoError(t, err)
	require.NoError(t, s.SignIns.EndTry(ctx, try, signin.Opened, 0))
	labels, why = order()
	assert.Equal(t, []string{"here", "corvane", "second", "any"}, labels)
	assert.Equal(t, "it has opened this device before", why[0])
	list, err := s.SignIns.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, "second", list[0].Label, "the order of the person's own")
	unknown, err := s.SignIns.Candidates(ctx, device, site.ID, store.Known{Words: "", Kind: ""}, signin.DeviceService, false)
	require.NoError(t, err)
	for _, k := range unknown {
		assert.Empty(t, k.Maker, "what is for one maker is not tried on a device of which nothing is known")
	}
}

// A job that is cut off leaves a try whose end nobody has seen. It counts as wrong until the same sign-in has opened the device.
func TestATryThatWasCutOffIsSettledByOneThatOpens(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "x", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	device, err := s.Devices.Sight(ctx, site.ID, nil, sight("192.0.2.7", "urn:7"))
	require.NoError(t, err)
	begin := func(in uuid.UUID) (uuid.UUID, error) {
		for {
			try, err := s.SignIns.BeginTry(ctx, store.Try{Device: device, SignIn: in, Purpose: signin.DeviceService})
			var h *signin.HeldBackError
			if !errors.As(err, &h) || !h.Spacing {
				return try, err
			}
			later(t, s, time.Until(h.Until))
		}
	}
	wrong := func() int {
		n, err := s.SignIns.WrongTries(ctx, device)
		require.NoError(t, err)
		return n
	}
	right, err := s.SignIns.Add(ctx, signin.New{Label: "Right", User: "a", Secret: signin.NewSecret("b")})
	require.NoError(t, err)
	other, err := s.SignIns.Add(ctx, signin.New{Label: "Other", User: "c", Secret: signin.NewSecret("d")})
	require.NoError(t, err)
	_, err = begin(right)
	require.NoError(t, err)
	_, err = begin(other)
	require.NoError(t, err)
	assert.Equal(t, 2, wrong())
	try, err := begin(right)
	require.NoError(t, err)
	require.NoError(t, s.SignIns.EndTry(ctx, try, signin.Opened, 0))
	assert.Equal(t, 1, wrong(), "the other one may have been wrong")
}
