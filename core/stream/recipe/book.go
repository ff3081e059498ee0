package recipe

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"unlatch/core/ground/yamlfile"
)

// A Purpose is what a recipe's URL gives.
type Purpose string

const (
	Stream   Purpose = "stream"   // RTSP
	Snapshot Purpose = "snapshot" // one JPEG over HTTP
	MJPEG    Purpose = "mjpeg"    // JPEGs without end over HTTP
)

// A Recipe is one shape with what is known of where it fits.
type Recipe struct {
	Name       string   `yaml:"name" json:"name"`
	Purpose    Purpose  `yaml:"purpose,omitempty" json:"purpose" doc:"stream where it is missing" enum:"stream,snapshot,mjpeg"`
	Path       Template `yaml:"-" json:"-"`
	Shape      string   `yaml:"path" json:"path" doc:"the template, from the first / on"`
	Port       int      `yaml:"port,omitempty" json:"port,omitempty" doc:"0 for the scheme's own"`
	Maker      string   `yaml:"maker,omitempty" json:"maker,omitempty" doc:"a pattern with * and ?, without case; empty fits all"`
	Model      string   `yaml:"model,omitempty" json:"model,omitempty"`
	Server     string   `yaml:"server,omitempty" json:"server,omitempty" doc:"the Server line of the stream service"`
	Realm      string   `yaml:"realm,omitempty" json:"realm,omitempty" doc:"of its challenge"`
	Confidence string   `yaml:"confidence,omitempty" json:"confidence,omitempty" enum:"sure,likely,guess" doc:"guess where it is missing"`
	Note       string   `yaml:"note,omitempty" json:"note,omitempty"`
}

// A Book is a file of recipes.
type Book struct {
	Name    string   `yaml:"name" json:"name"`
	Note    string   `yaml:"note,omitempty" json:"note,omitempty"`
	Recipes []Recipe `yaml:"recipes" json:"recipes"`
	// Commands are what devices can be told on their makers' own pages.
	Commands []Command `yaml:"commands,omitempty" json:"commands,omitempty"`
}

// Limits of a book.
const (
	MaxBook    = 1 << 20 // bytes
	MaxRecipes = 5000
)

// A BookError says where a book cannot be read.
type BookError = yamlfile.Error

// ReadBook reads a path book in YAML. Its errors are *BookError, with line and column.
func ReadBook(raw []byte) (*Book, error) {
	root, err := yamlfile.Root(raw, "a path book", MaxBook)
	if err != nil {
		return nil, err
	}
	b := &Book{}
	for key, value := range yamlfile.Pairs(root) {
		switch key.Value {
		case "name":
			b.Name = value.Value
		case "note":
			b.Note = value.Value
		case "recipes":
			if value.Kind != yaml.SequenceNode {
				return nil, yamlfile.At(value, "recipes is a list")
			}
			if len(value.Content) > MaxRecipes {
				return nil, yamlfile.At(value, fmt.Sprintf("a path book has at most %d recipes", MaxRecipes))
			}
			for _, n := range value.Content {
				r, err := readRecipe(n)
				if err != nil {
					return nil, err
				}
				b.Recipes = append(b.Recipes, r)
			}
		case "commands":
			if b.Commands, err = readCommands(value); err != nil {
				return nil, err
			}
		default:
			return nil, yamlfile.At(key, fmt.Sprintf("a path book has no %q; it has name, note, recipes and commands", key.Value))
		}
	}
	if strings.TrimSpace(b.Name) == "" {
		return nil, yamlfile.At(root, "the path book has no name")
	}
	return b, nil
}

func readRecipe(n *yaml.Node) (Recipe, error) {
	if n.Kind != yaml.MappingNode {
		return Recipe{}, yamlfile.At(n, "a recipe begins with name: and path:")
	}
	r := Recipe{Purpose: Stream, Confidence: "guess"}
	var path *yaml.Node
	for key, value := range yamlfile.Pairs(n) {
		if _, err := yamlfile.Text(key.Value, value); err != nil {
			return r, err
		}
		switch key.Value {
		case "name":
			r.Name = value.Value
		case "path":
			path, r.Shape = value, value.Value
		case "purpose":
			if r.Purpose = Purpose(value.Value); !slices.Contains([]Purpose{Stream, Snapshot, MJPEG}, r.Purpose) {
				return r, yamlfile.At(value, "purpose is stream, snapshot or mjpeg")
			}
		case "port":
			if n, err := fmt.Sscanf(value.Value, "%d", &r.Port); n != 1 || err != nil || r.Port < 1 || r.Port > 65535 {
				return r, yamlfile.At(value, "port is a number from 1 to 65535")
			}
		case "maker":
			r.Maker = value.Value
		case "model":
			r.Model = value.Value
		case "server":
			r.Server = value.Value
		case "realm":
			r.Realm = value.Value
		case "confidence":
			if r.Confidence = value.Value; !slices.Contains([]string{"sure", "likely", "guess"}, r.Confidence) {
				return r, yamlfile.At(value, "confidence is sure, likely or guess")
			}
		case "note":
			r.Note = value.Value
		default:
			return r, yamlfile.At(key, fmt.Sprintf("a recipe has no %q", key.Value))
		}
	}
	if path == nil {
		return r, yamlfile.At(n, "the recipe has no path")
	}
	if r.Name == "" {
		r.Name = r.Shape
	}
	return r, r.compile(path)
}

// compile parses the shape; node is where it stands in its file.
func (r *Recipe) compile(node *yaml.Node) error {
	t, err := Parse(r.Shape)
	if err == nil && !strings.HasPrefix(r.Shape, "/") {
		err = &SyntaxError{1, "a path begins with /"}
	}
	if err != nil {
		e := yamlfile.At(node, err.Error())
		if syntax, ok := err.(*SyntaxError); ok {
			e.Problem = syntax.Problem
			e.Column += syntax.Column - 1
			if node.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
				e.Column++ // the quote stands before it
			}
		}
		return e
	}
	r.Path = t
	return nil
}

// Write writes the book as YAML that ReadBook reads back.
func (b *Book) Write() ([]byte, error) { return yaml.Marshal(b) }

// A Device is what is known of a device that a recipe may fit.
type Device struct {
	Maker, Model, Server, Realm string
}

// Rank returns how well a recipe fits a device: 0 for not at all, more for more matchers that really matched, and for confidence.
func (r *Recipe) Rank(d Device) int {
	score := map[string]int{"sure": 3, "likely": 2, "guess": 1}[r.Confidence]
	for _, m := range []struct {
		pattern, text string
		worth         int
	}{{r.Maker, d.Maker, 20}, {r.Model, d.Model, 20}, {r.Server, d.Server, 10}, {r.Realm, d.Realm, 10}} {
		switch {
		case m.pattern == "":
		case m.text == "":
			score-- // not known: it may fit
		case Match(m.pattern, m.text):
			score += m.worth
		default:
			return 0
		}
	}
	return max(score, 1)
}

// Match compares a text with a pattern of * and ?, without case. It takes time in proportion to both lengths.
func Match(pattern, text string) bool {
	p, t := []rune(strings.ToLower(pattern)), []rune(strings.ToLower(text))
	star, mark := -1, 0
	i, j := 0, 0
	for j < len(t) {
		switch {
		case i < len(p) && (p[i] == '?' || p[i] == t[j]) && p[i] != '*':
			i++
			j++
		case i < len(p) && p[i] == '*':
			star, mark = i, j
			i++
		case star >= 0:
			mark++
			i, j = star+1, mark
		default:
			return false
		}
	}
	for i < len(p) && p[i] == '*' {
		i++
	}
	return i == len(p)
}

// A Conflict is two recipes of one name that differ.
type Conflict struct {
	Ours   Recipe `json:"ours"`
	Theirs Recipe `json:"theirs"`
}

// Merge adds another book's recipes and commands. A recipe that is there word for word is not added twice; one of the same name and
// another content is a conflict, and ours stays. A command takes the place of ours of the same name: it is the one that was mended.
func (b *Book) Merge(other *Book) (added []Recipe, conflicts []Conflict) {
	for _, c := range other.Commands {
		if ours := CommandNamed(b.Commands, c.Name); ours != nil {
			*ours = c
		} else {
			b.Commands = append(b.Commands, c)
		}
	}
	for _, r := range other.Recipes {
		i := slices.IndexFunc(b.Recipes, func(o Recipe) bool { return o.Name == r.Name })
		if i < 0 {
			b.Recipes = append(b.Recipes, r)
			added = append(added, r)
			continue
		}
		ours, theirs := b.Recipes[i], r
		ours.Path, theirs.Path = Template{}, Template{}
		if fmt.Sprint(ours) != fmt.Sprint(theirs) {
			conflicts = append(conflicts, Conflict{b.Recipes[i], r})
		}
	}
	return added, conflicts
}
