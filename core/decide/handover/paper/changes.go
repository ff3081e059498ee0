package paper

import (
	"bytes"
	"strings"

	"unlatch/core/decide/handover"
	"unlatch/core/decide/words"
)

// Changes writes what has changed since a version as a paper.
func Changes(c *handover.Changes, l *words.Language) (handover.File, error) {
	name := l.Text("paper.changes") + ": " + c.Name
	s := newSheet(A4, l, name, c.To.At)
	s.page()
	s.head(name, 0, 30)
	to := l.Time(c.To.At)
	if c.To.Number > 0 {
		to = l.Text("paper.version", "n", c.To.Number) + ", " + to
	}
	s.para(body, l.Text("paper.version", "n", c.From.Number)+", "+l.Time(c.From.At)+" – "+to)
	s.gap(3)
	rows := [][]cell{}
	for _, x := range c.Changes {
		var what, why []string
		for _, f := range x.Fields {
			label := f.Words
			if l.Has("field." + string(f.Field)) {
				label = l.Text("field." + string(f.Field))
			}
			what = append(what, label+": "+or(f.Was, "?")+" → "+or(f.Is, "?"))
		}
		if len(what) == 0 {
			what = append(what, l.Text("paper.presence."+string(x.Is)))
		}
		for _, r := range x.Reasons {
			why = append(why, l.Date(r.At)+" "+r.By+": "+strings.TrimSpace(r.Action+" "+r.After))
		}
		rows = append(rows, []cell{text(x.Title), text(strings.Join(what, "; ")), text(strings.Join(why, "; "))})
	}
	if len(rows) == 0 {
		s.para(body, l.Text("paper.no_changes"))
	}
	s.table([]string{l.Text("paper.of_device"), l.Text("paper.changes"), l.Text("paper.reason")}, []float64{2, 4, 4}, rows)
	var b bytes.Buffer
	if err := s.finish(&b, nil, name); err != nil {
		return handover.File{}, err
	}
	return handover.File{Path: "changes.pdf", Type: "application/pdf", Data: b.Bytes()}, nil
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
