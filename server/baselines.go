package server

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/baseline"
	"unlatch/store"
)

// baselines serve the states that people agreed on, and what has changed since.
type baselines struct{ resource }

// differencesView is what differs between an agreed state and another one.
type differencesView struct {
	Changes []baseline.DeviceChange `json:"changes"`
	Same    int                     `json:"same" doc:"how many devices are as they were"`
}

func (s baselines) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-baselines", Method: "GET", Path: "/api/sites/{site}/baselines",
		Summary: "The states of the site that were agreed on, the newest first"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []store.Baseline }, error) {
			list, err := s.store.Baselines.List(ctx, in.Site)
			return &struct{ Body []store.Baseline }{list}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "take-baseline", Method: "POST", Path: "/api/sites/{site}/baselines",
		Summary: "Keep the state of devices, as it is known now, as agreed on"}, s.take)
	register(s, api, huma.Operation{OperationID: "compare-baseline", Method: "GET",
		Path: "/api/sites/{site}/baselines/{baseline}/differences", Summary: "What has changed since a state was agreed on"}, s.compare)
}

func (s baselines) take(ctx context.Context, in *struct {
	SitePath
	Body struct {
		Name    string      `json:"name"`
		Reason  string      `json:"reason,omitempty" doc:"wanted where devices are not finished"`
		Devices []uuid.UUID `json:"devices,omitempty" doc:"missing for all devices of the site"`
	}
}) (*struct{}, error) {
	devices, whole := in.Body.Devices, len(in.Body.Devices) == 0
	if whole {
		all, err := s.lineUp.all(ctx, in.Site)
		if err != nil {
			return nil, s.explain(err)
		}
		for _, d := range baseline.Belonging(all, baseline.State{}) {
			devices = append(devices, d.ID)
		}
	}
	return s.keep(ctx, act.TakeBaseline{ID: uuid.New(), Site: in.Site, Devices: devices, Name: in.Body.Name, Reason: in.Body.Reason,
		Whole: whole})
}

func (s baselines) compare(ctx context.Context, in *struct {
	SitePath
	Baseline uuid.UUID `path:"baseline"`
	With     uuid.UUID `query:"with" doc:"another agreed state; missing for what is known now"`
}) (*struct{ Body differencesView }, error) {
	was, err := s.state(ctx, in.Site, in.Baseline)
	if err != nil {
		return nil, err
	}
	var is baseline.State
	if in.With != uuid.Nil {
		if is, err = s.state(ctx, in.Site, in.With); err != nil {
			return nil, err
		}
	} else {
		all, err := s.lineUp.all(ctx, in.Site)
		if err != nil {
			return nil, s.explain(err)
		}
		is = baseline.Of(baseline.Belonging(all, was))
	}
	v := differencesView{Changes: baseline.Compare(was, is)}
	v.Same = len(was.Devices)
	for _, c := range v.Changes {
		if c.Is != baseline.New {
			v.Same--
		}
	}
	return &struct{ Body differencesView }{v}, nil
}

// state returns a state that was agreed on.
func (s baselines) state(ctx context.Context, site, id uuid.UUID) (baseline.State, error) {
	out, err := s.store.Baselines.State(ctx, site, id)
	if newer := new(baseline.VersionError); errors.As(err, &newer) {
		return out, problem(409, "newer_form", "A newer Unlatch took this agreed state.", "Open the site with that version.")
	}
	return out, s.explain(err)
}
