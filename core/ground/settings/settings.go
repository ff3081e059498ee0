// Package settings reads and writes the configuration file of a server: one YAML mapping from the names of settings to their values. The
// names are those of the command's flags, so that there is one list of what can be set.
package settings

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"unlatch/core/ground/yamlfile"
)

// MostBytes is how large a configuration file may be, and mostValues how many values a list of it may have.
const (
	MostBytes  = 64 << 10
	mostValues = 64
)

// A Setting is something that can be set.
type Setting struct {
	Name    string // as the flag is called, without its dashes: "public-url"
	Usage   string
	Default string
	List    bool // whether it takes several values
	Secret  bool // whether its value is a secret: a file that holds one must not be readable by everybody
}

// A Value is what a file says about a setting.
type Value struct {
	Setting
	Texts        []string // one, unless the setting is a list
	Line, Column int      // of the value, counted from 1
}

// At returns an error that names the place of the value in its file.
func (v Value) At(problem string) error {
	return &yamlfile.Error{Line: v.Line, Column: v.Column, Problem: v.Name + ": " + problem}
}

// Read reads a file. Every error but that of a file that is too large is a *yamlfile.Error with line and column. A file that sets nothing
// is right.
func Read(raw []byte, known []Setting) ([]Value, error) {
	if line, ok := tab(raw); ok {
		return nil, &yamlfile.Error{Line: line, Column: 1, Problem: "the line begins with a tab: YAML is indented by spaces"}
	}
	if blank(raw) {
		return nil, nil
	}
	root, err := yamlfile.Root(raw, "a configuration file", MostBytes)
	if err != nil {
		return nil, err
	}
	var out []Value
	for key, value := range yamlfile.Pairs(root) {
		v, err := read(key, value, known)
		if err != nil {
			return nil, err
		}
		if i := slices.IndexFunc(out, func(o Value) bool { return o.Name == v.Name }); i >= 0 {
			return nil, yamlfile.At(key, fmt.Sprintf("%s is set twice; the first time in line %d", v.Name, out[i].Line))
		}
		out = append(out, v)
	}
	return out, nil
}

func read(key, value *yaml.Node, known []Setting) (v Value, err error) {
	i := slices.IndexFunc(known, func(s Setting) bool { return s.Name == key.Value })
	if i < 0 {
		problem := fmt.Sprintf("there is no setting %q", key.Value)
		if near := nearest(key.Value, known); near != "" {
			problem += "; did you mean " + near + "?"
		}
		return v, yamlfile.At(key, problem)
	}
	v = Value{Setting: known[i], Line: value.Line, Column: value.Column}
	nodes := []*yaml.Node{value}
	if v.List {
		if nodes, err = yamlfile.List(v.Name, value, mostValues); err != nil {
			return v, err
		}
	}
	for _, n := range nodes {
		if n.Tag == "!!null" {
			return v, yamlfile.At(n, v.Name+" has no value: write one, or begin the line with #")
		}
		text, err := yamlfile.Text(v.Name, n)
		if err != nil {
			return v, err
		}
		v.Texts = append(v.Texts, text)
	}
	return v, nil
}

// Secrets returns the names of those values that are secrets.
func Secrets(values []Value) (names []string) {
	for _, v := range values {
		if v.Secret {
			names = append(names, v.Name)
		}
	}
	return names
}

// Write writes a file that sets nothing: every setting with its usage and its default, each commented out.
func Write(known []Setting) []byte {
	var b bytes.Buffer
	b.WriteString("# Settings of Unlatch's server and its workers. A line that begins with # sets nothing and shows the default.\n" +
		"# A flag on the command line wins over an environment variable, that over a credential of systemd, and that over this file.\n" +
		"# Check the file after a change: unlatch config check\n")
	sorted := slices.SortedFunc(slices.Values(known), func(a, b Setting) int { return cmp.Compare(a.Name, b.Name) })
	for _, s := range sorted {
		b.WriteString("\n")
		for _, line := range wrap(s.Usage, 100) {
			b.WriteString("# " + line + "\n")
		}
		b.WriteString("# Environment: " + Variable(s.Name) + "\n")
		switch {
		case s.List:
			fmt.Fprintf(&b, "#%s: []\n", s.Name)
		case s.Default == "":
			fmt.Fprintf(&b, "#%s: \"\"\n", s.Name)
		default:
			fmt.Fprintf(&b, "#%s: %s\n", s.Name, s.Default)
		}
	}
	return b.Bytes()
}

// Variable returns the environment variable that a setting is read from: UNLATCH_PUBLIC_URL for "public-url".
func Variable(name string) string {
	return "UNLATCH_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// tab returns the number of the first line that is indented by a tab.
func tab(raw []byte) (line int, ok bool) {
	for text := range bytes.Lines(raw) {
		line++
		if indent := text[:len(text)-len(bytes.TrimLeft(text, " \t"))]; bytes.ContainsRune(indent, '\t') {
			return line, len(bytes.TrimSpace(text)) > 0
		}
	}
	return 0, false
}

// blank reports whether a file holds nothing but comments.
func blank(raw []byte) bool {
	for text := range bytes.Lines(raw) {
		if text = bytes.TrimSpace(text); len(text) > 0 && text[0] != '#' {
			return false
		}
	}
	return true
}

// nearest returns the name of the setting that was likely meant; "" where none is near.
func nearest(name string, known []Setting) (near string) {
	least := 3 // more wrong letters than two make it another word
	name = strings.ToLower(strings.ReplaceAll(name, "_", "-"))
	for _, s := range known {
		if d := distance(name, s.Name); d < least {
			near, least = s.Name, d
		}
	}
	return near
}

// distance returns how many letters have to be put in, left out or changed to make b of a.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		corner := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := corner
			if a[i] != b[j] {
				change++
			}
			corner = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// wrap breaks a text into lines of at most so many characters.
func wrap(text string, most int) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len(line)+1+len(word) > most {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}
