package server

import (
	"bufio"
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A program is who asks with an API token and nothing else.
type program struct {
	*page
	token string
}

func (p program) ask(method, path string, body any) (int, string) {
	p.t.Helper()
	status, raw, _ := p.do(method, path, body, "Authorization", "Bearer "+p.token)
	return status, raw
}

// makeToken makes a token for who is signed in, and returns a program that has it.
func makeToken(t *testing.T, p *page, body fields) (program, uuid.UUID) {
	t.Helper()
	body["expires_at"] = time.Now().Add(24 * time.Hour)
	made := get[tokenMade](p, "POST", "/api/tokens", body)
	assert.True(t, strings.HasPrefix(made.Token, tokenMark))
	return program{&page{t, p.url, &http.Client{}, p.store}, made.Token}, made.ID
}

// A token does what its role does on its sites, and never more than its maker may at that moment; it stands in the record.
func TestATokenIsNeverWiderThanItsMaker(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	path := func(d depotSite) string { return "/api/sites/" + d.id.String() }
	script, id := makeToken(t, p, fields{"name": "Nightly", "role": "engineer", "sites": []uuid.UUID{x.own.id}})
	status, raw := script.ask("POST", path(x.own)+"/open", fields{"devices": []uuid.UUID{x.own.camera}})
	require.Equal(t, 202, status, raw)
	lines, err := s.Record.List(context.Background(), store.LineFilter{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, []string{"keeper", "Nightly", "open-latches"}, []string{lines[0].Person, lines[0].Token, string(lines[0].Act)})
	status, _ = script.ask("GET", path(x.other)+"/devices", nil)
	assert.Equal(t, 404, status, "a site that the token is not for does not exist for it")
	status, _ = script.ask("POST", path(x.other)+"/open", fields{"devices": []uuid.UUID{x.other.camera}})
	assert.Equal(t, 404, status)
	status, _ = script.ask("GET", "/api/people", nil)
	assert.Equal(t, 403, status, "an engineer does not look after people, although the maker does")
	for _, own := range []struct {
		method, path string
		body         any
	}{
		{"POST", "/api/tokens", fields{"name": "Child", "role": "viewer", "expires_at": time.Now().Add(time.Hour)}},
		{"DELETE", "/api/session/all/" + x.session.String(), nil},
		{"POST", "/api/session/factors/code", fields{"ceremony": "for-a-code", "code": codeNow(depotSecret)}},
	} {
		status, raw = script.ask(own.method, own.path, own.body)
		assert.Equal(t, 422, status, "%s %s: %s", own.method, own.path, raw)
		assert.Contains(t, raw, "in_person")
	}

	tess := p.another()
	tess.signIn(act.Person{ID: x.member})
	tess.problem("too_wide", "POST", "/api/tokens", fields{"name": "Wide", "role": "engineer", "expires_at": time.Now().Add(time.Hour)})
	tess.problem("unknown_site", "POST", "/api/tokens", fields{"name": "Far", "role": "viewer", "sites": []uuid.UUID{x.other.id},
		"expires_at": time.Now().Add(time.Hour)})
	tess.problem("bad_end", "POST", "/api/tokens", fields{"name": "For ever", "role": "viewer", "expires_at": time.Now().AddDate(9, 0, 0)})
	tess.problem("not_found", "DELETE", "/api/tokens/"+id.String(), nil) // somebody else's does not exist for her
	hers, _ := makeToken(t, tess, fields{"name": "Hers", "role": "technician"})
	status, raw = hers.ask("POST", path(x.own)+"/open", fields{"devices": []uuid.UUID{x.own.fresh}})
	require.Equal(t, 202, status, raw)
	p.do("PUT", "/api/people/"+x.member.String(), fields{"role": "viewer", "sites": []uuid.UUID{x.other.id}})
	status, _ = hers.ask("POST", path(x.other)+"/open", fields{"devices": []uuid.UUID{x.other.camera}})
	assert.Equal(t, 403, status, "a viewer by now")
	status, _ = hers.ask("GET", path(x.own)+"/devices", nil)
	assert.Equal(t, 404, status)
	status, _ = hers.ask("GET", path(x.other)+"/devices", nil)
	assert.Equal(t, 200, status)
	p.do("DELETE", "/api/people/"+x.member.String(), nil)
	status, raw = hers.ask("GET", path(x.other)+"/devices", nil)
	assert.Equal(t, 401, status, "the token of a removed person")
	assert.Contains(t, raw, "token_gone")
}

// A token that is revoked ends everywhere at once, also where it is listened with.
func TestARevokedTokenEndsAtOnce(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	script, id := makeToken(t, p, fields{"name": "Listener", "role": "viewer"})
	req, err := http.NewRequest("GET", p.url+"/api/sites/"+x.own.id.String()+"/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "bearer "+script.token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, 200, res.StatusCode)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		}
	}()
	list := get[[]store.Token](p, "GET", "/api/tokens", nil)
	for _, k := range list {
		assert.True(t, strings.HasPrefix(script.token, k.Start) == (k.ID == id))
		assert.LessOrEqual(t, len(k.Start), tokenStart)
	}
	status, raw, _ := p.do("DELETE", "/api/tokens/"+id.String(), nil)
	require.Equal(t, 204, status, raw)
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Fatal("the stream goes on")
	}
	status, _ = script.ask("GET", "/api/sites", nil)
	assert.Equal(t, 401, status)
	p.problem("not_found", "DELETE", "/api/tokens/"+id.String(), nil)
}

// An act of a token that is revoked while it is decided is not done.
func TestATokenIsHeldThroughItsAct(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	script, id := makeToken(t, p, fields{"name": "Late", "role": "engineer"})
	who, err := s.People.OfToken(context.Background(), script.token)
	require.NoError(t, err)
	assert.True(t, who.EverySite(), "all that its maker is given, and that is all")
	p.do("DELETE", "/api/tokens/"+id.String(), nil)
	err = s.Acts().Together(context.Background(), func(ctx context.Context) error {
		return s.Acts().Confirm(ctx, who, act.About{Name: "place", Right: act.Work, Site: x.own.id})
	})
	assert.ErrorIs(t, err, act.ErrForbidden)
}
