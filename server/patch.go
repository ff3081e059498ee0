package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	mqtthub "unlatch/core/wire/target/hub"
	"unlatch/store"
)

// placeItem is one camera on one target.
type placeItem struct {
	Device   uuid.UUID  `json:"device"`
	Target   uuid.UUID  `json:"target"`
	Slot     string     `json:"slot,omitempty" maxLength:"200" doc:"the target's own name of it; missing for the first free one"`
	Role     string     `json:"role,omitempty" enum:"main,sub,third,picture" doc:"the stream, or its picture; missing for the rule's choice"`
	Replaces *uuid.UUID `json:"replaces,omitempty" doc:"the camera whose slot it takes over"`
	Again    bool       `json:"again,omitempty" doc:"also where it stands already: put it right"`
}

type placeBody struct {
	Placements []placeItem `json:"placements" minItems:"1" maxItems:"5000"`
	Tune       bool        `json:"tune,omitempty" doc:"set cameras that do not fit to the nearest plan first"`
	Strict     bool        `json:"strict,omitempty" doc:"refuse everything where one camera cannot be taken, rather than leave it out"`
}

func (b placeBody) act(site uuid.UUID) act.Place {
	out := act.Place{Site: site, Tune: b.Tune, Strict: b.Strict}
	for _, p := range b.Placements {
		one := act.Placement{Device: p.Device, Target: p.Target, Slot: p.Slot, Role: p.Role, Again: p.Again}
		if p.Replaces != nil {
			one.Replaces = *p.Replaces
		}
		out.Placements = append(out.Placements, one)
	}
	return out
}

// fittingView is whether one target would take one camera.
type fittingView struct {
	Device uuid.UUID `json:"device"`
	Target uuid.UUID `json:"target"`
	latch.Fitting
}

// placements serve the placing of cameras.
type placements struct{ resource }

func (s placements) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "place", Method: "POST", Path: "/api/sites/{site}/place", DefaultStatus: 202,
		MaxBodyBytes: 4 << 20,
		Summary:      "Put cameras onto targets, and ask for their pictures"}, func(ctx context.Context, in *struct {
		SitePath
		TryQuery
		Body placeBody
	}) (*runOut, error) {
		return s.tryOrBegin(ctx, in.TryQuery, in.Body.act(in.Site))
	})
	register(s, api, huma.Operation{OperationID: "fill", Method: "POST", Path: "/api/sites/{site}/targets/{target}/fill", DefaultStatus: 202,
		Summary: "Put cameras into the free slots of a target, in order"}, func(ctx context.Context, in *struct {
		TargetPath
		TryQuery
		Body struct {
			Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
			Start   string      `json:"start,omitempty" doc:"the slot to begin with"`
			Places  []int       `json:"places,omitempty" doc:"the cameras' places in a list: the gaps between them are kept"`
			Tune    bool        `json:"tune,omitempty"`
			Strict  bool        `json:"strict,omitempty"`
		}
	}) (*runOut, error) {
		b := in.Body
		return s.tryOrBegin(ctx, in.TryQuery, act.Fill{Site: in.Site, Target: in.Target, Devices: b.Devices, Start: b.Start,
			Places: b.Places, Tune: b.Tune, Strict: b.Strict})
	})
	register(s, api, huma.Operation{OperationID: "move-placement", Method: "POST", Path: "/api/sites/{site}/move", DefaultStatus: 202,
		Summary: "Move a camera to another slot of its target; one that is there changes places with it"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Device uuid.UUID `json:"device"`
			Target uuid.UUID `json:"target"`
			Slot   string    `json:"slot" minLength:"1" maxLength:"200"`
		}
	}) (*runOut, error) {
		return s.begin(ctx, act.Move{OnTarget: act.OnTarget{Site: in.Site, Device: in.Body.Device, Target: in.Body.Target}, Slot: in.Body.Slot})
	})
	s.shownRoutes(api)
}

// shownRoutes are about cameras that stand on a target already.
func (s placements) shownRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "show-on-screen", Method: "POST", Path: "/api/sites/{site}/show", DefaultStatus: 202,
		Summary: "Have a target show a camera on a screen, measured"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Device uuid.UUID `json:"device"`
			Target uuid.UUID `json:"target"`
			Screen string    `json:"screen" minLength:"1" maxLength:"200"`
		}
	}) (*runOut, error) {
		return s.begin(ctx, act.Show{OnTarget: act.OnTarget{Site: in.Site, Device: in.Body.Device, Target: in.Body.Target},
			Screen: in.Body.Screen})
	})
	register(s, api, huma.Operation{OperationID: "set-rule", Method: "POST", Path: "/api/sites/{site}/rule", DefaultStatus: 202,
		Summary: "Have a hub show a camera on a screen when a message comes"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Device uuid.UUID `json:"device"`
			Target uuid.UUID `json:"target"`
			Event  string    `json:"event,omitempty" maxLength:"200" doc:"the topic; empty takes the rule back"`
			Screen string    `json:"screen,omitempty" maxLength:"200"`
		}
	}) (*runOut, error) {
		return s.begin(ctx, act.SetRule{OnTarget: act.OnTarget{Site: in.Site, Device: in.Body.Device, Target: in.Body.Target},
			Rule: mqtthub.Rule{Event: in.Body.Event, Screen: in.Body.Screen}})
	})
	register(s, api, huma.Operation{OperationID: "attest", Method: "POST", Path: "/api/sites/{site}/attest",
		Summary: "Say that somebody has looked, and that the target shows the cameras"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
			Target  uuid.UUID   `json:"target"`
			Strict  bool        `json:"strict,omitempty"`
		}
	}) (*leftOut, error) {
		done, err := s.do(ctx, act.Attest{Site: in.Site, Target: in.Body.Target, Devices: in.Body.Devices, Strict: in.Body.Strict})
		out := &leftOut{}
		out.Body.Left = append([]act.Left{}, done.Left...)
		return out, err
	})
	register(s, api, huma.Operation{OperationID: "fittings", Metadata: reads, Method: "POST", Path: "/api/sites/{site}/fittings",
		Summary: "Whether targets would take cameras"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Devices []uuid.UUID `json:"devices" maxItems:"5000"`
		}
	}) (*struct{ Body []fittingView }, error) {
		return s.fittings(ctx, in.Site, in.Body.Devices)
	})
	register(s, api, huma.Operation{OperationID: "order-list", Method: "PUT", Path: "/api/sites/{site}/targets/{target}/order",
		Summary: "Set the order of a list that is made here"}, func(ctx context.Context, in *struct {
		TargetPath
		Body struct {
			Devices []uuid.UUID `json:"devices" maxItems:"5000"`
		}
	}) (*struct{}, error) {
		return s.keep(ctx, act.OrderList{Site: in.Site, Target: in.Target, Devices: in.Body.Devices})
	})
}

func (s placements) latchTarget(ctx context.Context, t store.Target) (latch.Target, error) {
	out, err := s.store.Targets.Latch(ctx, t)
	return out, s.explain(err)
}

// fittings returns for each camera and each target whether the target would take it.
func (s placements) fittings(ctx context.Context, site uuid.UUID, devices []uuid.UUID) (*struct{ Body []fittingView }, error) {
	list, err := s.store.Targets.List(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	var targets []latch.Target
	for _, t := range list {
		one, err := s.latchTarget(ctx, t)
		if err != nil {
			return nil, err
		}
		targets = append(targets, one)
	}
	up, err := s.lineUp.site(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	defer up.mu.Unlock()
	out := &struct{ Body []fittingView }{Body: []fittingView{}}
	for _, id := range devices {
		x := up.devices[id]
		for i := 0; x != nil && i < len(targets); i++ {
			if t := targets[i]; t.ID != id {
				out.Body = append(out.Body, fittingView{id, t.ID, x.d.Status.FittingOn(t)})
			}
		}
	}
	return out, nil
}
