package recipe

import (
	"context"
	"slices"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
)

// A Reading is one way to read the paths of pasted URLs.
type Reading struct {
	Path     string   `json:"path" doc:"the recipe's shape"`
	Name     string   `json:"name" doc:"the recipe of a path book, or what it was learned as"`
	Why      []string `json:"why"`
	Channel  int      `json:"channel" doc:"of the first URL"`
	Role     string   `json:"role"`
	Channels bool     `json:"channels" doc:"the channel stands in the path: one URL gives all"`
	Streams  int      `json:"streams" doc:"how many streams it tells apart"`
}

// Readings returns the recipes that explain the URLs of the first one's host: those of the path books, then what can be learned. Those that
// were found when ctx ends are returned.
func Readings(ctx context.Context, repaired []streamurl.Repaired, books []*Book) []Reading {
	out := []Reading{}
	var paths []string
	host := ""
	for _, r := range repaired {
		if !r.OK || host != "" && r.URL.Host != host || len(paths) == MaxLearn {
			continue
		}
		if host = r.URL.Host; !slices.Contains(paths, r.URL.Target()) {
			paths = append(paths, r.URL.Target())
		}
	}
	if len(paths) == 0 {
		return out
	}
	add := func(t Template, name string, why []string, v Values) {
		if !slices.ContainsFunc(out, func(o Reading) bool { return o.Path == t.String() }) {
			out = append(out, Reading{Path: t.String(), Name: name, Why: why, Channel: v.Channel, Role: camera.Roles[v.Stream-1],
				Channels: t.HasChannel(), Streams: t.Streams()})
		}
	}
	for _, b := range books {
		for _, r := range b.Recipes {
			if ctx.Err() != nil {
				return out
			}
			if first := r.Path.Invert(paths[0]); len(first) > 0 && explainsAll(r.Path, paths) {
				add(r.Path, r.Name, []string{"the path book “" + b.Name + "” knows this shape"}, first[0])
			}
		}
	}
	for _, p := range Learn(paths) {
		if len(out) == 8 {
			break
		}
		add(p.Path, "learned from the pasted URL", p.Why, p.Values[0])
	}
	return out
}

func explainsAll(t Template, paths []string) bool {
	for _, p := range paths {
		if len(t.Invert(p)) == 0 {
			return false
		}
	}
	return true
}
