package hours

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWeek(t *testing.T) {
	t.Parallel()
	at := func(text string) time.Time {
		x, err := time.Parse("2006-01-02 15:04", text)
		assert.NoError(t, err)
		return x
	}
	weekdays := []time.Weekday{1, 2, 3, 4, 5}
	for _, c := range []struct {
		hours Week
		at    string // 2026-03-02 is a Monday
		want  bool
	}{
		{Week{}, "2026-03-01 03:00", true},
		{Week{Days: weekdays}, "2026-03-01 12:00", false},
		{Week{Days: weekdays}, "2026-03-02 12:00", true},
		{Week{From: "08:00", Until: "17:30"}, "2026-03-02 07:59", false},
		{Week{From: "08:00", Until: "17:30"}, "2026-03-02 08:00", true},
		{Week{From: "08:00", Until: "17:30"}, "2026-03-02 17:30", false},
		{Week{From: "22:00", Until: "06:00", Days: []time.Weekday{1}}, "2026-03-02 23:00", true},
		{Week{From: "22:00", Until: "06:00", Days: []time.Weekday{1}}, "2026-03-03 05:00", true},
		{Week{From: "22:00", Until: "06:00", Days: []time.Weekday{1}}, "2026-03-02 05:00", false},
		{Week{From: "08:00", Until: "09:00", Zone: "Europe/London"}, "2026-07-01 07:30", true}, // in summer an hour ahead of UTC
		{Week{From: "late"}, "2026-03-02 12:00", false},
	} {
		assert.Equal(t, c.want, c.hours.Now(at(c.at)), "%+v at %s", c.hours, c.at)
	}
	for _, bad := range []Week{{From: "08:00"}, {From: "8", Until: "9"}, {From: "25:00", Until: "26:00"}, {From: "08:00", Until: "08:00"},
		{Zone: "Nowhere/Town"}, {Days: []time.Weekday{7}}} {
		assert.Error(t, bad.Check(), "%+v", bad)
	}
}

func ExampleWeek() {
	night := Week{From: "22:00", Until: "06:00"}
	fmt.Println(night.Now(time.Date(2026, 3, 2, 23, 30, 0, 0, time.UTC)), night.Now(time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)))
	// Output: true false
}
