package server

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/watchround"
	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/store"
	"unlatch/store/storetest"
)

// Drifts are told grouped by their cause with what can be done about them; what was put off says until when and by whom.
func TestDriftsAreListed(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	ctx := context.Background()
	site, err := s.Sites.Create(ctx, "Depot", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	path := "/api/sites/" + site.ID.String()
	at := time.Now().UTC().Add(-time.Hour)
	for i := range 4 {
		id := sightAt(t, s, site.ID, i)
		found := []drift.Drift{{Device: id, Title: "Camera", Cause: drift.Silent, Shared: "subnet 192.0.2.0/24"}}
		if i == 3 {
			found = []drift.Drift{{Device: id, Title: "Hall", Cause: drift.Settings, Fields: []baseline.FieldChange{{Field: baseline.Set,
				Subject: "main", Words: "Settings, main", Was: "a", Is: "b"}}}}
		}
		require.NoError(t, s.Drifts.Settle(ctx, store.FoundDrifts{Site: site.ID, Of: id, Drifts: found, After: at, At: at.Add(time.Minute)}))
	}
	v := get[driftsView](p, "GET", path+"/drifts", nil)
	require.Len(t, v.Findings, 2)
	assert.False(t, v.Agreed)
	first, second := v.Findings[0], v.Findings[1]
	assert.Equal(t, "3 cameras do not answer in 192.0.2.0/24", first.Headline)
	assert.Equal(t, []string{"urgent", "warning"}, []string{first.Severity, second.Severity})
	assert.Len(t, first.IDs, 3)
	assert.False(t, first.Acceptable)
	assert.Equal(t, drift.SetStreams, second.Repair)
	assert.True(t, second.Acceptable)

	get[any](p, "POST", path+"/drifts/put-off", fields{"drifts": first.IDs, "until": time.Now().Add(time.Hour)})
	v = get[driftsView](p, "GET", path+"/drifts", nil)
	require.NotNil(t, v.Findings[0].PutOff)
	assert.Equal(t, "keeper", v.Findings[0].PutOffBy)
	p.problem("bad_time", "POST", path+"/drifts/put-off", fields{"drifts": first.IDs, "until": time.Now().Add(-time.Hour)})
	p.problem("nothing_to_repair", "POST", path+"/drifts/repair?try=true", fields{"drifts": second.IDs})
	p.problem("not_found", "POST", path+"/drifts/repair", fields{"drifts": []uuid.UUID{uuid.New()}})
	p.problem("not_acceptable", "POST", path+"/drifts/accept", fields{"drifts": first.IDs, "reason": "no"})
	p.problem("no_reason", "POST", path+"/drifts/accept", fields{"drifts": second.IDs, "reason": " "})
	p.problem("not_agreed", "PUT", path+"/rounds", fields{"on": true})
	p.problem("bad_rule", "PUT", path+"/tellings/"+uuid.NewString(), fields{"rule": fields{"name": "x", "way": "webhook", "to": "gopher://x",
		"from": "urgent"}})
	p.problem("bad_rule", "PUT", "/api/keeping", fields{"minutes": 4000})
	p.problem("not_watched", "POST", path+"/rounds/now", nil)
}

// A time line tells what nobody has looked at as that, and availability counts only what was looked at.
func TestTimeLine(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	ctx := context.Background()
	site, err := s.Sites.Create(ctx, "Depot", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	id := sightAt(t, s, site.ID, 1)
	now := time.Now().UTC()
	at := func(hours float64) time.Time { return now.Add(-time.Duration(hours * float64(time.Hour))) }
	require.NoError(t, s.Watched.Remember(ctx, site.ID, id, []watchround.SeenSpan{{State: watchround.Up, From: at(10), To: at(6)},
		{State: watchround.Down, From: at(4), To: at(3)}, {State: watchround.Up, From: at(2.9), To: at(0.1)}}))
	require.NoError(t, s.Watched.Measure(ctx, id, map[string]float64{"rate main": 25}, at(1)))
	require.NoError(t, s.Drifts.Settle(ctx, store.FoundDrifts{Site: site.ID, Of: id, At: at(4), Drifts: []drift.Drift{{Device: id,
		Title: "Clock",
		Cause: drift.Silent}}}))
	v := get[timelineView](p, "GET", "/api/sites/"+site.ID.String()+"/timeline?hours=12&thing="+id.String(), nil)
	var states []watchround.State
	for _, x := range v.Spans {
		states = append(states, x.State)
	}
	assert.Equal(t, []watchround.State{"not_looked", "up", "not_looked", "down", "up"}, states)
	require.NotNil(t, v.Up)
	assert.InDelta(t, 100*6.9/8, *v.Up, 1.5)
	assert.InDelta(t, 100*8/12.0, v.Looked, 1)
	assert.Len(t, v.Measures["rate main"], 1)
	require.Len(t, v.Moments, 1)
	assert.Equal(t, "Clock does not answer", v.Moments[0].Text)
	list := get[[]availabilityView](p, "GET", "/api/sites/"+site.ID.String()+"/availability", nil)
	if now.Day() > 1 { // else a part of it lies in another month
		require.Len(t, list, 1)
		assert.InDelta(t, *v.Up, *list[0].Up, 1.5)
	}
	p.problem("not_valid", "GET", "/api/sites/"+site.ID.String()+"/availability?month=lately", nil)
}

// sightAt has a camera heard at the nth address.
func sightAt(t *testing.T, s *store.Store, site uuid.UUID, n int) uuid.UUID {
	t.Helper()
	addr := netip.AddrFrom4([4]byte{192, 0, 2, byte(10 + n)})
	id, err := s.Devices.Sight(context.Background(), site, nil, sighting.Sighting{Method: sighting.WSDiscovery, At: time.Now(),
		Kind: sighting.Camera, Addr: addr, Endpoint: "urn:" + addr.String()})
	require.NoError(t, err)
	return id
}
