package handover

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
)

// A PackChange is how one device or target differs between two packs.
type PackChange struct {
	ID     uuid.UUID              `json:"id"`
	Title  string                 `json:"title"`
	Target bool                   `json:"target,omitempty"`
	Is     baseline.Presence      `json:"is" enum:"changed,new,gone"`
	Fields []baseline.FieldChange `json:"fields" doc:"of what has changed"`
	// Reasons are what the record says was done to it between the two.
	Reasons []RecordLine `json:"reasons,omitempty"`
}

// Changes are how a site differs from a version of its pack.
type Changes struct {
	Form    int          `json:"form"`
	Site    uuid.UUID    `json:"site"`
	Name    string       `json:"name"` // of the site
	From    PackPoint    `json:"from"`
	To      PackPoint    `json:"to"`
	Changes []PackChange `json:"changes"`
}

// A PackPoint is a version, or the site at a time.
type PackPoint struct {
	Number int       `json:"number,omitempty" doc:"of the version; missing for the site as it was at that time"`
	At     time.Time `json:"at"`
	Hash   string    `json:"hash,omitempty" doc:"of the version's manifest"`
}

// ChangeFiles makes the change pack: only what has changed, as JSON and as a table.
func ChangeFiles(c *Changes) ([]File, error) {
	raw, err := json.MarshalIndent(c, "", " ")
	if err != nil {
		return nil, err
	}
	s := Sheet{Name: "changes", Columns: []Column{{Title: "title"}, {Title: "is"}, {Title: "field"}, {Title: "was"}, {Title: "now"},
		{Title: "at"}, {Title: "by"}, {Title: "reason"}}}
	for _, x := range c.Changes {
		at, by, why := "", "", ""
		if len(x.Reasons) > 0 {
			r := x.Reasons[0]
			at, by, why = r.At.UTC().Format(time.RFC3339), r.By, strings.TrimSpace(r.Action+" "+r.After)
		}
		if len(x.Fields) == 0 {
			s.Rows = append(s.Rows, []any{x.Title, string(x.Is), "", "", "", at, by, why})
		}
		for _, f := range x.Fields {
			s.Rows = append(s.Rows, []any{x.Title, string(x.Is), f.Words, f.Was, f.Is, at, by, why})
		}
	}
	table, err := csvFiles([]Sheet{s})
	if err != nil {
		return nil, err
	}
	table[0].Path = "changes.csv"
	return append([]File{{Path: "changes.json", Type: "application/json", Data: append(raw, '\n')}}, table...), nil
}

// A RecordLine is what the record says of a change.
type RecordLine struct {
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Action string    `json:"action"`
	Before string    `json:"before,omitempty"`
	After  string    `json:"after,omitempty"`
}

// Compare returns how a pack differs from an earlier one, by title.
func Compare(was, is *Pack) []PackChange {
	out := []PackChange{}
	names := func(p *Pack) map[uuid.UUID]string {
		m := map[uuid.UUID]string{}
		for _, c := range p.Cameras {
			m[c.ID] = c.Name
		}
		return m
	}
	before, now := names(was), names(is)
	byID := map[uuid.UUID]*PackChange{}
	for _, c := range baseline.Compare(was.State, is.State) {
		out = append(out, PackChange{ID: c.Device, Title: c.Title, Is: c.Is, Fields: c.Fields})
	}
	for i := range out {
		byID[out[i].ID] = &out[i]
	}
	for _, c := range is.Cameras {
		name, had := before[c.ID]
		if !had || name == now[c.ID] {
			continue
		}
		change := baseline.FieldChange{Field: "name", Words: "Name", Was: name, Is: c.Name}
		if x := byID[c.ID]; x != nil {
			x.Fields = append(x.Fields, change)
		} else {
			out = append(out, PackChange{ID: c.ID, Title: c.Title, Is: baseline.Changed, Fields: []baseline.FieldChange{change}})
		}
	}
	out = append(out, compareTargets(was.State.Targets, is.State.Targets)...)
	slices.SortStableFunc(out, func(a, b PackChange) int { return strings.Compare(a.Title, b.Title) })
	return out
}

func compareTargets(was, is []baseline.Target) (out []PackChange) {
	find := func(list []baseline.Target, id uuid.UUID) *baseline.Target {
		for i := range list {
			if list[i].ID == id {
				return &list[i]
			}
		}
		return nil
	}
	for _, t := range was {
		now := find(is, t.ID)
		if now == nil {
			out = append(out, PackChange{ID: t.ID, Title: t.Name, Target: true, Is: baseline.Gone, Fields: []baseline.FieldChange{}})
		} else if fields := baseline.CompareTargets(t, *now); len(fields) > 0 {
			out = append(out, PackChange{ID: t.ID, Title: t.Name, Target: true, Is: baseline.Changed, Fields: fields})
		}
	}
	for _, t := range is {
		if find(was, t.ID) == nil {
			out = append(out, PackChange{ID: t.ID, Title: t.Name, Target: true, Is: baseline.New, Fields: []baseline.FieldChange{}})
		}
	}
	return out
}
