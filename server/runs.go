package server

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/redact"
	"unlatch/store"
)

type runView struct {
	ID      uuid.UUID `json:"id"`
	Kind    string    `json:"kind" enum:"sweep,open,remove,address,claim,paste,fix,tune,place,target,mark,multicast"`
	Title   string    `json:"title"`
	State   string    `json:"state" enum:"running,finished,stopped,failed"`
	Doing   string    `json:"doing"`
	Done    int64     `json:"done"`
	Total   int64     `json:"total"`
	LeftMS  int64     `json:"left_ms,omitempty" doc:"time left by the pace so far"`
	Problem string    `json:"problem,omitempty"`
	Created time.Time `json:"created_at"`
	Planned []string  `json:"planned,omitempty" doc:"addresses that an address plan has still to give"`
}

func viewOfRun(r store.Run, now time.Time) runView {
	v := runView{ID: r.ID, Kind: r.Kind, Title: r.Title, Doing: redact.Text(r.Doing), Done: r.Done, Total: r.Total, Problem: r.Problem,
		Created: r.Created, Planned: strings.Fields(r.Planned), State: "finished"}
	switch {
	case r.Stopped.Valid:
		v.State = "stopped"
	case r.Running():
		v.State = "running"
		if r.Done > 0 && r.Total > r.Done {
			v.LeftMS = int64(float64(now.Sub(r.Created).Milliseconds()) / float64(r.Done) * float64(r.Total-r.Done))
		}
	case r.Problem != "":
		v.State = "failed"
	}
	return v
}

type openBody struct {
	Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
	Target  *uuid.UUID  `json:"target,omitempty" doc:"a target to place the cameras on as well"`
	Again   bool        `json:"again,omitempty" doc:"play streams again that are proven already"`
	Retry   bool        `json:"retry,omitempty" doc:"something was mended on the devices: send what they refused once more, within the guard's bound"`
}

type runOut struct{ Body runView }

func (s *Server) runRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-runs", Method: "GET", Path: "/api/sites/{site}/runs",
		Summary: "Long work of a site, newest first"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []runView }, error) {
			runs, err := s.cfg.Store.Runs.List(ctx, in.Site, 20)
			if err != nil {
				return nil, s.explain(err)
			}
			out := &struct{ Body []runView }{Body: []runView{}}
			for _, r := range runs {
				out.Body = append(out.Body, viewOfRun(r, time.Now()))
			}
			return out, nil
		})
	register(s, api, huma.Operation{OperationID: "start-sweep", Method: "POST", Path: "/api/sites/{site}/sweeps",
		Summary: "Sweep the site's ranges", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Confirm bool `json:"confirm_large,omitempty" doc:"the number of addresses was shown and confirmed"`
			}
		}) (*runOut, error) {
			site, err := s.cfg.Store.Sites.Get(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			if err := s.did(ctx, "began a sweep", site.Ranges.String(), site.ID, uuid.Nil); err != nil {
				return nil, s.explain(err)
			}
			run, err := s.cfg.Queue.Sweep(ctx, site, in.Body.Confirm)
			return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "open-latches", Method: "POST", Path: "/api/sites/{site}/open",
		Summary: "Open latches of devices as far as they go", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body openBody
		}) (*runOut, error) {
			return s.openLatches(ctx, in.Site, in.Body)
		})
	register(s, api, huma.Operation{OperationID: "remove-from-target", Method: "POST", Path: "/api/sites/{site}/remove",
		Summary: "Take cameras off a target", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
				Target  uuid.UUID   `json:"target"`
			}
		}) (*runOut, error) {
			title := fmt.Sprintf("Take %s off", cameras(len(in.Body.Devices)))
			if err := s.did(ctx, "began to take cameras off", cameras(len(in.Body.Devices)), in.Site, in.Body.Target); err != nil {
				return nil, s.explain(err)
			}
			run, err := s.cfg.Queue.Remove(ctx, in.Site, title, in.Body.Devices, in.Body.Target)
			return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "stop-run", Method: "POST", Path: "/api/runs/{run}/stop", Summary: "Stop long work"},
		func(ctx context.Context, in *struct {
			Run uuid.UUID `path:"run"`
		}) (*struct{}, error) {
			run, err := s.cfg.Store.Runs.Get(ctx, in.Run)
			if err == nil {
				err = s.did(ctx, "stopped", run.Title, run.Site, uuid.Nil)
			}
			if err == nil {
				err = s.cfg.Queue.Stop(ctx, in.Run)
			}
			return nil, s.explain(err)
		})
}

func cameras(n int) string {
	if n == 1 {
		return "1 camera"
	}
	return fmt.Sprintf("%d cameras", n)
}

func (s *Server) openLatches(ctx context.Context, site uuid.UUID, in openBody) (*runOut, error) {
	title := "Open latches of " + cameras(len(in.Devices))
	all, err := s.cfg.Store.Devices.List(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	known := map[uuid.UUID]*store.Device{}
	for i := range all {
		known[all[i].ID] = &all[i]
	}
	for _, id := range in.Devices {
		if known[id] == nil {
			return nil, s.explain(store.ErrNotFound)
		}
	}
	if in.Target != nil {
		list := make([]placeItem, len(in.Devices))
		for i, id := range in.Devices {
			list[i] = placeItem{Device: id, Target: *in.Target}
		}
		return s.place(ctx, site, placeBody{Placements: list})
	}
	if err := s.did(ctx, "began", title, site, uuid.Nil); err != nil {
		return nil, s.explain(err)
	}
	if in.Retry {
		run, err := s.cfg.Queue.Retry(ctx, site, title, in.Devices)
		return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
	}
	run, err := s.cfg.Queue.Open(ctx, site, title, in.Devices, in.Again)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}
