package store_test

import (
	"net/netip"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/work/onvifrecorder"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A recorder that a sweep has found is a target under its own ID as soon as it shows that it takes cameras, or somebody wants one
// on it. One that stands elsewhere states its addresses.
func TestTargets(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	site, err := s.Sites.Create(ctx, "Works", address.MustParse("192.0.2.0/24"))
	require.NoError(t, err)
	sight := func(addr, endpoint string) uuid.UUID {
		id, err := s.Devices.Sight(ctx, site.ID, nil, sighting.Sighting{Method: sighting.WSDiscovery, Addr: netip.MustParseAddr(addr),
			Endpoint: endpoint})
		require.NoError(t, err)
		return id
	}
	camera, recorder, other := sight("192.0.2.1", "urn:c"), sight("192.0.2.2", "urn:r"), sight("192.0.2.3", "urn:o")
	none, err := s.Targets.List(ctx, site.ID)
	require.NoError(t, err)
	assert.Empty(t, none)
	d := &store.Device{ID: recorder, Site: site.ID}
	require.NoError(t, s.Devices.Record(ctx, d, nil, store.Finding{Body: evidence.SignedIn{Recorder: true}}))
	require.NoError(t, s.Devices.Record(ctx, d, nil, store.Finding{Body: evidence.SignedIn{Recorder: true}}), "twice is once")
	require.NoError(t, s.Targets.Wish(ctx, act.InAnySlot(other, camera)))
	there, err := netip.ParseAddrPort("198.51.100.7:8883")
	require.NoError(t, err)
	elsewhere := uuid.New()
	require.NoError(t, s.Targets.Put(ctx, site.ID, act.PutTarget{ID: elsewhere, New: true, Reach: []netip.AddrPort{there},
		TargetForm: act.TargetForm{Kind: "lantern", Name: "Far shed", Address: "lantern://far"}}))

	list, err := s.Targets.List(ctx, site.ID)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, []any{recorder, onvifrecorder.Kind, recorder}, []any{list[0].ID, list[0].Kind, *list[0].Device})
	far, err := s.Targets.Get(ctx, elsewhere)
	require.NoError(t, err)
	assert.Equal(t, []any{"Far shed", "lantern://far", (*uuid.UUID)(nil)}, []any{far.Name, far.Address, far.Device})
	way, err := s.Sites.WayOut(ctx, site.ID)
	require.NoError(t, err)
	assert.Equal(t, []netip.AddrPort{there}, way.Targets)
	named := act.PutTarget{ID: elsewhere, Reach: []netip.AddrPort{there, netip.MustParseAddrPort("198.51.100.8:8883")},
		TargetForm: act.TargetForm{Kind: "lantern", Name: "Far shed", Address: "lantern://Far.example"}}
	require.NoError(t, s.Targets.Put(ctx, site.ID, named))
	require.NoError(t, s.Targets.Saw(ctx, elsewhere, nil, store.Seen{What: "answered", Pin: "ab", Takes: "none"}))
	way, err = s.Sites.WayOut(ctx, site.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string][]netip.Addr{"far.example": {there.Addr(), named.Reach[1].Addr()}}, way.Names)
	require.NoError(t, s.Targets.Put(ctx, site.ID, named))
	far, err = s.Targets.Get(ctx, elsewhere)
	require.NoError(t, err)
	assert.Equal(t, []any{named.Reach, "ab"}, []any{far.Reach.V, far.Pin}, "it is the same")
	named.Reach = named.Reach[1:]
	require.NoError(t, s.Targets.Put(ctx, site.ID, named))
	far, err = s.Targets.Get(ctx, elsewhere)
	require.NoError(t, err)
	assert.Equal(t, "", far.Pin, "at other addresses it is a stranger")
	named.Reach, named.Address = []netip.AddrPort{there}, "lantern://far"
	require.NoError(t, s.Targets.Put(ctx, site.ID, named))

	require.NoError(t, s.Targets.Wish(ctx, act.InAnySlot(elsewhere, camera)))
	known, err := s.Devices.Get(ctx, camera)
	require.NoError(t, err)
	require.Len(t, known.Status.Placements, 2)
	assert.Equal(t, "the recorder at 192.0.2.3", known.Status.Placements[0].Name)
	assert.Equal(t, "Far shed", known.Status.Placements[1].Name)
	_, err = s.Devices.Forget(ctx, site.ID, []uuid.UUID{other})
	require.NoError(t, err)
	known, err = s.Devices.Get(ctx, camera)
	require.NoError(t, err)
	assert.Len(t, known.Status.Placements, 1, "a target that is no more is wanted no more")
	_, err = s.Targets.Get(ctx, uuid.New())
	assert.ErrorIs(t, err, store.ErrNotFound)
}
