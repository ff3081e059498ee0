package away_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/away"
	"unlatch/core/decide/watchround"
)

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// A clock that was set while a worker was cut off changes no time within its process.
func ExampleBase_Time() {
	base := away.Base{Stamp: away.Stamp{Run: "a", Up: 5 * time.Hour, Wall: noon}, At: noon}
	fmt.Println(base.Time(away.Stamp{Run: "a", Up: 3 * time.Hour, Wall: noon.Add(-3 * time.Hour)}).Format("15:04"))
	fmt.Println(base.Time(away.Stamp{Run: "before", Up: time.Hour, Wall: noon.Add(-90 * time.Minute)}).Format("15:04"))
	// Output:
	// 10:00
	// 10:30
}

func TestTimesAreNeverAhead(t *testing.T) {
	t.Parallel()
	base := away.Base{Stamp: away.Stamp{Run: "a", Up: time.Hour, Wall: noon}, At: noon.Add(7 * time.Minute)}
	ahead := away.Stamp{Run: "before", Wall: noon.Add(time.Hour)}
	assert.Equal(t, base.At, base.Time(ahead), "its clock was an hour ahead before it started again")
	assert.Equal(t, base.At, base.Time(base.Stamp))
}

// A day of looks every five minutes, in which a camera was silent for two hours, comes to one an hour and one at each change.
func TestADayOfLooksIsTakenTogether(t *testing.T) {
	t.Parallel()
	thing, other := uuid.New(), uuid.New()
	var m away.Merger
	var out []away.Look
	for i := range 24 * 12 {
		up := time.Duration(i) * 5 * time.Minute
		l := away.Look{Thing: thing, RoundS: 300, State: watchround.Up, First: away.Stamp{Run: "a", Up: up}, Last: away.Stamp{Run: "a", Up: up}}
		if hour := i / 12; hour == 5 || hour == 6 {
			l.State = watchround.Down
		}
		if i == 60 || i == 84 {
			l.Findings = []away.Finding{{Kind: "reached"}}
		}
		for _, x := range []uuid.UUID{thing, other} {
			l.Thing = x
			if done, ok := m.Add(l); ok {
				out = append(out, done)
			}
		}
	}
	out = append(out, m.Rest()...)
	findings, covered := 0, map[uuid.UUID]time.Duration{}
	last := map[uuid.UUID]time.Duration{}
	for _, l := range out {
		findings += len(l.Findings)
		assert.GreaterOrEqual(t, l.First.Up, last[l.Thing], "in order")
		last[l.Thing] = l.Last.Up
		covered[l.Thing] += l.Last.Up - l.First.Up + 5*time.Minute
		down := l.First.Up >= 5*time.Hour && l.First.Up < 7*time.Hour
		assert.Equal(t, down, l.State == watchround.Down, "%s", l.First.Up)
	}
	assert.Len(t, out, 48)
	assert.Equal(t, 4, findings, "each is in it once")
	assert.Equal(t, 24*time.Hour, covered[thing])
	assert.Equal(t, 24*time.Hour, covered[other])
}
