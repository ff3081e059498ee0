package server

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/stream/camera"
	"unlatch/store"
	"unlatch/store/storetest"
)

// What is known of groups is told with what is wrong about them together; a plan for them takes nobody else's group, and bad ones
// are turned down with the reason and set nothing.
func TestGroupsOfASite(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 3)
	site := "/api/sites/" + x.site.ID.String()
	group := func(device uuid.UUID, addr string) {
		says := camera.GroupSetting{Addr: netip.MustParseAddr(addr), Port: 50000, TTL: 4, Auto: true}
		require.NoError(t, s.Devices.Record(t.Context(), &store.Device{ID: device, Site: x.site.ID}, nil, store.Finding{Subject: "p1",
			Body: evidence.Multicast{Role: "main", Did: evidence.CastMeasure, Says: says}}))
	}
	for i, id := range x.ids {
		x.provenAt(t, id, []string{"192.0.2.1", "192.0.2.2", "192.0.2.3"}[i])
	}
	group(x.ids[0], "239.1.1.1")
	group(x.ids[1], "239.1.1.1")
	group(x.ids[2], "239.255.0.1")
	rows := get[[]castView](p, "GET", site+"/multicast", nil)
	require.Len(t, rows, 3)
	causes := map[uuid.UUID]int{}
	for _, r := range rows {
		assert.True(t, r.Known)
		for _, f := range r.Findings {
			assert.Equal(t, "group_clash", string(f.Cause))
			causes[r.Device]++
		}
	}
	assert.Equal(t, map[uuid.UUID]int{x.ids[0]: 1, x.ids[1]: 1}, causes)

	streams := []map[string]any{{"device": x.ids[0], "role": "main"}, {"device": x.ids[1], "role": "main"}}
	plan := get[groupPlanView](p, "POST", site+"/group-plans", map[string]any{"streams": streams})
	assert.Nil(t, plan.Run, "nothing is set by looking")
	var new []string
	for _, l := range plan.Lines {
		new = append(new, l.New)
	}
	assert.ElementsMatch(t, []string{"239.255.0.2:50000, TTL 4, always on", "239.255.0.3:50000, TTL 4, always on"}, new,
		"the third's group is taken")
	for cause, body := range map[string]map[string]any{
		"bad_pool":       {"streams": streams, "pool": "all of them"},
		"no_group_plan":  {"streams": streams, "pool": "192.0.2.0/24"},
		"unknown_stream": {"streams": []map[string]any{{"device": x.ids[0], "role": "third"}}},
	} {
		body["send"] = true
		p.problem(cause, "POST", site+"/group-plans", body)
	}
	p.problem("no_group_plan", "POST", site+"/group-plans", map[string]any{"streams": streams, "port": 50001, "send": true})
	never := true
	plan = get[groupPlanView](p, "POST", site+"/group-plans", map[string]any{"streams": streams, "always": !never, "send": true})
	require.NotNil(t, plan.Run)
	assert.Equal(t, "multicast", plan.Run.Kind)

	fresh := x.sight(t, "urn:fresh", "192.0.2.9")
	for path, body := range map[string]map[string]any{
		"/marks":     {"devices": []uuid.UUID{fresh}, "how": "nudge"},
		"/multicast": {"streams": []castStream{{fresh, "main"}}, "action": "measure"},
	} {
		p.problem("not_signed_in", "POST", site+path, body)
	}
	run := get[runView](p, "POST", site+"/marks", map[string]any{"devices": x.ids[:2], "how": "label", "text": "gate 4"})
	assert.Equal(t, []string{"mark", "Draw a label on 2 cameras"}, []string{run.Kind, run.Title})
	status, _, _ := p.do("POST", site+"/marks", map[string]any{"devices": x.ids[:2], "how": "shout"})
	assert.Equal(t, 422, status)
	// Exactly the streams that were chosen: one of each of two cameras, and one of them said twice.
	run = get[runView](p, "POST", site+"/multicast", map[string]any{"action": "stop",
		"streams": []castStream{{x.ids[0], "main"}, {x.ids[1], "sub"}, {x.ids[0], "main"}}})
	assert.Equal(t, "Stop multicast of 2 cameras", run.Title)
	acts := get[[]struct{ Act, After string }](p, "GET", "/api/audit", nil)
	var stopped []string
	for _, a := range acts {
		stopped = append(stopped, a.Act+" "+a.After)
	}
	assert.Contains(t, stopped, "cast-devices stop")
	assert.Contains(t, stopped, "mark-devices label gate 4")
	assert.Contains(t, strings.Join(stopped, "; "), "set-groups ")
}
