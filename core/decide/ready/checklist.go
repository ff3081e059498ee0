package ready

import (
	"fmt"
	"slices"
	"time"

	"go.yaml.in/yaml/v3"

	"unlatch/core/decide/latch"
	"unlatch/core/ground/wiretext"
	"unlatch/core/ground/yamlfile"
	"unlatch/core/stream/sighting"
)

// Bounds of a checklist.
const (
	MostChecklist = 64 << 10 // bytes
	mostItems     = 200
	longestTitle  = 200
)

// A Checklist is what a firm or a site goes through before it hands a site over. docs/handover-checklist.schema.json has its form.
type Checklist struct {
	Name  string `json:"name"`
	Items []Item `json:"items"`
}

// An Item is ticked by evidence where Ticks is set, and attested by a person otherwise.
type Item struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Ticks string `json:"ticks,omitempty" doc:"the rule by which evidence ticks it; missing where a person attests it"`
	Line  int    `json:"-"`
}

// Attested is that a person says that an item is done.
type Attested struct {
	By   string    `json:"by"`
	At   time.Time `json:"at"`
	Note string    `json:"note,omitempty"`
}

// A Checked is an item with how it stands.
type Checked struct {
	Item
	Done     bool      `json:"done"`
	Attested *Attested `json:"attested,omitempty"`
}

// Rules by which evidence ticks an item, besides the causes: an item that ticks by a cause is done when no finding of it is open.
const (
	TicksFinished = "finished"    // every camera has passed its latches
	TicksWalked   = "walk_tested" // every camera has passed a walk test
	TicksAgreed   = "agreed"      // a state was agreed on
	TicksWatched  = "watched"     // the site is looked at in rounds
)

// Rules returns all rules by which evidence ticks an item.
func Rules() []string {
	out := []string{TicksFinished, TicksWalked, TicksAgreed, TicksWatched}
	for _, c := range Causes {
		out = append(out, string(c))
	}
	return out
}

// DefaultChecklist is the one of who has written none.
const DefaultChecklist = `name: Handover
items:
  - id: finished
    title: Every camera shows its picture on every target
    ticks: finished
  - id: agreed
    title: The state that is handed over is agreed on
    ticks: agreed
  - id: shown
    title: The customer was shown how to look at the pictures
`

// ReadChecklist reads a checklist. Its error is a *yamlfile.Error with the line.
func ReadChecklist(raw []byte) (c Checklist, err error) {
	root, err := yamlfile.Root(raw, "checklist", MostChecklist)
	if err != nil {
		return c, err
	}
	for key, n := range yamlfile.Pairs(root) {
		switch key.Value {
		case "name":
			if c.Name, err = yamlfile.Text("name", n); err != nil {
				return c, err
			}
		case "items":
			list, err := yamlfile.List("items", n, mostItems)
			if err != nil {
				return c, err
			}
			for _, x := range list {
				item, err := readItem(x)
				if err != nil {
					return c, err
				}
				if slices.ContainsFunc(c.Items, func(i Item) bool { return i.ID == item.ID }) {
					return c, yamlfile.At(x, fmt.Sprintf("two items have the id %q", item.ID))
				}
				c.Items = append(c.Items, item)
			}
		default:
			return c, yamlfile.At(key, fmt.Sprintf("a checklist has no %q: it has name and items", key.Value))
		}
	}
	if c.Name = wiretext.Line(c.Name, longestTitle); c.Name == "" {
		return c, yamlfile.At(root, "the checklist has no name")
	}
	if len(c.Items) == 0 {
		return c, yamlfile.At(root, "the checklist has no items")
	}
	return c, nil
}

func readItem(n *yaml.Node) (item Item, err error) {
	if n.Kind != yaml.MappingNode {
		return item, yamlfile.At(n, "an item is written as id, title and, where evidence ticks it, ticks")
	}
	item.Line = n.Line
	for key, v := range yamlfile.Pairs(n) {
		var into *string
		switch key.Value {
		case "id":
			into = &item.ID
		case "title":
			into = &item.Title
		case "ticks":
			into = &item.Ticks
		default:
			return item, yamlfile.At(key, fmt.Sprintf("an item has no %q: it has id, title and ticks", key.Value))
		}
		if *into, err = yamlfile.Text(key.Value, v); err != nil {
			return item, err
		}
		if key.Value == "ticks" && !slices.Contains(Rules(), item.Ticks) {
			return item, yamlfile.At(v, fmt.Sprintf("nothing ticks by %q", wiretext.Line(item.Ticks, 60)))
		}
	}
	item.ID, item.Title = wiretext.Line(item.ID, 60), wiretext.Line(item.Title, longestTitle)
	switch {
	case item.ID == "":
		return item, yamlfile.At(n, "the item has no id")
	case item.Title == "":
		return item, yamlfile.At(n, "the item has no title")
	}
	return item, nil
}

// Check returns how the items of a checklist stand, by what was found and by what people attest.
func (s *Site) Check(c Checklist, found []Finding, attested map[string]Attested) []Checked {
	out := []Checked{}
	for _, item := range c.Items {
		x := Checked{Item: item}
		if item.Ticks != "" {
			x.Done = s.ticks(item.Ticks, found)
		} else if a, ok := attested[item.ID]; ok {
			x.Done, x.Attested = true, &a
		}
		out = append(out, x)
	}
	return out
}

// ticks reports whether evidence says that an item is done.
func (s *Site) ticks(rule string, found []Finding) bool {
	every := func(holds func(*latch.Device) bool) bool {
		n := 0
		for _, d := range s.own() {
			if d.Status.Device.Kind != sighting.Camera {
				continue
			}
			if n++; !holds(d) {
				return false
			}
		}
		return n > 0
	}
	switch rule {
	case TicksFinished:
		return every(func(d *latch.Device) bool { return d.Status.At() == "" })
	case TicksWalked:
		return every(func(d *latch.Device) bool { return d.Status.Walked != nil })
	case TicksAgreed:
		return s.Agreed
	case TicksWatched:
		return s.Watched
	}
	return !slices.ContainsFunc(found, func(f Finding) bool { return f.Cause == Cause(rule) && len(f.Things) > 0 })
}

// Undone returns how many items are not done.
func Undone(list []Checked) (n int) {
	for _, x := range list {
		if !x.Done {
			n++
		}
	}
	return n
}
