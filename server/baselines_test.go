package server

import (
	"context"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/baseline"
	"unlatch/store"
	"unlatch/store/storetest"
)

// What has changed since a state was agreed on is told, by device and field, against now and against another agreed state.
func TestWhatHasChangedSinceItWasAgreed(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 3)
	x.provenAt(t, x.ids[0], "192.0.2.1")
	at := "/api/sites/" + x.site.ID.String() + "/baselines"
	assert.Empty(t, get[[]store.Baseline](p, "GET", at, nil))
	x.sight(t, "urn:other", "198.51.100.8") // a stray is no part of the site
	p.problem("no_reason", "POST", at, map[string]any{"name": "Handed over"})
	get[any](p, "POST", at, map[string]any{"name": "Handed over", "reason": "two are ordered"})
	kept := get[[]store.Baseline](p, "GET", at, nil)
	require.Len(t, kept, 1)
	assert.Equal(t, "keeper", kept[0].By)
	assert.Equal(t, 3, kept[0].Devices)
	since := at + "/" + kept[0].ID.String() + "/differences"
	same := get[differencesView](p, "GET", since, nil)
	assert.Empty(t, same.Changes)
	assert.Equal(t, 3, same.Same)

	x.sight(t, "urn:0", "192.0.2.77")
	added := x.sight(t, "urn:new", "192.0.2.60")
	_, err := s.Devices.Forget(context.Background(), x.site.ID, []uuid.UUID{x.ids[2]})
	require.NoError(t, err)
	x.sight(t, "urn:stray", "198.51.100.9")
	now := get[differencesView](p, "GET", since, nil)
	require.Len(t, now.Changes, 3)
	assert.Equal(t, 1, now.Same)
	assert.Equal(t, x.ids[0], now.Changes[0].Device)
	assert.Equal(t, baseline.FieldChange{Field: baseline.Address, Words: "Address", Was: "192.0.2.1", Is: "192.0.2.77"},
		now.Changes[0].Fields[0])
	assert.Equal(t, baseline.Gone, now.Changes[1].Is)
	assert.Equal(t, added, now.Changes[2].Device)
	assert.Equal(t, baseline.New, now.Changes[2].Is)

	x.sight(t, "urn:1", "198.51.100.2")
	strayed := get[differencesView](p, "GET", since, nil).Changes
	require.Len(t, strayed, 4, "a camera of the site that has strayed is told")
	assert.Equal(t, "Address: was 192.0.2.2, is 198.51.100.2.", strayed[1].Fields[0].String())

	get[any](p, "POST", at, map[string]any{"name": "After the move", "reason": "it is so", "devices": []uuid.UUID{x.ids[0]}})
	later := get[[]store.Baseline](p, "GET", at, nil)[0]
	assert.Equal(t, 1, later.Devices)
	between := get[differencesView](p, "GET", since+"?with="+later.ID.String(), nil)
	assert.Len(t, between.Changes, 3, "two devices are not in the later state")
	assert.Empty(t, get[differencesView](p, "GET", at+"/"+later.ID.String()+"/differences?with="+later.ID.String(), nil).Changes)
	p.problem("not_found", "GET", at+"/"+uuid.NewString()+"/differences", nil)

	// A state that a newer program took is not half understood.
	_, err = s.Pool.Exec(context.Background(), `UPDATE baselines SET state = jsonb_set(state, '{version}', '99')`)
	require.NoError(t, err)
	p.problem("newer_form", "GET", since, nil)
}
