package recipe

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"unlatch/core/ground/streamurl"
)

// Amend looks at a repaired URL with the eyes of path books: a path that no recipe makes, and one would but for its capitals, has come
// with the wrong ones; a path that a recipe reads as multicast has a unicast sister. Faults in skip are left as they are. It looks at every
// recipe of the books; if ctx ends first, the URL stays as it is and the error is ctx.Err().
func Amend(ctx context.Context, r *streamurl.Repaired, books []*Book, skip ...streamurl.Fault) error {
	if !r.OK {
		return nil
	}
	given := r.URL.Target()
	cased, book := "", ""
	for _, b := range books {
		for _, x := range b.Recipes {
			if x.Purpose != Stream {
				continue
			}
			if err := ctx.Err(); err != nil {
				return err
			}
			if values := x.Path.Invert(given); len(values) > 0 {
				if v := values[0]; v.Multicast && x.Path.HasCast() {
					v.Multicast = false
					if path, err := x.Path.Expand(v); err == nil && !slices.Contains(skip, streamurl.Multicast) {
						change(r, path, streamurl.Multicast, "it asks for multicast, which reaches a viewer only where every switch on the way carries it")
					}
				}
				return nil // some recipe has it as it is
			}
			if path, ok := x.Path.recase(given); ok && cased == "" {
				cased, book = path, b.Name
			}
		}
	}
	if cased != "" && !slices.Contains(skip, streamurl.Case) {
		change(r, cased, streamurl.Case, fmt.Sprintf("capitals and small letters are not as the path book “%s” has them; many devices tell "+
			"them apart", book))
	}
	return nil
}

func change(r *streamurl.Repaired, path string, f streamurl.Fault, problem string) {
	r.Findings = append(r.Findings, streamurl.Finding{Fault: f, Problem: problem, Becomes: path})
	r.URL.Path, r.URL.Query, _ = strings.Cut(path, "?")
}

// head returns the text that every path of the template begins with.
func (t Template) head() string {
	if len(t.parts) == 0 || t.parts[0].kind != literal {
		return ""
	}
	return t.parts[0].text
}

// recase writes a path as the template has it, where they differ by capitals alone.
func (t Template) recase(text string) (string, bool) {
	if head := t.head(); len(text) < len(head) || !strings.EqualFold(text[:len(head)], head) {
		return "", false
	}
	lower, err := Parse(strings.ToLower(t.text))
	if err != nil {
		return "", false
	}
	for _, v := range lower.Invert(strings.ToLower(text)) {
		if path, err := t.Expand(v); err == nil && path != text && strings.EqualFold(path, text) {
			return path, true
		}
	}
	return "", false
}
