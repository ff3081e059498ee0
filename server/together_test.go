package server

import (
	"bufio"
	"context"
	"encoding/json"
	"maps"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/store/storetest"
)

// listen opens a person's page of a site, and hands on what it is told by event.
func listen(t *testing.T, p *page, site uuid.UUID) (told chan [2]string, leave func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, "GET", p.url+"/api/sites/"+site.String()+"/events", nil)
	require.NoError(t, err)
	res, err := p.client.Do(req)
	require.NoError(t, err)
	t.Cleanup(func() { res.Body.Close() })
	told = make(chan [2]string, 100)
	go func() {
		event := ""
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
			if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				event = name
			}
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				told <- [2]string{event, data}
			}
		}
	}()
	return told, cancel
}

// next waits for the next event of a name.
func next(t *testing.T, told chan [2]string, event string) string {
	t.Helper()
	for late := time.After(20 * time.Second); ; {
		select {
		case x := <-told:
			if x[0] == event {
				return x[1]
			}
		case <-late:
			t.Fatalf("no event %s", event)
		}
	}
}

// present waits until a page is told that exactly these are there.
func present(t *testing.T, told chan [2]string, want ...presentView) {
	t.Helper()
	for {
		var got []presentView
		require.NoError(t, json.Unmarshal([]byte(next(t, told, here)), &got))
		if assert.ObjectsAreEqual(append([]presentView{}, want...), got) {
			return
		}
	}
}

// Who looks at a site sees who else does and which camera they have open, until they go; people of other sites see none of it.
func TestWhoElseIsHere(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	tess := p.another()
	tess.signIn(act.Person{ID: x.member})
	elsewhere, _ := listen(t, p, x.other.id)
	mine, _ := listen(t, p, x.own.id)
	present(t, mine)
	hers, leave := listen(t, tess, x.own.id)
	name := next(t, hers, "page")
	present(t, mine, presentView{"Technician Tess", []uuid.UUID{}})
	present(t, hers, presentView{"keeper", []uuid.UUID{}})
	say := func(as *page, body fields) int {
		status, _, _ := as.do("PUT", "/api/sites/"+x.own.id.String()+"/here", body)
		return status
	}
	require.Equal(t, 204, say(tess, fields{"page": name, "device": x.own.camera}))
	present(t, mine, presentView{"Technician Tess", []uuid.UUID{x.own.camera}})
	require.Equal(t, 204, say(p, fields{"page": name})) // not the keeper's page: nothing changes
	require.Equal(t, 404, say(tess, fields{"page": name, "device": x.other.camera}), "another site's camera")
	leave()
	present(t, mine)
	for {
		select {
		case told := <-elsewhere:
			assert.NotContains(t, told[1], "Tess")
			continue
		default:
		}
		break
	}
}

// Of two who change one plan, the second is told who was before, when, and to what, and can keep either.
func TestTwoWhoChangeOnePlan(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	tess := p.another()
	tess.signIn(act.Person{ID: x.member})
	path := "/api/sites/" + x.own.id.String() + "/plans"
	was := get[[]planView](p, "GET", path, nil)
	require.Len(t, was, 1)
	put := func(as *page, plan string, saw planText) (int, string) {
		status, raw, _ := as.do("PUT", path, fields{"owner": was[0].Owner, "name": was[0].Name, "plan": planText{"main": plan}, "was": saw})
		return status, raw
	}
	status, raw := put(tess, "5fps", was[0].Plan)
	require.Equal(t, 200, status, raw)
	status, raw = put(p, "12fps", was[0].Plan)
	require.Equal(t, http.StatusConflict, status, raw)
	var told Problem
	require.NoError(t, json.Unmarshal([]byte(raw), &told))
	require.Equal(t, "changed_meanwhile", told.Cause)
	assert.Equal(t, "Technician Tess", told.Changed.By)
	assert.WithinDuration(t, time.Now(), told.Changed.At, time.Minute)
	assert.Equal(t, map[string]string{"main": "5fps"}, told.Changed.Now)
	assert.Equal(t, planText{"main": "5fps"}, get[[]planView](p, "GET", path, nil)[0].Plan, "nothing was overwritten")
	status, raw = put(p, "12fps", told.Changed.Now)
	require.Equal(t, 200, status, raw)
	status, raw = put(tess, "12fps", planText{"main": "5fps"})
	assert.Equal(t, 200, status, "who wants what is there already contradicts nobody: %s", raw)
}

// So are two who change a name, the ranges of a site, or a target.
func TestTwoWhoChangeOneThing(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	eve := p.another()
	eve.signIn(act.Person{ID: addPerson(t, s, "Engineer Eve", act.Engineer, x.own.id)})
	site := "/api/sites/" + x.own.id.String()
	template := func(text string) fields { return fields{"text": text} }
	for what, c := range map[string]struct {
		method, path     string
		was, hers, other fields // as it was seen, what Eve makes of it, and what the keeper wants
		now              map[string]string
	}{
		"a name": {"PATCH", "/api/devices/" + x.own.camera.String(), fields{"name": ""}, fields{"name": "Footbridge"},
			fields{"name": "Coal stage"}, map[string]string{"name": "Footbridge"}},
		"a site": {"PUT", site, fields{"name": "Depot", "ranges": []string{"192.0.2.0/24"}},
			fields{"name": "Depot", "ranges": []string{"192.0.2.0/25"}, "link_mbps": 40}, fields{"name": "Yard", "ranges": []string{"192.0.2.0/24"}},
			map[string]string{"name": "Depot", "ranges": "192.0.2.0/25", "link": "40 Mbit/s"}},
		"a target": {"PUT", site + "/targets/" + x.own.list.String(), fields{"name": "List", "settings": template("x")},
			fields{"name": "List", "kind": "template", "settings": template("{url}")},
			fields{"name": "Desk list", "kind": "template", "settings": template("x")}, map[string]string{"name": "List", "text": "{url}"}},
	} {
		wanting := func(body, was fields) fields {
			out, seen := maps.Clone(body), maps.Clone(was)
			delete(seen, "kind")
			if out["was"] = any(seen); c.method == "PATCH" {
				out["was"] = was["name"]
			}
			return out
		}
		status, raw, _ := eve.do(c.method, c.path, wanting(c.hers, c.was))
		require.Less(t, status, 300, "%s: %s", what, raw)
		told := p.problem("changed_meanwhile", c.method, c.path, wanting(c.other, c.was))
		require.NotNil(t, told.Changed, what)
		assert.Equal(t, "Engineer Eve", told.Changed.By, what)
		assert.Equal(t, c.now, told.Changed.Now, what)
		status, raw, _ = eve.do(c.method, c.path, wanting(c.hers, c.was))
		assert.Less(t, status, 300, "%s: who wants what is there already contradicts nobody: %s", what, raw)
		status, raw, _ = p.do(c.method, c.path, wanting(c.other, c.hers))
		assert.Less(t, status, 300, "%s: who has seen the other's keeps the own: %s", what, raw)
	}
}

// A sweep that is under way is joined, and what somebody else is opening is not opened twice.
func TestWorkThatIsUnderWayIsJoined(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	tess := p.another()
	tess.signIn(act.Person{ID: x.member})
	site := "/api/sites/" + x.own.id.String()
	first := get[begunView](p, "POST", site+"/sweeps", fields{})
	second := get[begunView](tess, "POST", site+"/sweeps", fields{})
	assert.Equal(t, first.ID, second.ID)
	assert.Equal(t, "keeper", second.By)
	p.do("POST", "/api/runs/"+first.ID.String()+"/stop", nil)
	third := get[begunView](tess, "POST", site+"/sweeps", fields{})
	assert.NotEqual(t, first.ID, third.ID, "one that was stopped is not joined")

	get[begunView](p, "POST", site+"/open", fields{"devices": []uuid.UUID{x.own.camera}})
	both := get[begunView](tess, "POST", site+"/open", fields{"devices": []uuid.UUID{x.own.camera, x.own.fresh}})
	require.Len(t, both.Left, 1)
	assert.Equal(t, "being_opened", both.Left[0].Cause)
	assert.Contains(t, both.Left[0].Reason, "keeper has begun")
	tess.problem("being_opened", "POST", site+"/open", fields{"devices": []uuid.UUID{x.own.camera}})
	get[begunView](p, "POST", site+"/open", fields{"devices": []uuid.UUID{x.own.camera}}) // one's own next wish waits for the last
}
