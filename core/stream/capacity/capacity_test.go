package capacity

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUsableBytes(t *testing.T) {
	const tb = int64(1e12)
	for _, c := range []struct {
		disks  string
		raid   string
		spares int
		want   int64
	}{
		{"4x4TB", "none", 0, 16 * tb}, {"4x4TB", "5", 0, 12 * tb}, {"4x4TB", "RAID6", 0, 8 * tb}, {"4x4TB", "10", 0, 8 * tb},
		{"5x4TB", "1", 0, 8 * tb}, {"5x4TB", "5", 1, 12 * tb}, {"16TB", "", 0, 16 * tb}, {"2 × 500 GB", "mirror", 0, tb / 2}, {"1x1TiB",
			"0", 0, 1 << 40},
	} {
		d, err := ParseDisks(c.disks)
		require.NoError(t, err, c.disks)
		d.Layout, err = ParseLayout(c.raid)
		require.NoError(t, err, c.raid)
		d.Spares = c.spares
		got, err := d.UsableBytes()
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%s %s", c.disks, c.raid)
	}
	d := Disks{Count: 4, SizeBytes: 4e12, Layout: Parity, ReservePercent: 5}
	got, err := d.UsableBytes()
	require.NoError(t, err)
	assert.Equal(t, int64(11.4e12), got)
}

func TestWhatCannotBeReckoned(t *testing.T) {
	for _, text := range []string{"", "4x", "4x4", "0x4TB", "4x0TB", "-4x4TB", "4x4XB", "99999x4TB", "4x9999999999999PB", "4x4TB, 2x2TB"} {
		_, err := ParseDisks(text)
		assert.ErrorAs(t, err, new(*InputError), text)
	}
	_, err := ParseLayout("7")
	assert.ErrorAs(t, err, new(*InputError))
	for _, d := range []Disks{{}, {Count: 2, SizeBytes: 0}, {Count: 2, SizeBytes: 1, Layout: Parity}, {Count: 4, SizeBytes: 1,
		Layout: DoubleParity, Spares: 1},
		{Count: 1, SizeBytes: 1, Layout: Mirrored}, {Count: 4, SizeBytes: 1, ReservePercent: 100}, {Count: 4, SizeBytes: 1, Spares: -1},
		{Count: 4, SizeBytes: 1, Layout: "x"}} {
		_, err := d.UsableBytes()
		assert.ErrorAs(t, err, new(*InputError), "%+v", d)
	}
	for _, days := range []float64{0, -1, math.NaN(), math.Inf(1)} {
		_, err := KbpsForDays(1e12, days, []Stream{{Hours: 24}})
		assert.Error(t, err)
	}
	_, err = KbpsForDays(1e12, 30, []Stream{{Kbps: 1000}})
	assert.ErrorContains(t, err, "record at least one stream")
	assert.True(t, math.IsInf(Days(1e12, nil), 1))
}

func TestWorkedExample(t *testing.T) {
	streams := []Stream{{Cameras: 16, Kbps: 4000, Hours: 24}}
	assert.Equal(t, 16*4000*1000/8*86400.0, BytesPerDay(streams))
	assert.InDelta(t, 17.36, Days(12e12, streams), .01)
	assert.Equal(t, 64.0, LoadOf(streams).InboundMbps)
	kbps, err := KbpsForDays(12e12, 30, streams)
	require.NoError(t, err)
	assert.InDelta(t, 2314.8, kbps[0], .1)
	assert.InDelta(t, 34.72, Days(12e12, []Stream{{Cameras: 16, Kbps: 4000, Hours: 24, Motion: .5}}), .01)
	l := LoadOf([]Stream{{Cameras: 2, Kbps: 1000, MostKbps: 3000, Pixels: 1e6}, {Kbps: 500, Viewers: 4}})
	assert.Equal(t, Load{InboundMbps: 2.5, PeakMbps: 6.5, OutsideMbps: 2, Pixels: 2e6}, l)
}

// Backwards undoes forwards, whatever the streams and their weights.
func TestBackwardsUndoesForwards(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		streams := make([]Stream, 1+r.IntN(20))
		recorded := false
		for i := range streams {
			streams[i] = Stream{Cameras: 1 + r.IntN(40), Hours: float64(r.IntN(25)), Motion: r.Float64(), Weight: r.Float64() * 5}
			recorded = recorded || streams[i].Hours > 0
		}
		if !recorded {
			continue
		}
		usable, days := int64(1e9+r.Float64()*1e15), .5+r.Float64()*400
		kbps, err := KbpsForDays(usable, days, streams)
		require.NoError(t, err)
		for i := range streams {
			streams[i].Kbps = kbps[i]
		}
		assert.InEpsilon(t, days, Days(usable, streams), 1e-9)
	}
}

func ExampleKbpsForDays() {
	disks, _ := ParseDisks("4x4TB")
	disks.Layout = Parity
	usable, _ := disks.UsableBytes()
	streams := []Stream{{Cameras: 16, Kbps: 4000, Hours: 24}}
	kbps, _ := KbpsForDays(usable, 30, streams)
	fmt.Printf("%.1f days; %.0f kbit/s each for 30\n", Days(usable, streams), kbps[0])
	// Output: 17.4 days; 2315 kbit/s each for 30
}
