package tuning

import (
	"embed"
	"fmt"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"unlatch/core/ground/yamlfile"
)

// A Preset is a plan to reuse.
type Preset struct {
	Name string `json:"name"`
	Note string `json:"note,omitempty"`
	Plan Plan   `json:"-"`
}

// A PresetBook is a file of presets.
type PresetBook struct {
	Name    string
	Note    string
	Presets []Preset
}

// Limits of a book.
const (
	MaxPresetBook = 1 << 20 // bytes
	maxPresets    = 1000
)

// ReadPresets reads a book of presets in YAML: a name, and presets with the parts of a plan (docs/presets.schema.json). Its errors are
// *yamlfile.Error, with line and column.
func ReadPresets(raw []byte) (*PresetBook, error) {
	root, err := yamlfile.Root(raw, "a book of presets", MaxPresetBook)
	if err != nil {
		return nil, err
	}
	b, err := yamlfile.ReadBook(root, yamlfile.BookForm[Preset]{What: "a book of presets", Key: "presets", Most: maxPresets, Read: readPreset,
		Name: func(p Preset) string { return p.Name }})
	if err != nil {
		return nil, err
	}
	return &PresetBook{b.Name, b.Note, b.List}, nil
}

func readPreset(n *yaml.Node) (p Preset, err error) {
	if n.Kind != yaml.MappingNode {
		return p, yamlfile.At(n, "a preset begins with name:")
	}
	for key, value := range yamlfile.Pairs(n) {
		text, err := yamlfile.Text(key.Value, value)
		if err != nil {
			return p, err
		}
		switch key.Value {
		case "name":
			p.Name = strings.TrimSpace(text)
		case "note":
			p.Note = text
		default:
			part, err := ParsePlan(map[string]string{key.Value: text})
			if err != nil {
				at := value
				if bad, ok := err.(*ParseError); ok && bad.Text == key.Value {
					at = key
				}
				return p, yamlfile.At(at, err.Error())
			}
			p.Plan = p.Plan.With(part)
		}
	}
	switch {
	case p.Name == "":
		return p, yamlfile.At(n, "the preset has no name")
	case p.Plan.IsZero():
		return p, yamlfile.At(n, fmt.Sprintf("%q wants nothing: say main, sub, third or overlay", p.Name))
	}
	return p, nil
}

// Write returns the book as YAML, in the form that ReadPresets reads.
func (b *PresetBook) Write() ([]byte, error) {
	out := struct {
		Name    string      `yaml:"name"`
		Note    string      `yaml:"note,omitempty"`
		Presets []yaml.Node `yaml:"presets"`
	}{Name: b.Name, Note: b.Note}
	for _, p := range b.Presets {
		texts := p.Plan.Texts()
		n := yaml.Node{Kind: yaml.MappingNode}
		add := func(key, text string) {
			if text != "" {
				var value yaml.Node
				value.SetString(text)
				n.Content = append(n.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, &value)
			}
		}
		add("name", p.Name)
		add("note", p.Note)
		for _, part := range append(slices.Clone(roles), "overlay") {
			add(part, texts[part])
		}
		out.Presets = append(out.Presets, n)
	}
	return yaml.Marshal(out)
}

//go:embed presets/*.yaml
var shipped embed.FS

// ShippedPresets is the book that comes with the product.
var ShippedPresets = sync.OnceValue(func() *PresetBook {
	raw, err := shipped.ReadFile("presets/plain.yaml")
	if err != nil {
		panic(err)
	}
	b, err := ReadPresets(raw)
	if err != nil {
		panic("presets/plain.yaml: " + err.Error())
	}
	return b
})
