// Package yamlfile reads YAML files that people write and exchange, path books and intake books for two. Each key is taken by hand, so that
// every error has its line and column, and a file cannot grow when it is read: it has no aliases, and is nested no deeper than it needs.
package yamlfile

import (
	"fmt"
	"iter"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// An Error says where a file cannot be read.
type Error struct {
	Line, Column int // counted from 1; 0 where the file as a whole is meant
	Problem      string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Problem
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Problem)
}

// At returns an Error at a node.
func At(n *yaml.Node, problem string) *Error {
	return &Error{Line: n.Line, Column: n.Column, Problem: problem}
}

const maxDepth = 8

// Root reads a file of at most so many bytes, and returns the mapping that it is. what names the file in errors: "a path book".
func Root(raw []byte, what string, most int) (*yaml.Node, error) {
	if len(raw) > most {
		return nil, &Error{Problem: fmt.Sprintf("%s has at most %d bytes", what, most)}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(raw, &doc); err != nil {
		return nil, fromLibrary(err)
	}
	if doc.Kind == 0 || len(doc.Content) == 0 {
		return nil, &Error{Line: 1, Column: 1, Problem: what + " is empty"}
	}
	if err := check(&doc, what, 0); err != nil {
		return nil, err
	}
	if root := doc.Content[0]; root.Kind == yaml.MappingNode {
		return root, nil
	}
	return nil, At(doc.Content[0], what+" begins with a key and a colon, such as name:")
}

// check refuses aliases, by which a small file could grow without end, and what is nested too deep.
func check(n *yaml.Node, what string, depth int) error {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		return At(n, what+" has no anchors or aliases")
	}
	if depth > maxDepth {
		return At(n, "this is nested too deep")
	}
	for _, c := range n.Content {
		if err := check(c, what, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// fromLibrary takes the line out of the library's message.
func fromLibrary(err error) *Error {
	text := strings.TrimPrefix(err.Error(), "yaml: ")
	var line int
	if n, _ := fmt.Sscanf(text, "line %d:", &line); n == 1 {
		_, text, _ = strings.Cut(text, ": ")
	}
	return &Error{Line: max(line, 1), Column: 1, Problem: text}
}

// Pairs returns the keys and values of a mapping.
func Pairs(n *yaml.Node) iter.Seq2[*yaml.Node, *yaml.Node] {
	return func(yield func(key, value *yaml.Node) bool) {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if !yield(n.Content[i], n.Content[i+1]) {
				return
			}
		}
	}
}

// Text returns a value of at most 2000 characters.
func Text(key string, n *yaml.Node) (string, error) {
	if n.Kind != yaml.ScalarNode {
		return "", At(n, key+" is one text")
	}
	if len(n.Value) > 2000 {
		return "", At(n, key+" is too long")
	}
	return n.Value, nil
}

// List returns the values of a list, or the one value where there is no list.
func List(key string, n *yaml.Node, most int) ([]*yaml.Node, error) {
	switch {
	case n.Kind == yaml.ScalarNode:
		return []*yaml.Node{n}, nil
	case n.Kind != yaml.SequenceNode:
		return nil, At(n, key+" is a list")
	case len(n.Content) > most:
		return nil, At(n, fmt.Sprintf("%s has at most %d entries", key, most))
	}
	return n.Content, nil
}

// Number returns a number from least to most.
func Number(key string, n *yaml.Node, least, most float64) (float64, error) {
	v, err := strconv.ParseFloat(n.Value, 64)
	if n.Kind != yaml.ScalarNode || err != nil || !(v >= least && v <= most) {
		return 0, At(n, fmt.Sprintf("%s is a number from %g to %g", key, least, most))
	}
	return v, nil
}
