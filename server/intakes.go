package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/fit"
	"unlatch/core/stream/intake"
)

type intakeView struct {
	intake.Intake
	Book  string     `json:"book"`
	Owner *uuid.UUID `json:"book_id,omitempty" doc:"missing for the intakes of the product"`
}

// TargetPath names a target of a site. It is exported because huma reads exported fields only.
type TargetPath struct {
	SitePath
	Target uuid.UUID `path:"target"`
}

// fitConflict is a fit.Conflict under a name of its own in the API's document, which has another Conflict.
type fitConflict fit.Conflict

// nearestView is the plan nearest to a camera's streams that its targets take.
type nearestView struct {
	Device    uuid.UUID      `json:"device"`
	Plan      planText       `json:"plan" doc:"empty where they take it as it is"`
	Streams   plannedStreams `json:"streams" doc:"the same by role, as it is read"`
	Conflicts []fitConflict  `json:"conflicts" doc:"demands of its targets that contradict each other"`
}

// intakes serve what targets accept.
type intakes struct{ resource }

func (s intakes) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-intakes", Method: "GET", Path: "/api/intakes", Summary: "What targets accept"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []intakeView }, error) {
			return s.list(ctx)
		})
	register(s, api, huma.Operation{OperationID: "add-intakes", Method: "POST", Path: "/api/intakes",
		Summary: "Bring an intake book, in place of the one of its name", DefaultStatus: 201, MaxBodyBytes: 2 << 20},
		func(ctx context.Context, in *struct{ Body yamlBody }) (*struct{}, error) {
			b, err := intake.ReadBook([]byte(in.Body.YAML))
			if err != nil {
				return nil, s.badBook("intakes", err)
			}
			return s.keep(ctx, act.BringBook{Kind: act.IntakeBooks, Name: b.Name, YAML: in.Body.YAML, Operation: "add-intakes"})
		})
	register(s, api, huma.Operation{OperationID: "delete-intakes", Method: "DELETE", Path: "/api/intakes/{book}",
		Summary: "Remove an intake book of one's own"},
		func(ctx context.Context, in *ShelfPath) (*struct{}, error) {
			return s.keep(ctx, act.DeleteBook{Kind: act.IntakeBooks, ID: in.Book, Operation: "delete-intakes"})
		})
	register(s, api, huma.Operation{OperationID: "set-target-intake", Method: "PUT", Path: "/api/sites/{site}/targets/{target}/intake",
		Summary: "Say what a target accepts"},
		func(ctx context.Context, in *struct {
			TargetPath
			Body struct {
				Name string `json:"name" maxLength:"200" doc:"of an intake; empty takes it back"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.SetIntake{Site: in.Site, Target: in.Target, Name: in.Body.Name})
		})
	register(s, api, huma.Operation{OperationID: "nearest-plans", Metadata: reads, Method: "POST", Path: "/api/sites/{site}/nearest-plans",
		Summary: "The plans nearest to cameras' streams that all their targets take"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
			}
		}) (*struct{ Body []nearestView }, error) {
			return s.nearest(ctx, in.Site, in.Body.Devices)
		})
}

func (s intakes) list(ctx context.Context) (*struct{ Body []intakeView }, error) {
	out := &struct{ Body []intakeView }{Body: []intakeView{}}
	files, err := s.store.Shelf.List(ctx, act.IntakeBooks)
	for _, f := range files {
		b, err := intake.ReadBook([]byte(f.YAML))
		if err != nil {
			return nil, s.explain(err)
		}
		for _, x := range b.Intakes {
			out.Body = append(out.Body, intakeView{x, b.Name, &f.ID})
		}
	}
	for _, x := range intake.Shipped().Intakes {
		out.Body = append(out.Body, intakeView{x, intake.Shipped().Name, nil})
	}
	return out, s.explain(err)
}

func (s intakes) nearest(ctx context.Context, site uuid.UUID, devices []uuid.UUID) (*struct{ Body []nearestView }, error) {
	list, err := s.lineUp.site(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	defer list.mu.Unlock()
	out := &struct{ Body []nearestView }{Body: []nearestView{}}
	for _, id := range devices {
		x := list.devices[id]
		if x == nil {
			continue
		}
		plan, conflicts := fit.NearestPlan(x.d.Status.FitStreams(), x.d.Status.WantedIntakes())
		view := nearestView{id, plan.Texts(), streamsOfPlan(plan), []fitConflict{}}
		for _, c := range conflicts {
			view.Conflicts = append(view.Conflicts, fitConflict(c))
		}
		out.Body = append(out.Body, view)
	}
	return out, nil
}
