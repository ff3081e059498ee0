package server

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/outside"
	"unlatch/core/decide/ready"
	"unlatch/store"
)

// outsideView is how a site is seen from outside.
type outsideView struct {
	Form     outside.Form      `json:"form"`
	Problems []outside.Mistake `json:"problems" doc:"what is wrong with it"`
	Ports    []outsidePortView `json:"ports" doc:"one for each that is led inside"`
	Refused  []outside.Refused `json:"refused" doc:"streams that are not led outside, and why"`
	Never    []string          `json:"never" doc:"places that must never be led outside"`
}

type outsidePortView struct {
	Port    int                 `json:"port"`
	Inside  string              `json:"inside"`
	Device  uuid.UUID           `json:"device"`
	Name    string              `json:"name"`
	Streams []outsideStreamView `json:"streams"`
}

type outsideStreamView struct {
	Role    string `json:"role"`
	URL     string `json:"url" doc:"as it reads from outside"`
	Proven  bool   `json:"proven,omitempty" doc:"it was played from elsewhere"`
	Worker  string `json:"worker,omitempty"`
	Problem string `json:"problem,omitempty" doc:"why it was not, when that was tried last"`
	Fix     string `json:"fix,omitempty"`
}

// outsides serve how sites are seen from outside.
type outsides struct{ resource }

func (s outsides) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "get-outside", Method: "GET", Path: "/api/sites/{site}/outside",
		Summary: "How the site is seen from outside"},
		func(ctx context.Context, in *SitePath) (*struct{ Body outsideView }, error) {
			form, err := s.store.Sites.Outside(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			v, err := s.view(ctx, in.Site, form)
			return &struct{ Body outsideView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "plan-outside", Metadata: reads, Method: "POST", Path: "/api/sites/{site}/outside/plan",
		Summary: "Plan ports for all streams that may be led outside; nothing is kept"},
		func(ctx context.Context, in *struct {
			SitePath
			Body outside.Form
		}) (*struct{ Body outsideView }, error) {
			site, err := s.facts(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			if err := site.hasAll(in.Body.Maps); err != nil {
				return nil, s.explain(err)
			}
			in.Body.Maps, _ = in.Body.Plan(site.streams)
			v, err := s.view(ctx, in.Site, in.Body)
			return &struct{ Body outsideView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "put-outside", Method: "PUT", Path: "/api/sites/{site}/outside",
		Summary: "Keep how the site is seen from outside"},
		func(ctx context.Context, in *struct {
			SitePath
			Body outside.Form
		}) (*struct{}, error) {
			site, err := s.facts(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.PutOutside{Site: in.Site, Form: in.Body, Problems: in.Body.Check(site.site.Ranges, site.never)})
		})
	register(s, api, huma.Operation{OperationID: "prove-outside", Method: "POST", Path: "/api/sites/{site}/outside/prove",
		Summary: "Have a worker elsewhere play what is led outside", DefaultStatus: 202},
		func(ctx context.Context, in *SitePath) (*runOut, error) {
			form, err := s.store.Sites.Outside(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.begin(ctx, act.ProveOutside{Site: in.Site, Form: form})
		})
}

// outsideFacts are what of a site decides how it is seen from outside.
type outsideFacts struct {
	site    store.Site
	streams []outside.Stream
	never   map[string]string
	devices map[uuid.UUID]*latch.Device
}

func (s outsides) facts(ctx context.Context, id uuid.UUID) (f outsideFacts, err error) {
	if f.site, err = s.store.Sites.Get(ctx, id); err != nil {
		return f, err
	}
	all, err := s.lineUp.all(ctx, id)
	if err != nil {
		return f, err
	}
	f.never, f.devices = map[string]string{}, map[uuid.UUID]*latch.Device{}
	for _, d := range all {
		st := &d.Status
		f.devices[d.ID] = d
		maps.Copy(f.never, ready.StayInside(d))
		for _, x := range st.Streams {
			p := st.Proofs[x.Role]
			f.streams = append(f.streams, outside.Stream{Device: d.ID, Name: d.Title, Role: x.Role, URL: x.URL, Proven: st.Proves(x),
				Scheme: p.Auth, TLS: p.TLS != nil})
		}
	}
	return f, nil
}

// hasAll reports whether all that is led to is of the site. Its error is an *act.MissingError.
func (f *outsideFacts) hasAll(maps []outside.Map) error {
	missing := &act.MissingError{}
	for _, m := range maps {
		if f.devices[m.Device] == nil {
			missing.IDs = append(missing.IDs, m.Device)
		}
	}
	if len(missing.IDs) > 0 {
		return missing
	}
	return nil
}

func (s outsides) view(ctx context.Context, id uuid.UUID, form outside.Form) (outsideView, error) {
	f, err := s.facts(ctx, id)
	if err != nil {
		return outsideView{}, err
	}
	v := outsideView{Form: form, Problems: append([]outside.Mistake{}, form.Check(f.site.Ranges, f.never)...),
		Ports: []outsidePortView{}, Never: f.neverLines()}
	_, refused := form.Plan(f.streams)
	v.Refused = append([]outside.Refused{}, refused...)
	if v.Form.Maps == nil {
		v.Form.Maps = []outside.Map{}
	}
	if v.Form.Addresses == nil {
		v.Form.Addresses = []string{}
	}
	for _, m := range form.Maps {
		p := outsidePortView{Port: m.Port, Inside: m.Inside, Device: m.Device, Streams: []outsideStreamView{}}
		if d := f.devices[m.Device]; d != nil {
			p.Name, p.Streams = d.Title, streamsFromOutside(&d.Status, form, m)
		}
		v.Ports = append(v.Ports, p)
	}
	return v, nil
}

func streamsFromOutside(st *latch.Status, form outside.Form, m outside.Map) []outsideStreamView {
	out := []outsideStreamView{}
	for _, x := range st.Streams {
		if at, _ := outside.PlaceOf(x.URL); at != m.Inside {
			continue
		}
		url, _ := form.URL(x.URL)
		v := outsideStreamView{Role: x.Role, URL: url}
		if b, ok := st.Outside[x.Role]; ok && b.PlainURL == url {
			v.Worker, v.Proven = b.Worker, b.OK && b.Diagnosis == nil
			d := b.Diagnosis
			if d == nil {
				d = b.Proof.Diagnosis
			}
			if d != nil {
				v.Problem, v.Fix = d.Summary, d.Fix
			}
		}
		out = append(out, v)
	}
	return out
}

// neverLines says what must not be led outside, in order.
func (f *outsideFacts) neverLines() []string {
	out := []string{}
	for at, what := range f.never {
		out = append(out, fmt.Sprintf("%s, %s", at, what))
	}
	slices.SortFunc(out, strings.Compare)
	return out
}

// sheet sends the sheet for whoever runs the router.
func (s outsides) sheet(w http.ResponseWriter, r *http.Request) {
	id, err := uuid.Parse(chi.URLParam(r, "site"))
	if err != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	form, err := s.store.Sites.Outside(r.Context(), id)
	if err != nil {
		s.fail(w, err)
		return
	}
	f, err := s.facts(r.Context(), id)
	if err != nil {
		s.fail(w, err)
		return
	}
	names := map[string]string{}
	for id, d := range f.devices {
		names[id.String()] = d.Title
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Content-Disposition", `attachment; filename="router-sheet.txt"`)
	fmt.Fprint(w, form.Sheet(outside.Paper{Site: f.site.Name, By: person(r.Context()).Name, At: time.Now(), Names: names,
		Never: f.neverLines()}))
}
