package server

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/store"
)

// needs marks an operation that changes nothing with the right to it. An operation that is not marked needs act.See. What an act needs, the
// act itself says.
func needs(right act.Right) map[string]any { return map[string]any{"right": right} }

// readsWith is reads for an operation that needs a right.
func readsWith(right act.Right) map[string]any { return map[string]any{"reads": true, "right": right} }

// isAct reports whether an operation changes something for whoever is signed in.
func isAct(op huma.Operation) bool {
	return op.Method != http.MethodGet && op.Metadata["reads"] != true && op.Metadata["open"] != true
}

// rightToRead returns the right that an operation needs which changes nothing; "" for acts, and for what nobody has to sign in for.
func rightToRead(op huma.Operation) act.Right {
	if isAct(op) || op.Metadata["open"] == true {
		return ""
	}
	if right, ok := op.Metadata["right"].(act.Right); ok {
		return right
	}
	return act.See
}

// mayRead refuses whoever lacks a right to read; "" needs none.
func (s resource) mayRead(ctx context.Context, right act.Right) error {
	if right == "" || person(ctx).Role.May(right) {
		return nil
	}
	return s.explain(act.ErrForbidden)
}

// requireGiven returns an error if the site, or the site of the thing, is not given to whoever is signed in: for them it does not exist.
func (s resource) requireGiven(ctx context.Context, kind store.Thing, id uuid.UUID) error {
	p := person(ctx)
	if p.EverySite() || p.ID == uuid.Nil { // nobody is signed in: the operation is open to all, and names nothing of a site
		return nil
	}
	site, err := id, error(nil)
	if kind != store.ThingSite {
		site, err = s.store.Sites.Of(ctx, kind, id)
	}
	if err == nil && !p.Given(site) {
		err = store.ErrNotFound
	}
	return s.explain(err)
}

// sitesOf returns the sites that exist for who is signed in; nil means all of them.
func sitesOf(ctx context.Context) []uuid.UUID {
	p := person(ctx)
	switch {
	case p.EverySite():
		return nil
	case p.Sites == nil:
		return []uuid.UUID{}
	}
	return p.Sites
}

// pathThings are what paths outside the described API name.
var pathThings = map[string]store.Thing{"site": store.ThingSite, "device": store.ThingDevice, "still": store.ThingStill,
	"record": store.ThingRecord}

// withRight guards a handler outside the described API as register guards those within: by a right, and by the site of what its path names.
func (s resource) withRight(right act.Right) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			for name, kind := range pathThings {
				text := chi.URLParam(r, name)
				if text == "" {
					continue
				}
				id, err := uuid.Parse(text)
				if err != nil {
					s.fail(w, store.ErrNotFound)
					return
				}
				if err := s.requireGiven(r.Context(), kind, id); err != nil {
					s.fail(w, err)
					return
				}
			}
			if err := s.mayRead(r.Context(), right); err != nil {
				s.fail(w, err)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}
