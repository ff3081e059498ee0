package store_test

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/ground/address"
	"unlatch/core/stream/camera"
	"unlatch/store"
	"unlatch/store/storetest"
)

// A device is found by whatever it is called and known by, on the sites that are searched, as it is now.
func TestSearch(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	var sites, ids []uuid.UUID
	for i, name := range []string{"North", "South"} {
		site, err := s.Sites.Create(ctx, name, address.MustParse("192.0.2.0/24"))
		require.NoError(t, err)
		x := sight("192.0.2.7", "urn:"+name)
		x.Name, x.Maker, x.Hardware, x.MAC, x.Serial = "Dome 100%", "Corvane", "V4", "02:00:00:00:0a:0"+string(rune('1'+i)), "SN-"+name
		id, err := s.Devices.Sight(ctx, site.ID, nil, x)
		require.NoError(t, err)
		sites, ids = append(sites, site.ID), append(ids, id)
	}
	require.NoError(t, s.Devices.Rename(ctx, ids[0], "Signal stairs"))
	require.NoError(t, s.Devices.Record(ctx, &store.Device{ID: ids[1], Site: sites[1]}, nil, store.Finding{Body: evidence.SignedIn{
		Info: camera.Info{Manufacturer: "Lumenhythe", Model: "L2", Serial: "XY77"}}}))
	find := func(in []uuid.UUID, words ...string) (out []uuid.UUID) {
		found, err := s.Devices.Search(ctx, in, words, 10)
		require.NoError(t, err)
		for _, f := range found {
			out = append(out, f.ID)
		}
		return out
	}
	for word, want := range map[string][]uuid.UUID{"signal": ids[:1], "STAIRS": ids[:1], "192.0.2.7": ids, "0a:02": ids[1:],
		"sn-north": ids[:1], "corvane": ids, "lumenhythe": ids[1:], "xy77": ids[1:], "100%": ids, "%": ids, "_": nil, `\`: nil, "nothing": nil} {
		assert.Equal(t, want, find(sites, word), "%q", word)
	}
	assert.Equal(t, ids[:1], find(sites, "dome", "signal"), "all words")
	assert.Equal(t, ids[1:], find(sites[1:], "dome"), "these sites alone")
	assert.Empty(t, find(nil, "dome"))
	found, err := s.Devices.Search(ctx, sites, []string{"dome"}, 1)
	require.NoError(t, err)
	require.Len(t, found, 1, "no more than are wanted")
	assert.Equal(t, []any{"Signal stairs", "North"}, []any{found[0].Title(), found[0].SiteName})
	found, err = s.Devices.Search(ctx, sites, []string{"xy77"}, 1)
	require.NoError(t, err)
	assert.Equal(t, "Dome 100%", found[0].Title(), "what it calls itself")

	require.NoError(t, s.Devices.Rename(ctx, ids[0], "Lamp room"))
	assert.Empty(t, find(sites, "stairs"), "it is called otherwise now")
	assert.Equal(t, ids[:1], find(sites, "lamp"))
	require.NoError(t, s.Sites.Delete(ctx, sites[0]))
	assert.Equal(t, ids[1:], find(sites, "dome"))
}

// Versions of firmware are counted by model and site, on the sites that are asked for, as devices said last.
func TestFirmwareOfAllSites(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	var sites []uuid.UUID
	told := func(site uuid.UUID, endpoint, model, version string) uuid.UUID {
		id, err := s.Devices.Sight(ctx, site, nil, sight("192.0.2.7", endpoint))
		require.NoError(t, err)
		require.NoError(t, s.Devices.RecordAll(ctx, id, nil, store.Finding{Body: evidence.SignedIn{
			Info: camera.Info{Manufacturer: "Corvane", Model: model, Firmware: version}}}))
		return id
	}
	for _, name := range []string{"North", "South", "Elsewhere"} {
		site, err := s.Sites.Create(ctx, name, address.MustParse("192.0.2.0/24"))
		require.NoError(t, err)
		sites = append(sites, site.ID)
		told(site.ID, "urn:1"+name, "V4", "4.1.1")
		told(site.ID, "urn:2"+name, "V4", "4.1.1")
	}
	told(sites[0], "urn:1North", "V4", "4.1.2") // it was updated
	told(sites[1], "urn:3South", "", "9")       // it tells no model
	got, err := s.Devices.Firmware(ctx, sites[:2])
	require.NoError(t, err)
	assert.Equal(t, []store.FirmwareCount{
		{Site: sites[0], Maker: "Corvane", Model: "V4", Version: "4.1.1", Devices: 1},
		{Site: sites[1], Maker: "Corvane", Model: "V4", Version: "4.1.1", Devices: 2},
		{Site: sites[0], Maker: "Corvane", Model: "V4", Version: "4.1.2", Devices: 1},
	}, got)
	got, err = s.Devices.Firmware(ctx, nil)
	require.NoError(t, err)
	assert.Empty(t, got)
}
