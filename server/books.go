package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/stream/recipe"
	"unlatch/store"
)

// recipeView is a recipe with the paths that it makes for the first channel.
type recipeView struct {
	recipe.Recipe
	Examples []string `json:"examples" doc:"of channel 1, main stream first"`
	Channels bool     `json:"channels" doc:"the channel stands in the path"`
}

type bookView struct {
	ID       *uuid.UUID        `json:"id,omitempty" doc:"missing for the books of the product"`
	Name     string            `json:"name"`
	Note     string            `json:"note,omitempty"`
	Recipes  []recipeView      `json:"recipes"`
	Commands []bookCommandView `json:"commands"`
}

// bookCommandView is a command as a book lists it.
type bookCommandView struct {
	Name     string   `json:"name"`
	Does     string   `json:"does"`
	Maker    string   `json:"maker"`
	Sets     []string `json:"sets" doc:"the names of its values"`
	Restarts bool     `json:"restarts,omitempty"`
}

func viewOfBook(id *uuid.UUID, b *recipe.Book) bookView {
	v := bookView{ID: id, Name: b.Name, Note: b.Note, Recipes: []recipeView{}, Commands: []bookCommandView{}}
	for _, c := range b.Commands {
		view := bookCommandView{Name: c.Name, Does: c.Does, Maker: c.Maker, Sets: []string{}, Restarts: c.Restarts}
		for _, value := range c.Values {
			view.Sets = append(view.Sets, value.Name)
		}
		v.Commands = append(v.Commands, view)
	}
	for _, r := range b.Recipes {
		view := recipeView{Recipe: r, Examples: []string{}, Channels: r.Path.HasChannel()}
		for _, values := range r.Path.All(1, false) {
			if path, err := r.Path.Expand(values); err == nil {
				view.Examples = append(view.Examples, path)
			}
		}
		v.Recipes = append(v.Recipes, view)
	}
	return v
}

type mergedView struct {
	Added     int               `json:"added"`
	Conflicts []recipe.Conflict `json:"conflicts" doc:"recipes of one name that differ; ours stayed"`
}

// BookPath names a path book. It is exported because huma reads exported fields only.
type BookPath struct {
	Book uuid.UUID `path:"book"`
}

// pathBooks serve the books of recipes.
type pathBooks struct{ resource }

func (s pathBooks) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-path-books", Method: "GET", Path: "/api/path-books",
		Summary: "All path books with their recipes"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []bookView }, error) {
			own, err := s.store.Books.List(ctx)
			if err != nil {
				return nil, s.explain(err)
			}
			out := &struct{ Body []bookView }{Body: []bookView{}}
			for _, b := range own {
				out.Body = append(out.Body, viewOfBook(&b.ID, b.Book))
			}
			for _, b := range recipe.Shipped() {
				out.Body = append(out.Body, viewOfBook(nil, b))
			}
			return out, nil
		})
	register(s, api, huma.Operation{OperationID: "add-path-book", Method: "POST", Path: "/api/path-books",
		Summary: "Bring a path book; one of the same name is added to", DefaultStatus: 201, MaxBodyBytes: 2 << 20},
		func(ctx context.Context, in *struct {
			Body struct {
				YAML string `json:"yaml" maxLength:"1048576"`
			}
		}) (*struct{ Body mergedView }, error) {
			b, err := recipe.ReadBook([]byte(in.Body.YAML))
			var bad *recipe.BookError
			if errors.As(err, &bad) {
				return nil, problem(422, "bad_book", "The path book cannot be read: "+bad.Error()+".",
					"Mend it there and bring it again. What was typed is kept.")
			}
			if err != nil {
				return nil, s.explain(err)
			}
			done, err := s.do(ctx, act.BringBook{Kind: act.PathBooks, Name: b.Name, YAML: in.Body.YAML, Operation: "add-path-book"})
			if err != nil {
				return nil, err
			}
			merged, _ := done.Results[0].(store.Merged)
			return &struct{ Body mergedView }{mergedView{merged.Added, append([]recipe.Conflict{}, merged.Conflicts...)}}, nil
		})
	register(s, api, huma.Operation{OperationID: "delete-path-book", Method: "DELETE", Path: "/api/path-books/{book}",
		Summary: "Remove a path book of one's own"},
		func(ctx context.Context, in *BookPath) (*struct{}, error) {
			return s.keep(ctx, act.DeleteBook{Kind: act.PathBooks, ID: in.Book, Operation: "delete-path-book"})
		})
}

// bookFile sends a path book as the file that others can bring.
func (s pathBooks) bookFile(w http.ResponseWriter, r *http.Request) {
	id, err := uuid.Parse(chi.URLParam(r, "book"))
	if err != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	own, err := s.store.Books.List(r.Context())
	if err != nil {
		s.fail(w, err)
		return
	}
	for _, b := range own {
		if b.ID == id {
			w.Header().Set("Content-Type", "application/yaml; charset=utf-8")
			w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", "path-book.yaml"))
			w.Write([]byte(b.YAML))
			return
		}
	}
	writeProblem(w, problem(404, "not_found", "There is no such path book.", ""))
}
