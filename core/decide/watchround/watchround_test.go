package watchround

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/drift"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC) // a Monday

func at(minutes float64) time.Time { return noon.Add(time.Duration(minutes * float64(time.Minute))) }

// The looks of a round are spread evenly over it.
func TestFirst(t *testing.T) {
	var parts [10]int
	for range 5000 {
		due := First(uuid.New(), noon, 15*time.Minute)
		parts[int(due.Sub(noon)/(90*time.Second))]++
	}
	for _, n := range parts {
		assert.InDelta(t, 500, n, 120)
	}
}

// A look keeps its place in the round; missed rounds are not made up for, and a clock that jumps stops nothing.
func TestNext(t *testing.T) {
	round := 15 * time.Minute
	for name, c := range map[string]struct{ due, now, want float64 }{
		"in time":                    {0, 0, 15},
		"a little late":              {0, 1, 15},
		"a little early":             {0, -1, 15},
		"two rounds missed":          {0, 31, 45},
		"a week missed":              {0, 7*24*60 + 1, 7*24*60 + 15},
		"the clock was set back":     {24 * 60, 0, 0},
		"set back to within a round": {24*60 + 7, 0, 8},
	} {
		next := Next(at(c.due), at(c.now), round)
		assert.Equal(t, at(c.want), next, name)
		assert.False(t, next.Before(at(c.now)), name)
	}
}

func TestQuiet(t *testing.T) {
	r := WatchRule{Quiet: []Hours{{Day: "mon", From: 11, To: 13}, {From: 3, To: 4}}}
	assert.True(t, r.IsQuiet(noon))
	assert.False(t, r.IsQuiet(noon.Add(time.Hour)))
	assert.False(t, r.IsQuiet(noon.AddDate(0, 0, 1)))
	assert.True(t, r.IsQuiet(noon.AddDate(0, 0, 1).Add(-9*time.Hour)))
	assert.NoError(t, r.Check())
	assert.Error(t, WatchRule{Quiet: []Hours{{From: 22, To: 4}}}.Check())
	assert.Error(t, WatchRule{Mends: []drift.Repair{drift.GiveAddress}}.Check(), "an address is given by a person")
	r.Mends = []drift.Repair{drift.PlaceAgain}
	assert.NoError(t, r.Check())
	assert.True(t, r.Mending(drift.PlaceAgain))
	assert.False(t, r.Mending(drift.SetStreams))
	assert.Equal(t, 10, r.MostMends())
	assert.Equal(t, 15*time.Minute, r.Round(false))
	assert.Equal(t, 5*time.Minute, r.Round(true))
	assert.Equal(t, time.Minute, WatchRule{CameraMinutes: 1}.Round(false))
}

// Time that nobody has looked at is told as that, and the time between two looks that differ counts as the worse of them.
func TestWhole(t *testing.T) {
	round := 15 * time.Minute
	spans := []SeenSpan{{Up, at(0), at(60)}, {Down, at(75), at(90)}, {Up, at(105), at(120)}, {Up, at(300), at(330)}}
	assert.True(t, spans[0].Extends(Up, at(75), round))
	assert.False(t, spans[0].Extends(Down, at(75), round))
	assert.False(t, spans[0].Extends(Up, at(120), round), "nobody has looked for an hour")
	assert.False(t, spans[0].Extends(Up, at(30), round), "the clock was set back")
	got := Whole(spans, at(-30), at(340), round)
	want := []SeenSpan{{NotLooked, at(-30), at(0)}, {Up, at(0), at(60)}, {Down, at(60), at(105)}, {Up, at(105), at(120)},
		{NotLooked, at(120), at(300)}, {Up, at(300), at(340)}}
	assert.Equal(t, want, got)
	share := Availability(got)
	assert.Equal(t, Share{Up: 115 * time.Minute, Down: 45 * time.Minute, NotLooked: 210 * time.Minute}, share)
	percent, looked := share.Percent()
	assert.True(t, looked)
	assert.InDelta(t, 71.9, percent, 0.1)
	_, looked = Availability(Whole(nil, at(0), at(60), round)).Percent()
	assert.False(t, looked)
	assert.Equal(t, []SeenSpan{{Up, at(30), at(60)}}, Whole([]SeenSpan{{Up, at(0), at(90)}}, at(30), at(60), round))
}
