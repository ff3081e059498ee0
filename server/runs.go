package server

import (
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/redact"
	"unlatch/store"
)

type runView struct {
	ID      uuid.UUID `json:"id"`
	Kind    string    `json:"kind" enum:"sweep,open,remove,address,claim,paste,fix,tune,place,target,mark,multicast,send,outside,repair,replace"`
	Title   string    `json:"title"`
	By      string    `json:"by,omitempty" doc:"who began it; missing for Unlatch itself"`
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
	v := runView{ID: r.ID, Kind: r.Kind, Title: r.Title, By: r.Person,
		Doing: redact.Text(r.Doing), Done: r.Done, Total: r.Total, Problem: r.Problem,
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
	Retry   bool        `json:"retry,omitempty" doc:"something was mended: send once more what they refused"`
}

// runs serve the work that is under way and what is done again.
type runs struct{ resource }

func (s runs) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-runs", Method: "GET", Path: "/api/sites/{site}/runs",
		Summary: "Long work of a site, newest first"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []runView }, error) {
			runs, err := s.store.Runs.List(ctx, in.Site, 20)
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
				Open    bool `json:"open,omitempty" doc:"open the latches afterwards of all that was heard"`
			}
		}) (*runOut, error) {
			return s.begin(ctx, act.Sweep{Site: in.Site, Confirmed: in.Body.Confirm, Open: in.Body.Open})
		})
	register(s, api, huma.Operation{OperationID: "open-latches", Method: "POST", Path: "/api/sites/{site}/open",
		Summary: "Open latches of devices as far as they go", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body openBody
		}) (*runOut, error) {
			b := in.Body
			if b.Target == nil {
				return s.begin(ctx, act.Open{Site: in.Site, Devices: b.Devices, Again: b.Again, Retry: b.Retry})
			}
			place := act.Place{Site: in.Site, Operation: "open-latches"}
			for _, id := range b.Devices {
				place.Placements = append(place.Placements, act.Placement{Device: id, Target: *b.Target})
			}
			return s.begin(ctx, place)
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
			return s.begin(ctx, act.Remove{Site: in.Site, Target: in.Body.Target, Devices: in.Body.Devices})
		})
	register(s, api, huma.Operation{OperationID: "stop-run", Method: "POST", Path: "/api/runs/{run}/stop", Summary: "Stop long work"},
		func(ctx context.Context, in *struct {
			Run uuid.UUID `path:"run"`
		}) (*struct{}, error) {
			return s.keep(ctx, act.Stop{Run: in.Run})
		})
}
