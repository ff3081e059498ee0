package server

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/evidence"
	"unlatch/store"
)

type markBody struct {
	Devices []uuid.UUID   `json:"devices" minItems:"1" maxItems:"200"`
	How     evidence.Mark `json:"how" enum:"nudge,label" doc:"move a little and back, or draw a text for a while"`
	Text    string        `json:"text,omitempty" maxLength:"40" doc:"of a label; the camera's address where it is missing"`
	Back    bool          `json:"back,omitempty" doc:"put back what still stands of an earlier one, and do nothing else"`
}

type walkBody struct {
	Device uuid.UUID `json:"device"`
	Unsaid bool      `json:"unsaid,omitempty" doc:"it was said in error"`
}

// markView is a nudge or a label that still stands on a camera.
type markView struct {
	How     string `json:"how" enum:"nudge,label"`
	Text    string `json:"text,omitempty"`
	Problem string `json:"problem,omitempty" doc:"why it was not put back; missing while it is under way"`
	Fix     string `json:"fix,omitempty"`
}

func (s *Server) markRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "mark-devices", Method: "POST", Path: "/api/sites/{site}/marks",
		Summary: "Have cameras show which one they are: by a nudge, or by a label in their picture", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body markBody
		}) (*runOut, error) {
			return s.mark(ctx, in.Site, in.Body)
		})
	register(s, api, huma.Operation{OperationID: "walk-past", Method: "POST", Path: "/api/sites/{site}/walks",
		Summary: "Say that somebody who walks past a camera is seen in its picture, or take that back", DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			SitePath
			Body walkBody
		}) (*struct{}, error) {
			return nil, s.walk(ctx, in.Site, in.Body)
		})
}

func (s *Server) mark(ctx context.Context, site uuid.UUID, in markBody) (*runOut, error) {
	for _, id := range in.Devices {
		if _, err := s.changeable(ctx, site, id, "it cannot be asked to show which one it is"); err != nil {
			return nil, err
		}
	}
	what, did := "Nudge ", "nudged the camera"
	switch {
	case in.Back:
		what, did = "Put back what was before on ", "put back what a nudge or a label left on the camera"
	case in.How == evidence.Label:
		what, did = "Draw a label on ", "drew a label into the camera's picture"
	}
	for _, id := range in.Devices {
		if err := s.did(ctx, did, in.Text, site, id); err != nil {
			return nil, s.explain(err)
		}
	}
	run, err := s.cfg.Queue.Mark(ctx, site, what+cameras(len(in.Devices)), in.Devices, in.How, in.Text, in.Back)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

// walk records what a person says of a walk test.
func (s *Server) walk(ctx context.Context, site uuid.UUID, in walkBody) error {
	if err := s.ofSite(ctx, site, []uuid.UUID{in.Device}); err != nil {
		return err
	}
	body := evidence.Walked{By: person(ctx).Name, Unsaid: in.Unsaid}
	return s.explain(s.cfg.Store.Devices.Record(ctx, &store.Device{ID: in.Device, Site: site}, nil, store.Finding{Body: body}))
}

func viewOfMark(b *evidence.Marked) *markView {
	if b == nil {
		return nil
	}
	v := &markView{How: string(b.How), Text: b.Text}
	if b.Diagnosis != nil {
		v.Problem, v.Fix = b.Diagnosis.Summary, b.Diagnosis.Fix
	}
	return v
}
