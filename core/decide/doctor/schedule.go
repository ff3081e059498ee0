package doctor

import (
	"slices"
	"time"
)

// A BackupSchedule says when backups are made, and which are kept.
type BackupSchedule struct {
	// To is the folder that they go into.
	To    string        `json:"to"`
	Every time.Duration `json:"every"`
	// At is the time of day of those that come once a day or less often, since midnight UTC.
	At time.Duration `json:"at"`
	// Days, Weeks and Months are how many are kept of each: the newest of each of so many days, weeks and months.
	Days   int       `json:"days"`
	Weeks  int       `json:"weeks"`
	Months int       `json:"months"`
	Since  time.Time `json:"since"` // when the server that keeps to it was started
}

// day is the time from which on a schedule keeps to a time of day.
const day = 24 * time.Hour

// Next returns when the next backup is due: last is when one was made, the zero time for never.
func (s BackupSchedule) Next(last, now time.Time) time.Time {
	if s.Every < day {
		if last.IsZero() {
			return now.UTC()
		}
		return last.Add(s.Every).UTC()
	}
	from := now
	if !last.IsZero() {
		// Half a day of slack, so that one which was made late does not put the next off by a day.
		from = last.Add(s.Every - day/2)
	}
	at := from.UTC().Truncate(day).Add(s.At)
	if at.Before(from) {
		at = at.Add(day)
	}
	return at
}

// Unkept returns which of the backups of these times are kept no longer. The newest always is.
func (s BackupSchedule) Unkept(made []time.Time) (out []time.Time) {
	list := slices.Clone(made)
	slices.SortFunc(list, func(a, b time.Time) int { return b.Compare(a) })
	keep := map[time.Time]bool{}
	for _, rule := range []struct {
		most int
		of   func(time.Time) int // number of the time's day, week or month
	}{
		{max(s.Days, 1), func(t time.Time) int { return int(t.Unix() / 86400) }},
		{s.Weeks, func(t time.Time) int { y, w := t.ISOWeek(); return 100*y + w }},
		{s.Months, func(t time.Time) int { return 12*t.Year() + int(t.Month()) }},
	} {
		seen := map[int]bool{}
		for _, t := range list {
			if n := rule.of(t.UTC()); !seen[n] && len(seen) < rule.most {
				seen[n] = true
				keep[t] = true
			}
		}
	}
	for _, t := range list {
		if !keep[t] {
			out = append(out, t)
		}
	}
	return out
}

// retryAfter is after how long a backup that failed is tried again.
const retryAfter = time.Hour

// Due returns when a backup is due after those that were tried. A clock that was ahead when one was made puts none off.
func (s BackupSchedule) Due(had Backups, now time.Time) time.Time {
	last := time.Time{}
	if had.LastGood != nil {
		last = had.LastGood.At
		if last.After(now) {
			last = now
		}
	}
	due := s.Next(last, now)
	if last.IsZero() {
		due = s.Next(last, s.Since)
	}
	if f := had.Last; f != nil && f.Problem != "" && !f.At.After(now) && f.At.Add(retryAfter).After(due) {
		return f.At.Add(retryAfter)
	}
	return due
}
