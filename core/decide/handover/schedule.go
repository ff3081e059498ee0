package handover

import (
	"fmt"
	"strings"

	"unlatch/core/decide/words"
	"unlatch/core/wire/target"
)

// ScheduleWords says when a slot records.
func ScheduleWords(s *target.Schedule, l *words.Language) string {
	if s == nil {
		return ""
	}
	if s.Mode != "week" {
		return l.Text("schedule." + s.Mode)
	}
	// Days with the same hours stand together.
	var out []string
	for i := 0; i < len(s.Week); {
		x := s.Week[i]
		j := i + 1
		for j < len(s.Week) && s.Week[j].From == x.From && s.Week[j].To == x.To {
			j++
		}
		days := l.Text("day." + x.Day)
		if j-i > 1 {
			days += "–" + l.Text("day."+s.Week[j-1].Day)
		}
		out = append(out, fmt.Sprintf("%s %02d–%02d", days, x.From, x.To))
		i = j
	}
	return strings.Join(out, ", ")
}
