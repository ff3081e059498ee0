package server

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/siteplan"
	"unlatch/store"
)

// SitePlanPath names a plan of a site in the path. It is exported because huma reads exported fields only.
type SitePlanPath struct {
	SitePath
	Plan uuid.UUID `path:"siteplan"`
}

// mostSitePlan is how large the body may be that brings a picture: base64 in JSON takes a third more.
const mostSitePlan = siteplan.MostBytes*4/3 + 64<<10

// sitePlans serve the pictures of a site's buildings with the cameras on them. One picture is read at a time: a large one takes some
// hundred MB meanwhile.
type sitePlans struct {
	resource
	reading chan struct{}
}

func (s sitePlans) routes(api huma.API) {
	const path = "/api/sites/{site}/site-plans"
	register(s, api, huma.Operation{OperationID: "list-site-plans", Method: "GET", Path: path,
		Summary: "The pictures of a site's buildings, with where its cameras are"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []store.SitePlan }, error) {
			list, err := s.store.SitePlans.List(ctx, in.Site)
			return &struct{ Body []store.SitePlan }{list}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "add-site-plan", Method: "POST", Path: path, DefaultStatus: 201, MaxBodyBytes: mostSitePlan,
		Summary: "Bring a picture of a building or of one floor"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Name    string `json:"name" maxLength:"120"`
				Content []byte `json:"content" doc:"a PNG or JPEG picture"`
			}
		}) (*struct{ Body idBody }, error) {
			select {
			case s.reading <- struct{}{}:
				defer func() { <-s.reading }()
			case <-ctx.Done():
				return nil, s.explain(ctx.Err())
			}
			id := uuid.Must(uuid.NewV7())
			_, err := s.do(ctx, act.AddSitePlan{Site: in.Site, ID: id, Name: in.Body.Name, Raw: in.Body.Content})
			return &struct{ Body idBody }{idBody{id}}, err
		})
	register(s, api, huma.Operation{OperationID: "rename-site-plan", Method: "PUT", Path: path + "/{siteplan}",
		Summary: "Call a site plan otherwise"},
		func(ctx context.Context, in *struct {
			SitePlanPath
			Body struct {
				Name string `json:"name" maxLength:"120"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.RenameSitePlan{Site: in.Site, Plan: in.Plan, Name: in.Body.Name})
		})
	register(s, api, huma.Operation{OperationID: "remove-site-plan", Method: "DELETE", Path: path + "/{siteplan}",
		Summary: "Remove a site plan with its marks"},
		func(ctx context.Context, in *SitePlanPath) (*struct{}, error) {
			return s.keep(ctx, act.RemoveSitePlan{Site: in.Site, Plan: in.Plan})
		})
	register(s, api, huma.Operation{OperationID: "mark-on-site-plan", Method: "PUT", Path: path + "/{siteplan}/marks",
		Summary: "Put cameras onto a site plan, or move them there"},
		func(ctx context.Context, in *struct {
			SitePlanPath
			Body struct {
				Marks []siteplan.Mark `json:"marks" minItems:"1" maxItems:"2000"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.MarkOnSitePlan{Site: in.Site, Plan: in.Plan, Marks: in.Body.Marks})
		})
	register(s, api, huma.Operation{OperationID: "take-off-site-plan", Method: "POST", Path: path + "/{siteplan}/take-off",
		Summary: "Take cameras off a site plan", DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			SitePlanPath
			Body struct {
				Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"2000"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.TakeOffSitePlan{Site: in.Site, Plan: in.Plan, Devices: in.Body.Devices})
		})
}

// picture sends the picture of a plan.
func (s sitePlans) picture(w http.ResponseWriter, r *http.Request) {
	site, err := uuid.Parse(chi.URLParam(r, "site"))
	plan, perr := uuid.Parse(chi.URLParam(r, "siteplan"))
	if err != nil || perr != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	p, err := s.store.SitePlans.Picture(r.Context(), site, plan)
	if err != nil {
		s.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", p.Type)
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable") // the picture of a plan never changes
	w.Write(p.Data)
}
