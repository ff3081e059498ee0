package yamlfile

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"
)

// A Book is a file with a name, a note, and a list of things that have names of their own.
type Book[T any] struct {
	Name, Note string
	List       []T
}

// BookForm says how a book is written.
type BookForm[T any] struct {
	What string // in errors: "an intake book"
	Key  string // of the list: "intakes"
	Most int    // entries of the list
	Read func(*yaml.Node) (T, error)
	Name func(T) string // of an entry, which stands in the book once, whatever its case
}

// ReadBook reads a book from its root, see Root.
func ReadBook[T any](root *yaml.Node, form BookForm[T]) (b Book[T], err error) {
	for key, value := range Pairs(root) {
		switch key.Value {
		case "name":
			b.Name, err = Text("name", value)
		case "note":
			b.Note, err = Text("note", value)
		case form.Key:
			b.List, err = form.list(value)
		default:
			err = At(key, fmt.Sprintf("%s has no %q; it has name, note and %s", form.What, key.Value, form.Key))
		}
		if err != nil {
			return b, err
		}
	}
	if strings.TrimSpace(b.Name) == "" {
		return b, At(root, fmt.Sprintf("%s needs a name", form.What))
	}
	return b, nil
}

func (form BookForm[T]) list(n *yaml.Node) (out []T, err error) {
	if n.Kind != yaml.SequenceNode {
		return nil, At(n, form.Key+" is a list")
	}
	if len(n.Content) > form.Most {
		return nil, At(n, fmt.Sprintf("%s has at most %d %s", form.What, form.Most, form.Key))
	}
	seen := map[string]bool{}
	for _, c := range n.Content {
		x, err := form.Read(c)
		if err != nil {
			return nil, err
		}
		name := strings.ToLower(form.Name(x))
		if seen[name] {
			return nil, At(c, fmt.Sprintf("%q stands in the book twice", form.Name(x)))
		}
		seen[name] = true
		out = append(out, x)
	}
	return out, nil
}
