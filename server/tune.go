package server

import (
	"context"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/bringup"
	"unlatch/core/evidence"
	"unlatch/core/tuning"
)

type tuneBody struct {
	Devices []uuid.UUID       `json:"devices" minItems:"1" maxItems:"5000"`
	Plan    map[string]string `json:"plan,omitempty" doc:"by role (main, sub, third): h264,1280x720,15fps,2000kbps,cbr,gop30; what is left out stays"`
	Undo    bool              `json:"undo,omitempty" doc:"put back what was before"`
}

func (s *Server) tuneRoutes(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "tune-devices", Method: "POST", Path: "/api/sites/{site}/tune",
		Summary: "Set the streams of devices to a plan, read back and measured, or put them back", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body tuneBody
		}) (*runOut, error) {
			return s.tune(ctx, in.Site, in.Body)
		})
}

// tune checks what is wanted, keeps who wants it, and begins the run.
func (s *Server) tune(ctx context.Context, site uuid.UUID, in tuneBody) (*runOut, error) {
	t := bringup.Tuning{Plan: map[string]tuning.Stream{}, Undo: in.Undo}
	for role, text := range in.Plan {
		if role != "main" && role != "sub" && role != "third" {
			return nil, problem(422, "bad_role", fmt.Sprintf("There is no stream %q.", role), "There are main, sub and third.")
		}
		plan, err := tuning.ParseStream(text)
		if err != nil {
			return nil, problem(422, "bad_plan", sentence(err.Error()), "What is left out stays as it is.")
		}
		t.Plan[role] = plan
	}
	if len(t.Plan) == 0 && !in.Undo {
		return nil, problem(422, "no_plan", "Nothing is wanted of any stream.", "Say what the main or the sub stream shall be.")
	}
	for _, id := range in.Devices {
		if _, err := s.changeable(ctx, site, id, "its streams cannot be set"); err != nil {
			return nil, err
		}
	}
	title, deed := "Set the streams of %s", "set the streams of"
	if in.Undo {
		title, deed = "Put back the streams of %s", "put the streams back of"
	}
	for _, id := range in.Devices {
		if err := s.did(ctx, deed, "", site, id); err != nil {
			return nil, s.explain(err)
		}
	}
	run, err := s.cfg.Queue.Tune(ctx, site, fmt.Sprintf(title, cameras(len(in.Devices))), in.Devices, t)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

// viewOfTuning is nil where nobody has set anything.
func viewOfTuning(b *evidence.Tuned) *tuningView {
	if b == nil {
		return nil
	}
	v := &tuningView{Plan: map[string]string{}, Before: map[string]string{}, Changes: b.Changes, Refused: b.Refused, SideEffects: b.SideEffects}
	for role, p := range b.Plan {
		v.Plan[role] = p.String()
	}
	for role, e := range b.Before {
		v.Before[role] = e.Plan().String()
	}
	return v
}

// tuningView is how a device's streams were set.
type tuningView struct {
	Plan        map[string]string `json:"plan" doc:"by role, as it was wanted"`
	Before      map[string]string `json:"before" doc:"by role, what undo puts back"`
	Changes     []tuning.Change   `json:"changes"`
	Refused     []tuning.Refusal  `json:"refused"`
	SideEffects []string          `json:"side_effects"`
}
