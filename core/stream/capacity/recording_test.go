package capacity

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var site = []Source{{Role: "main", Kbps: 4000, MostKbps: 5000, Measured: true}, {Role: "sub", Kbps: 500},
	{Role: "main", Kbps: 2000, Measured: true},
	{Role: "sub"}}

func TestCostOfASite(t *testing.T) {
	disks, err := ParseDisks("4x4TB")
	require.NoError(t, err)
	disks.Layout = Parity
	r := Recording{Disks: disks, Viewers: 3}
	c, err := r.CostOf(site)
	require.NoError(t, err)
	assert.Equal(t, int64(12e12), c.UsableBytes)
	assert.InDelta(t, 6000*1000/8*86400, c.BytesPerDay, 1)
	assert.InDelta(t, 12e12/(6e6/8*86400), c.Days, 1e-9)
	assert.InDelta(t, 6.5, c.InboundMbps, 1e-9, "what is not recorded flows all the same")
	assert.InDelta(t, 7.5, c.PeakMbps, 1e-9)
	assert.InDelta(t, 0.75, c.OutsideMbps, 1e-9)
	assert.Equal(t, [3]int{2, 1, 1}, [3]int{c.Measured, c.Planned, c.Unknown})
	curve := r.Curve(site, c)
	assert.InDelta(t, c.Days, curve[12].Days, 1e-9)
	assert.InDelta(t, 2*c.Days, curve[8].Days, 1e-9, "half the bitrate is twice the days")
	assert.InDelta(t, 3.5, curve[8].InboundMbps, 1e-9)

	for _, even := range []bool{true, false} {
		kbps, err := r.KbpsFor(30, site, even)
		require.NoError(t, err)
		trial := append([]Source{}, site...)
		for i := range trial {
			trial[i].Kbps = kbps[i]
		}
		got, err := r.CostOf(trial)
		require.NoError(t, err)
		assert.InDelta(t, 30, got.Days, 1e-6, "backwards undoes forwards")
		assert.Zero(t, kbps[1], "the sub stream is not recorded")
		if !even {
			assert.InDelta(t, 2, kbps[0]/kbps[2], 1e-9, "by their present share")
		}
	}
	unknown, err := r.KbpsFor(30, append([]Source{{Role: "main"}}, site...), false)
	require.NoError(t, err)
	assert.InDelta(t, (unknown[1]+unknown[3])/2, unknown[0], 1e-9, "of which nothing is known gets as much as the others")
	r.Records = "both"
	both, err := r.CostOf(site)
	require.NoError(t, err)
	assert.Less(t, both.Days, c.Days)
	choices := Choices(c, 6000)
	assert.Equal(t, c.Days, choices[0].Days)
	for _, x := range choices[1:] {
		assert.Greater(t, x.Days, c.Days, x.Name)
		assert.InDelta(t, c.Days*6000, x.Days*x.Kbps, 1e-6*c.Days*6000, x.Name)
	}
}

func TestRecordingsThatCannotBe(t *testing.T) {
	disks := Disks{Count: 1, SizeBytes: 1e12}
	for name, r := range map[string]Recording{"no bytes": {Disks: Disks{Count: 4}}, "too many hours": {Disks: disks, Hours: 25},
		"no share": {Disks: disks, Motion: 2}, "NaN": {Disks: disks, Motion: math.NaN()}, "no stream": {Disks: disks, Records: "third"},
		"viewers": {Disks: disks, Viewers: -1}} {
		_, err := r.CostOf(site)
		assert.ErrorAs(t, err, new(*InputError), name)
		_, err = r.KbpsFor(30, site, true)
		assert.ErrorAs(t, err, new(*InputError), name)
	}
	c, err := Recording{Disks: disks}.CostOf(nil)
	require.NoError(t, err)
	assert.Zero(t, c.Days, "nothing is recorded")
	_, err = Recording{Disks: disks}.KbpsFor(30, nil, true)
	assert.ErrorAs(t, err, new(*InputError))
}
