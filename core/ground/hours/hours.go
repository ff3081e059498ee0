// Package hours says at which hours of the week something is done.
package hours

import (
	"fmt"
	"slices"
	"time"
)

// A Week is some days of the week, between two times of day. The zero value means always.
type Week struct {
	Days  []time.Weekday `json:"days,omitempty" doc:"0 is Sunday; none for every day"`
	From  string         `json:"from,omitempty" doc:"such as 08:00; empty for the whole day"`
	Until string         `json:"until,omitempty" doc:"such as 17:30; earlier than from for one that ends on the next day"`
	Zone  string         `json:"zone,omitempty" doc:"whose clock, such as Europe/London; empty for UTC"`
}

// An Error says what is wrong with some hours.
type Error struct{ Problem string }

func (e *Error) Error() string { return e.Problem }

const clock = "15:04"

// Check reports an *Error.
func (h Week) Check() error {
	if (h.From == "") != (h.Until == "") {
		return &Error{"The hours have a beginning or an end, and not both."}
	}
	for _, text := range []string{h.From, h.Until} {
		if _, err := time.Parse(clock, text); text != "" && err != nil {
			return &Error{fmt.Sprintf("%q is no time of day: write it as 08:00.", text)}
		}
	}
	if h.From != "" && h.From == h.Until {
		return &Error{"The hours end when they begin."}
	}
	if _, err := time.LoadLocation(h.Zone); err != nil {
		return &Error{fmt.Sprintf("%q is no time zone: write it as Europe/London.", h.Zone)}
	}
	for _, d := range h.Days {
		if d < time.Sunday || d > time.Saturday {
			return &Error{fmt.Sprintf("%d is no day of the week: 0 is Sunday, 6 is Saturday.", d)}
		}
	}
	return nil
}

// Now reports whether a time lies within. A night that begins on one of the days ends on the next. Week that are wrong hold nothing.
func (h Week) Now(t time.Time) bool {
	zone, err := time.LoadLocation(h.Zone)
	if err != nil || h.Check() != nil {
		return false
	}
	t = t.In(zone)
	on := func(d time.Weekday) bool { return len(h.Days) == 0 || slices.Contains(h.Days, d) }
	at := t.Format(clock)
	switch {
	case h.From == "":
		return on(t.Weekday())
	case h.From < h.Until:
		return on(t.Weekday()) && h.From <= at && at < h.Until
	}
	return on(t.Weekday()) && h.From <= at || on((t.Weekday()+6)%7) && at < h.Until
}
