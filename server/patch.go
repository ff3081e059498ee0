package server

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/bringup"
	"unlatch/core/evidence"
	"unlatch/core/fit"
	"unlatch/core/latch"
	"unlatch/core/target"
	mqtthub "unlatch/core/target/hub"
	"unlatch/core/target/onvifrecorder"
	"unlatch/core/tuning"
	"unlatch/jobs"
	"unlatch/store"
)

// placeItem is one camera on one target.
type placeItem struct {
	Device   uuid.UUID  `json:"device"`
	Target   uuid.UUID  `json:"target"`
	Slot     string     `json:"slot,omitempty" maxLength:"200" doc:"the target's own name of it; missing for the first free one"`
	Role     string     `json:"role,omitempty" enum:"main,sub,third,picture" doc:"the stream, or its picture over HTTP; missing for the rule's own choice"`
	Replaces *uuid.UUID `json:"replaces,omitempty" doc:"the camera whose slot it takes over"`
	Again    bool       `json:"again,omitempty" doc:"also where it stands already: put it right"`
}

type placeBody struct {
	Placements []placeItem `json:"placements" minItems:"1" maxItems:"5000"`
	Tune       bool        `json:"tune,omitempty" doc:"set cameras that do not fit to the nearest plan first"`
}

// fittingView is whether one target would take one camera.
type fittingView struct {
	Device uuid.UUID `json:"device"`
	Target uuid.UUID `json:"target"`
	latch.Fitting
}

func (s *Server) patchRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "place", Method: "POST", Path: "/api/sites/{site}/place", DefaultStatus: 202, MaxBodyBytes: 4 << 20,
		Summary: "Put cameras onto targets, and ask for their pictures"}, func(ctx context.Context, in *struct {
		SitePath
		Body placeBody
	}) (*runOut, error) {
		return s.place(ctx, in.Site, in.Body)
	})
	register(s, api, huma.Operation{OperationID: "fill", Method: "POST", Path: "/api/sites/{site}/targets/{target}/fill", DefaultStatus: 202,
		Summary: "Put cameras into the free slots of a target, in order"}, func(ctx context.Context, in *struct {
		TargetPath
		Body struct {
			Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
			Start   string      `json:"start,omitempty" doc:"the slot to begin with"`
			Places  []int       `json:"places,omitempty" doc:"the cameras' places in a list: the gaps between them are kept"`
			Tune    bool        `json:"tune,omitempty"`
		}
	}) (*runOut, error) {
		t, err := s.target(ctx, in.Site, in.Target)
		if err != nil {
			return nil, err
		}
		if t.Layout == nil {
			return nil, problem(422, "not_seen", "Nobody has looked at the slots of "+t.Name+" yet.", "Look at it first.")
		}
		if in.Body.Places != nil && len(in.Body.Places) != len(in.Body.Devices) {
			return nil, problem(422, "places", "There has to be a place for each camera.", "Send as many places as cameras, or none.")
		}
		list := placeBody{Tune: in.Body.Tune}
		for i, slot := range target.Fill(t.Layout.V, in.Body.Start, len(in.Body.Devices), in.Body.Places) {
			if slot != "" {
				list.Placements = append(list.Placements, placeItem{Device: in.Body.Devices[i], Target: t.ID, Slot: slot})
			}
		}
		if len(list.Placements) == 0 {
			return nil, problem(422, "no_free_slot", t.Name+" has no free slot there.", "Take a camera off, free a blocked slot, or begin further up.")
		}
		return s.place(ctx, in.Site, list)
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
		t, err := s.target(ctx, in.Site, in.Body.Target)
		if err != nil {
			return nil, err
		}
		return s.onTarget(ctx, in.Site, "Move a camera on "+t.Name, jobs.Place{Device: in.Body.Device, Placing: bringup.Placing{Target: t.ID}, Move: in.Body.Slot})
	})
	register(s, api, huma.Operation{OperationID: "show-on-screen", Method: "POST", Path: "/api/sites/{site}/show", DefaultStatus: 202,
		Summary: "Have a target show a camera on a screen, measured"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Device uuid.UUID `json:"device"`
			Target uuid.UUID `json:"target"`
			Screen string    `json:"screen" minLength:"1" maxLength:"200"`
		}
	}) (*runOut, error) {
		return s.onTarget(ctx, in.Site, "Show a camera on "+in.Body.Screen,
			jobs.Place{Device: in.Body.Device, Placing: bringup.Placing{Target: in.Body.Target}, Screen: in.Body.Screen})
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
		r := mqtthub.Rule{Event: in.Body.Event, Screen: in.Body.Screen}
		if r.Event == "" || r.Screen == "" {
			r = mqtthub.Rule{}
		}
		return s.onTarget(ctx, in.Site, "Set when a hub shows a camera", jobs.Place{Device: in.Body.Device, Placing: bringup.Placing{Target: in.Body.Target}, Rule: &r})
	})
	register(s, api, huma.Operation{OperationID: "attest", Method: "POST", Path: "/api/sites/{site}/attest",
		Summary: "Say that somebody has looked, and that the target shows the cameras"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
			Target  uuid.UUID   `json:"target"`
		}
	}) (*struct{}, error) {
		return nil, s.attest(ctx, in.Site, in.Body.Target, in.Body.Devices)
	})
	register(s, api, huma.Operation{OperationID: "fittings", Method: "POST", Path: "/api/sites/{site}/fittings",
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
		if _, err := s.target(ctx, in.Site, in.Target); err != nil {
			return nil, err
		}
		return nil, s.explain(s.cfg.Store.Targets.Order(ctx, in.Target, in.Body.Devices))
	})
}

// onTarget begins a run of one camera on one target.
func (s *Server) onTarget(ctx context.Context, site uuid.UUID, title string, p jobs.Place) (*runOut, error) {
	if err := s.ofSite(ctx, site, []uuid.UUID{p.Device}); err != nil {
		return nil, err
	}
	if err := s.did(ctx, "began", title, site, p.Device); err != nil {
		return nil, s.explain(err)
	}
	run, err := s.cfg.Queue.Place(ctx, site, title, []jobs.Place{p})
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

// placeable is a target that cameras can be put onto now; a device becomes one when it is signed in to.
func (s *Server) placeable(ctx context.Context, site, id uuid.UUID) (latch.Target, error) {
	no := problem(422, "no_target", "That is no target of this site.", "Choose one that takes cameras.")
	t, err := s.cfg.Store.Targets.Get(ctx, id)
	if err == nil && t.Site != site && !t.Shared {
		return latch.Target{}, no
	}
	if err == nil && t.Device == nil {
		return s.latchTarget(ctx, t)
	}
	d, derr := s.cfg.Store.Devices.Get(ctx, id)
	if derr != nil || d.Site != site || d.Status.Device.Kind != "recorder" {
		return latch.Target{}, no
	}
	if d.Status.Latch(latch.SignedIn).State != latch.Open {
		return latch.Target{}, problem(422, "target_closed", d.Title()+" is not signed in to yet.", "Open the recorder's own latches first.")
	}
	if err != nil {
		t = store.Target{ID: id, Kind: onvifrecorder.Kind}
	}
	t.Name = cmp.Or(t.Name, d.Title())
	return s.latchTarget(ctx, t)
}

func (s *Server) latchTarget(ctx context.Context, t store.Target) (latch.Target, error) {
	out, err := s.cfg.Store.Targets.Latch(ctx, t)
	return out, s.explain(err)
}

// place keeps what is wanted and begins the run.
func (s *Server) place(ctx context.Context, site uuid.UUID, in placeBody) (*runOut, error) {
	known := map[uuid.UUID]latch.Target{}
	wishes := map[uuid.UUID][]store.Wish{}
	var order, devices []uuid.UUID
	var list []jobs.Place
	for _, p := range in.Placements {
		if _, seen := known[p.Target]; !seen {
			t, err := s.placeable(ctx, site, p.Target)
			if err != nil {
				return nil, err
			}
			known[p.Target] = t
			order = append(order, p.Target)
		}
		wishes[p.Target] = append(wishes[p.Target], store.Wish{Device: p.Device, Slot: p.Slot, Role: p.Role})
		one := jobs.Place{Device: p.Device, Placing: bringup.Placing{Target: p.Target, Again: p.Again}}
		if p.Replaces != nil {
			one.Replaces = *p.Replaces
			devices = append(devices, *p.Replaces)
		}
		list = append(list, one)
		devices = append(devices, p.Device)
	}
	if err := s.ofSite(ctx, site, devices); err != nil {
		return nil, err
	}
	if in.Tune {
		if err := s.tuneFirst(ctx, site, list, known); err != nil {
			return nil, err
		}
	}
	title := fmt.Sprintf("Place %s on %s", cameras(len(in.Placements)), known[order[0]].Name)
	if len(order) > 1 {
		title = fmt.Sprintf("Place %s on %d targets", cameras(len(in.Placements)), len(order))
	}
	if err := s.did(ctx, "began", title, site, uuid.Nil); err != nil {
		return nil, s.explain(err)
	}
	for _, t := range order {
		if err := s.cfg.Store.Targets.Wish(ctx, wishes[t], t); err != nil {
			return nil, s.explain(err)
		}
	}
	run, err := s.cfg.Queue.Place(ctx, site, title, list)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

// tuneFirst gives each camera that a target does not take the nearest plan that all its targets take, kept as its own. One camera is set
// once, however many targets it is put onto.
func (s *Server) tuneFirst(ctx context.Context, site uuid.UUID, list []jobs.Place, targets map[uuid.UUID]latch.Target) error {
	up, err := s.lineUp.site(ctx, site)
	if err != nil {
		return s.explain(err)
	}
	defer up.mu.Unlock()
	own := map[uuid.UUID]tuning.Plan{}
	for i := range list {
		x := up.devices[list[i].Device]
		if _, done := own[list[i].Device]; done || x == nil {
			continue
		}
		intakes, misfits := wantedIntakes(&x.d), false
		for _, p := range list {
			t := targets[p.Target]
			if p.Device != list[i].Device || t.Intake == nil {
				continue
			}
			in := *t.Intake
			in.Name = t.Name
			intakes = append(intakes, in)
			misfits = misfits || x.d.Status.FittingOn(t).Verdict == latch.AfterTuning
		}
		if !misfits {
			continue
		}
		plan, conflicts := fit.NearestPlan(x.d.Status.FitStreams(), intakes)
		if len(conflicts) > 0 {
			c := conflicts[0]
			return problem(422, "conflict", fmt.Sprintf("The targets of %s contradict each other about its %s.", x.d.Title(), c.Field),
				"Take it off one of them, or give that one another stream.")
		}
		own[list[i].Device] = x.d.Status.Plan.With(plan)
		list[i].Tuning = &bringup.Tuning{Plan: own[list[i].Device]}
	}
	if len(own) == 0 {
		return nil
	}
	var ids []uuid.UUID
	for id := range own {
		ids = append(ids, id)
	}
	if err := s.tunedAlready(ctx, ids); err != nil {
		return err
	}
	return s.explain(s.cfg.Store.Plans.SetOwn(ctx, own))
}

// fittings says of each camera and each target whether it would be taken.
func (s *Server) fittings(ctx context.Context, site uuid.UUID, devices []uuid.UUID) (*struct{ Body []fittingView }, error) {
	list, err := s.cfg.Store.Targets.List(ctx, site)
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

// attest records that a person has looked at a target that cannot be asked.
func (s *Server) attest(ctx context.Context, site, on uuid.UUID, devices []uuid.UUID) error {
	t, err := s.target(ctx, site, on)
	if err != nil {
		return err
	}
	if err := s.ofSite(ctx, site, devices); err != nil {
		return err
	}
	for _, id := range devices {
		d, err := s.cfg.Store.Devices.Get(ctx, id)
		if err != nil {
			return s.explain(err)
		}
		i := slices.IndexFunc(d.Status.Placements, func(p latch.Placement) bool { return p.Target == on && p.Slot != "" })
		if i < 0 {
			return problem(422, "not_on_it", d.Title()+" is not on "+t.Name+".", "Place it first.")
		}
		if !d.Status.Placements[i].ByHand() && asked(t.Kind) {
			return problem(422, "can_be_asked", t.Name+" is asked for its picture itself.", "Open the camera's latches.")
		}
		if err := s.did(ctx, "attested the picture of", t.Name, site, id); err != nil {
			return s.explain(err)
		}
		body := evidence.Confirmed{Attested: person(ctx).Name}
		if err := s.cfg.Store.Devices.Record(ctx, d, nil, store.Finding{Subject: on.String(), Body: body}); err != nil {
			return s.explain(err)
		}
	}
	return nil
}
