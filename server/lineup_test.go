package server

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/sighting"
	"unlatch/store"
	"unlatch/store/storetest"
)

// shed is a site with cameras at 192.0.2.1 and up.
type shed struct {
	p    *page
	s    *store.Store
	site siteView
	ids  []uuid.UUID
}

func newShed(t *testing.T, p *page, s *store.Store, cameras int) *shed {
	x := &shed{p: p, s: s}
	_, raw, _ := p.do("POST", "/api/sites", map[string]any{"name": "Shed", "ranges": []string{"192.0.2.0/24"}})
	require.NoError(t, json.Unmarshal([]byte(raw), &x.site))
	for n := range cameras {
		x.ids = append(x.ids, x.sight(t, fmt.Sprintf("urn:%d", n), fmt.Sprintf("192.0.2.%d", n+1)))
	}
	return x
}

func (x *shed) sight(t *testing.T, endpoint, addr string) uuid.UUID {
	id, err := x.s.Devices.Sight(context.Background(), x.site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(),
		Addr: netip.MustParseAddr(addr), Endpoint: endpoint, Kind: sighting.Camera, Name: endpoint, Stray: !strings.HasPrefix(addr,
			"192.0.2.")})
	require.NoError(t, err)
	return id
}

// changesSeen is changesView as a page reads it.
type changesSeen struct {
	Version, Since string
	Devices        []deviceView
	Gone           []uuid.UUID
}

// changes asks what has changed, and returns the names that have with the version that follows.
func (x *shed) changes(since string) (v changesSeen, names string) {
	_, raw, _ := x.p.do("GET", "/api/sites/"+x.site.ID.String()+"/changes?since="+url.QueryEscape(since), nil)
	require.NoError(x.p.t, json.Unmarshal([]byte(raw), &v), raw)
	var list []string
	for _, d := range v.Devices {
		list = append(list, d.Name)
	}
	return v, strings.Join(list, " ")
}

// What has changed is told, and nothing else, whichever process has changed it.
func TestTheLineUpTellsWhatHasChanged(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	address := storetest.URL(t)
	p, s, _ := serve(t, address)
	p.setUp()
	x := newShed(t, p, s, 3)
	first, names := x.changes("")
	assert.Equal(t, "urn:0 urn:1 urn:2", names)
	assert.Empty(t, first.Since)
	next, names := x.changes(first.Version)
	assert.Equal(t, []string{"", first.Version, first.Version}, []string{names, next.Since, next.Version}, "nothing has changed")

	other, err := store.OpenWith(ctx, store.Options{URL: address, KeyFile: filepath.Join(t.TempDir(), "key"),
		Log: slog.New(slog.DiscardHandler), ForgetSignIns: true}) // it needs no sign-in
	require.NoError(t, err)
	t.Cleanup(other.Close)
	d, err := other.Devices.Get(ctx, x.ids[1])
	require.NoError(t, err)
	require.NoError(t, other.Devices.Record(ctx, d, nil, store.Finding{Body: evidence.Reached{Addr: netip.MustParseAddr("192.0.2.2")}}))
	next, names = x.changes(first.Version)
	assert.Equal(t, "urn:1", names)
	assert.Equal(t, first.Version, next.Since)

	// A second device at an address is told of both, and so is its going.
	twin := x.sight(t, "urn:twin", "192.0.2.3")
	next, names = x.changes(next.Version)
	assert.ElementsMatch(t, []string{"urn:2", "urn:twin"}, strings.Fields(names))
	assert.True(t, next.Devices[0].Conflict && next.Devices[1].Conflict, "%+v", next.Devices)
	_, err = s.Devices.Forget(ctx, x.site.ID, []uuid.UUID{twin})
	require.NoError(t, err)
	next, names = x.changes(next.Version)
	assert.Equal(t, "urn:2", names)
	assert.False(t, next.Devices[0].Conflict)
	assert.Equal(t, []uuid.UUID{twin}, next.Gone)

	// What a person wants of a device changes it, and another name for a recorder changes those that are wanted on it.
	require.NoError(t, s.Targets.Wish(ctx, act.InAnySlot(x.ids[2], x.ids[:1]...)))
	next, names = x.changes(next.Version)
	assert.Equal(t, "urn:0", names)
	err = s.Devices.Rename(ctx, x.ids[2], "Strongroom")
	require.NoError(t, err)
	next, names = x.changes(next.Version)
	assert.Equal(t, "urn:0 Strongroom", names)
	assert.Equal(t, "Strongroom", next.Devices[0].Placements[0].Name)

	// A version of another process, and one that never was, are answered with everything.
	for _, version := range []string{"other-1", "nonsense", next.Version + "9"} {
		v, _ := x.changes(version)
		assert.Len(t, v.Devices, 3, version)
		assert.Empty(t, v.Since, version)
	}
	status, _, _ := p.do("GET", "/api/sites/"+uuid.NewString()+"/changes", nil)
	assert.Equal(t, 404, status)
}

// A change that a transaction made which began before the last look and ended after it is not missed.
func TestASlowTransactionIsNotMissed(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 2)
	tx, err := s.Pool.Begin(ctx)
	require.NoError(t, err)
	defer tx.Rollback(ctx)
	_, err = tx.Exec(ctx, "WITH named AS (UPDATE devices SET name = 'Slow' WHERE id = $1) "+
		"UPDATE device_marks SET changed = pg_current_xact_id() WHERE device_id = $1", x.ids[0])
	require.NoError(t, err)
	err = s.Devices.Rename(ctx, x.ids[1], "Quick") // a later transaction that ends earlier
	require.NoError(t, err)
	before, names := x.changes("")
	assert.Equal(t, "urn:0 Quick", names)
	require.NoError(t, tx.Commit(ctx))
	_, names = x.changes(before.Version)
	assert.Equal(t, "Slow", names)
}

// A consent ends by itself, and the line-up says so though nothing was written.
func TestAConsentEndsByItself(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	var mu sync.Mutex
	now := time.Now()
	p, s, _ := serveWith(t, storetest.URL(t), Config{Now: func() time.Time { mu.Lock(); defer mu.Unlock(); return now }})
	p.setUp()
	x := newShed(t, p, s, 1)
	stray := x.sight(t, "urn:stray", "198.51.100.7")
	d, err := s.Devices.Get(ctx, stray)
	require.NoError(t, err)
	keeper, err := s.People.ByName(ctx, "keeper")
	require.NoError(t, err)
	require.NoError(t, s.Consents.Give(ctx, keeper.Person, d.ID, d.Addr, "it is ours"))
	v, _ := x.changes("")
	require.NotNil(t, v.Devices[1].Consent)
	_, err = s.Pool.Exec(ctx, "UPDATE consents SET until = now() - interval '1 second'") // its time has passed
	require.NoError(t, err)
	mu.Lock()
	now = now.Add(time.Hour)
	mu.Unlock()
	later, names := x.changes(v.Version)
	assert.Equal(t, "urn:stray", names)
	assert.Nil(t, later.Devices[0].Consent)
	assert.Equal(t, trouble.OutOfScope, later.Devices[0].Latches[1].Diagnosis.Cause)
}

// Versions are remembered only so far back: a page that has missed more departures than that gets everything.
func TestDeparturesAreRememberedSoFar(t *testing.T) {
	t.Parallel()
	s := &siteLineUp{devices: map[uuid.UUID]*lineUpRow{}}
	keep := store.Device{ID: uuid.New(), Addr: "192.0.2.1"}
	keep.Status = latch.Derive(nil, latch.Intent{})
	s.replace([]store.Device{keep})
	first := s.since("s", "").Version
	for range mostGone + 20 {
		d := store.Device{ID: uuid.New(), Addr: "192.0.2.2"}
		d.Status = latch.Derive(nil, latch.Intent{})
		s.replace([]store.Device{keep, d})
		s.replace([]store.Device{keep})
	}
	assert.LessOrEqual(t, len(s.gone), mostGone)
	assert.Empty(t, s.since("s", first).Since, "too long ago: everything")
	recent := s.since("s", fmt.Sprintf("s-%d", s.version-6))
	assert.NotEmpty(t, recent.Since)
	assert.Len(t, recent.Gone, 3)
}

// The event stream carries the changes themselves, from the version that a page has.
func TestTheEventStreamCarriesChanges(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 2)
	v, _ := x.changes("")
	err := s.Devices.Rename(context.Background(), x.ids[0], "Before the page came")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", p.url+"/api/sites/"+x.site.ID.String()+"/events?since="+v.Version, nil)
	require.NoError(t, err)
	res, err := p.client.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	next := func() (c changesSeen) {
		for lines.Scan() {
			if lines.Text() != "event: changes" {
				continue
			}
			require.True(t, lines.Scan())
			require.NoError(t, json.Unmarshal([]byte(strings.TrimPrefix(lines.Text(), "data: ")), &c))
			return c
		}
		t.Fatal("the stream ended")
		return c
	}
	first := next()
	require.Len(t, first.Devices, 1)
	assert.Equal(t, []string{v.Version, "Before the page came"}, []string{first.Since, first.Devices[0].Name})
	err = s.Devices.Rename(context.Background(), x.ids[1], "While it looks")
	require.NoError(t, err)
	second := next()
	require.Len(t, second.Devices, 1)
	assert.Equal(t, []string{first.Version, "While it looks"}, []string{second.Since, second.Devices[0].Name})
}

// The list of sites counts what each of them has by now, whoever asks beside it, and leaves out what is no more.
func TestTheListOfSitesIsAsOfNow(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	var sheds []*shed
	for n := range 2 * atOnce {
		sheds = append(sheds, newShed(t, p, s, n))
	}
	counted := func() []int {
		_, raw, _ := p.do("GET", "/api/sites", nil)
		var list []siteView
		require.NoError(t, json.Unmarshal([]byte(raw), &list), raw)
		by := map[uuid.UUID]int{}
		for _, v := range list {
			by[v.ID] = v.Cameras
		}
		var out []int
		for _, x := range sheds {
			n, there := by[x.site.ID]
			if !there {
				n = -1
			}
			out = append(out, n)
		}
		return out
	}
	assert.Equal(t, []int{0, 1, 2, 3, 4, 5, 6, 7}, counted())

	sheds[2].sight(t, "urn:new", "192.0.2.90")
	_, err := s.Devices.Forget(context.Background(), sheds[5].site.ID, sheds[5].ids[:2])
	require.NoError(t, err)
	require.NoError(t, s.Sites.Delete(context.Background(), sheds[3].site.ID))
	var beside sync.WaitGroup
	for _, x := range sheds[4:] {
		beside.Go(func() { p.do("GET", "/api/sites/"+x.site.ID.String()+"/changes", nil) })
	}
	assert.Equal(t, []int{0, 1, 3, -1, 4, 3, 6, 7}, counted())
	beside.Wait()
}
