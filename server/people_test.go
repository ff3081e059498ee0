package server

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/stream/camera"
	"unlatch/store"
	"unlatch/store/storetest"
)

// as is another browser at the same server, in which a person of a role is signed in who is given some sites.
func (p *page) as(name string, role act.Role, sites ...uuid.UUID) *page {
	q := p.another()
	q.signIn(act.Person{ID: addPerson(p.t, p.store, name, role, sites...)})
	return q
}

// another is another browser, in which nobody is signed in.
func (p *page) another() *page {
	jar, err := cookiejar.New(nil)
	require.NoError(p.t, err)
	return &page{p.t, p.url, &http.Client{Jar: jar}, p.store}
}

// reading is one operation of the API's document that changes nothing, or one of the routes beside it.
type readingOp struct{ id, method, path, right string }

// readingsOfAPI lists everything that can be read, with IDs of a site filled in.
func readingsOfAPI(t *testing.T, d depotSite, record, still uuid.UUID) (out []readingOp) {
	t.Helper()
	raw, err := OpenAPI()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			ID    string `json:"operationId"`
			Right string `json:"x-right"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	for path, methods := range doc.Paths {
		for method, op := range methods {
			if op.Right != "" {
				out = append(out, readingOp{op.ID, strings.ToUpper(method), path, op.Right})
			}
		}
	}
	out = append(out, readingOp{"events", "GET", "/api/sites/{site}/events", "see"},
		readingOp{"live", "GET", "/api/devices/{device}/live", "look"},
		readingOp{"still", "GET", "/api/stills/{still}", "look"}, readingOp{"exchange", "GET", "/api/evidence/{record}/exchange", "inspect"},
		readingOp{"target-exchange", "GET", "/api/target-records/{record}/exchange", "inspect"},
		readingOp{"list-file", "GET", "/api/sites/{site}/targets/{target}/file", "see"},
		readingOp{"book-file", "GET", "/api/path-books/{book}/file", "see"},
		readingOp{"pack-file", "GET", "/api/sites/{site}/handover/versions/{version}/file", "look"},
		readingOp{"pack-zip", "GET", "/api/sites/{site}/handover/versions/{version}/zip", "see"},
		readingOp{"pack-changes", "GET", "/api/sites/{site}/handover/versions/{version}/changes/file", "see"},
		readingOp{"firm-mark", "GET", "/api/firm/mark", "see"})
	fill := strings.NewReplacer("{site}", d.id.String(), "{device}", d.camera.String(), "{target}", d.bridge.String(), "{run}", d.run.String(),
		"{record}", record.String(), "{still}", still.String(), "{plan}", d.plan.String(), "{book}", uuid.NewString(),
		"{baseline}", uuid.NewString(), "{rule}", uuid.NewString(), "{relay}", uuid.NewString(), "{worker}", uuid.NewString(),
		"{version}", d.version.String())
	for i := range out {
		out[i].path = fill.Replace(out[i].path)
		require.NotContains(t, out[i].path, "{")
	}
	return out
}

// anyRecord is a piece of evidence of a camera, and a still of it.
func anyRecord(t *testing.T, s *store.Store, camera uuid.UUID) (record, still uuid.UUID) {
	t.Helper()
	ctx := context.Background()
	require.NoError(t, s.SQL().QueryRowContext(ctx, "SELECT id FROM evidence WHERE device_id = $1 LIMIT 1", camera).Scan(&record))
	still = uuid.New()
	_, err := s.SQL().ExecContext(ctx, "INSERT INTO stills (id, device_id, jpeg) VALUES ($1, $2, 'x')", still, camera)
	require.NoError(t, err)
	return record, still
}

// A site that somebody is not given is not there: its name, its things and what happened on it are in no answer, whatever is asked.
func TestSitesNotGivenDoNotExist(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	get[any](p, "PATCH", "/api/devices/"+x.other.camera.String(), fields{"name": "Signal box stairs"})
	record, still := anyRecord(t, s, x.other.camera)
	tess := p.as("Engineer Enid", act.Engineer, x.own.id)
	named := 0
	for _, r := range readingsOfAPI(t, x.other, record, still) {
		ours := strings.Contains(r.path, x.other.id.String()) || strings.Contains(r.path, x.other.camera.String()) ||
			strings.Contains(r.path, record.String()) || strings.Contains(r.path, still.String())
		if r.right == string(act.Administer) {
			continue
		}
		status, raw, _ := tess.do(r.method, r.path, nil)
		if ours && r.method == "GET" {
			named++
			assert.Equal(t, http.StatusNotFound, status, "%s: %s", r.id, raw)
		}
		assert.NotContains(t, raw, "Signal box stairs", r.id)
		assert.NotContains(t, raw, "Elsewhere", r.id)
		assert.NotContains(t, raw, x.other.id.String(), r.id)
	}
	assert.Greater(t, named, 15)
	assert.Empty(t, get[[]foundView](tess, "GET", "/api/search?text=signal+stairs", nil), "nor is it found")
	assert.Len(t, get[[]foundView](p, "GET", "/api/search?text=signal+stairs", nil), 1)
	tell := func(id uuid.UUID, version string) {
		require.NoError(t, s.Devices.RecordAll(t.Context(), id, nil, store.Finding{Body: evidence.SignedIn{
			Info: camera.Info{Manufacturer: "Corvane", Model: "V4", Firmware: version}}}))
	}
	tell(x.own.camera, "4.1.2")
	tell(x.other.camera, "4.1.1")
	assert.Len(t, get[[]firmwareView](p, "GET", "/api/firmware", nil), 2)
	assert.Equal(t, []firmwareView{{Site: x.own.id, Maker: "Corvane", Model: "V4", Version: "4.1.2", Devices: 1}},
		get[[]firmwareView](tess, "GET", "/api/firmware", nil), "nor is its firmware counted")
	assert.Len(t, get[[]siteView](tess, "GET", "/api/sites", nil), 1)
	// Nor can anything be done there.
	before := digest(t, s)
	order, askings := x.askings(x.other)
	for _, op := range order {
		ask := askings[op]
		if !strings.Contains(ask.path, x.other.id.String()) && !strings.Contains(ask.path, x.other.camera.String()) {
			continue
		}
		status, raw, _ := tess.do(ask.method, ask.path, ask.body)
		assert.Equal(t, http.StatusNotFound, status, "%s: %s", op, raw)
		assert.NotContains(t, raw, "Elsewhere", op)
	}
	assert.Equal(t, before, digest(t, s))
}

// Every operation that reads is refused to whoever lacks its right, before anything that was sent is looked at. What a customer may read
// holds no address, no stream and no sign-in.
func TestWhatRolesMayRead(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	get[any](p, "PATCH", "/api/devices/"+x.own.camera.String(), fields{"name": "Platform clock"})
	record, still := anyRecord(t, s, x.own.camera)
	for _, role := range act.Roles {
		who := p.as("Some "+string(role), role, x.own.id)
		for _, r := range readingsOfAPI(t, x.own, record, still) {
			if r.id == "events" || r.id == "live" { // they do not end; who may see them is asked below
				continue
			}
			status, raw, _ := who.do(r.method, r.path, nil)
			if !role.May(act.Right(r.right)) {
				assert.Equal(t, http.StatusForbidden, status, "%s as %s: %s", r.id, role, raw)
				continue
			}
			assert.NotEqual(t, http.StatusForbidden, status, "%s as %s: %s", r.id, role, raw)
			if role == act.Customer {
				assert.NotRegexp(t, `192\.0\.2\.|rtsp:|[Ff]itter|urn:`, raw, r.id)
			}
		}
	}
	customer := p.as("Mr Cust", act.Customer, x.own.id)
	cameras := get[[]cameraView](customer, "GET", "/api/sites/"+x.own.id.String()+"/cameras", nil)
	require.Len(t, cameras, 3)
	assert.True(t, slices.ContainsFunc(cameras, func(c cameraView) bool { return c.Name == "Platform clock" && c.State == "shows" }),
		"%v", cameras)
	customer.problem("forbidden", "GET", "/api/sites/"+x.own.id.String()+"/events", nil)
	viewer := p.as("Viv", act.Viewer, x.own.id)
	_, body, _ := viewer.do("GET", "/api/sign-ins", nil)
	assert.NotContains(t, body, "fitter")
}

// An invitation makes one account, once.
func TestInvitations(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p, s, log := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	p.problem("no_sites", "POST", "/api/people/links", fields{"name": "Ida", "role": "viewer", "sites": []uuid.UUID{}})
	made := get[linkMade](p, "POST", "/api/people/links", fields{"name": "Ida 駅", "role": "technician",
		"sites": []uuid.UUID{x.own.id, x.other.id}})
	assert.NotContains(t, log.String(), made.Token)
	ida := p.another()
	seen := get[linkView](ida, "POST", "/api/link", fields{"token": made.Token})
	assert.Equal(t, linkView{Name: "Ida 駅", Role: act.Technician}, seen)
	require.NoError(t, s.Sites.Delete(ctx, x.other.id), "a site that is removed meanwhile is not given")
	get[sessionState](ida, "POST", "/api/link/take", fields{"token": made.Token, "password": "a brass lamp of hers"})
	assert.Len(t, get[[]siteView](ida, "GET", "/api/sites", nil), 1)
	ida.problem("forbidden", "POST", "/api/sites", fields{"name": "Mine", "ranges": []string{"203.0.113.0/24"}})
	p.another().problem("link_gone", "POST", "/api/link/take", fields{"token": made.Token, "password": "somebody else's one"})

	late := get[linkMade](p, "POST", "/api/people/links", fields{"name": "Late", "role": "owner", "sites": []uuid.UUID{}})
	_, err := s.SQL().ExecContext(ctx, "UPDATE links SET expires_at = now() - interval '1 second' WHERE name = 'Late'")
	require.NoError(t, err)
	p.another().problem("link_gone", "POST", "/api/link", fields{"token": late.Token})
	twin := get[linkMade](p, "POST", "/api/people/links", fields{"name": "Ida 駅", "role": "owner", "sites": []uuid.UUID{}})
	p.another().problem("name_taken", "POST", "/api/link/take", fields{"token": twin.Token, "password": "a long enough one"})
	p.another().problem("link_gone", "POST", "/api/link", fields{"token": strings.Repeat("x", 43)})

	// A reset keeps the account, ends its sessions and takes the old password out of use.
	list := get[peopleView](p, "GET", "/api/people", nil)
	i := slices.IndexFunc(list.People, func(m store.Member) bool { return m.Name == "Ida 駅" })
	require.GreaterOrEqual(t, i, 0)
	reset := get[linkMade](p, "POST", "/api/people/"+list.People[i].ID.String()+"/reset", nil)
	again := p.another()
	assert.True(t, get[linkView](again, "POST", "/api/link", fields{"token": reset.Token}).Reset)
	get[sessionState](again, "POST", "/api/link/take", fields{"token": reset.Token, "password": "another lamp of hers"})
	ida.problem("signed_out", "GET", "/api/sites", nil)
	p.another().problem("wrong_sign_in", "POST", "/api/session", fields{"name": "Ida 駅", "password": "a brass lamp of hers"})
	get[any](again, "GET", "/api/sites", nil)
	lines, err := s.Record.List(ctx, store.LineFilter{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, []string{"Ida 駅", "take-link"}, []string{lines[0].Person, string(lines[0].Act)})
}

// Two owners who demote each other at the same moment leave one owner, and the last one cannot be lost in any other way.
func TestTheLastOwnerStays(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	keeper, err := s.People.ByName(ctx, "keeper")
	require.NoError(t, err)
	demote := fields{"role": "viewer", "sites": []uuid.UUID{x.own.id}}
	p.problem("last_owner", "PUT", "/api/people/"+keeper.ID.String(), demote)
	p.problem("last_owner", "DELETE", "/api/people/"+keeper.ID.String(), nil)
	for range 5 {
		second := p.another()
		id := addPerson(t, s, uuid.NewString(), act.Owner)
		second.signIn(act.Person{ID: id})
		var both sync.WaitGroup
		both.Go(func() { p.do("PUT", "/api/people/"+id.String(), demote) })
		both.Go(func() { second.do("PUT", "/api/people/"+keeper.ID.String(), demote) })
		both.Wait()
		var owners int
		require.NoError(t, s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM people WHERE role = 'owner'").Scan(&owners))
		require.Equal(t, 1, owners)
		_, err := s.SQL().ExecContext(ctx, "UPDATE people SET role = CASE WHEN id = $1 THEN 'owner' ELSE 'viewer' END", keeper.ID)
		require.NoError(t, err)
	}
}

// A page whose person is given another role is told nothing more, and asks anew.
func TestARoleThatChangesEndsStreams(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	viewer := p.another()
	id := addPerson(t, s, "Viv", act.Viewer, x.own.id)
	viewer.signIn(act.Person{ID: id})
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", p.url+"/api/sites/"+x.own.id.String()+"/events", nil)
	require.NoError(t, err)
	res, err := viewer.client.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, 200, res.StatusCode)
	get[any](p, "PUT", "/api/people/"+id.String(), fields{"role": "customer", "sites": []uuid.UUID{x.own.id}})
	buf := make([]byte, 4096)
	for err == nil {
		_, err = res.Body.Read(buf)
	}
	assert.NoError(t, ctx.Err(), "the server ends it")
	viewer.problem("forbidden", "GET", "/api/sites/"+x.own.id.String()+"/events", nil)
}
