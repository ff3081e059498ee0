package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
)

type markBody struct {
	Devices []uuid.UUID   `json:"devices" minItems:"1" maxItems:"200"`
	How     evidence.Mark `json:"how" enum:"nudge,label" doc:"move a little and back, or draw a text for a while"`
	Text    string        `json:"text,omitempty" maxLength:"40" doc:"of a label; the camera's address where it is missing"`
	Strict  bool          `json:"strict,omitempty"`
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

// marks serve the marking of cameras.
type marks struct{ resource }

func (s marks) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "mark-devices", Method: "POST", Path: "/api/sites/{site}/marks",
		Summary: "Have cameras show which one they are: by a nudge, or by a label in their picture", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			TryQuery
			Body markBody
		}) (*runOut, error) {
			b := in.Body
			return s.tryOrBegin(ctx, in.TryQuery, act.Mark{Site: in.Site, Devices: b.Devices, Strict: b.Strict, How: b.How, Text: b.Text,
				Back: b.Back})
		})
	register(s, api, huma.Operation{OperationID: "walk-past", Method: "POST", Path: "/api/sites/{site}/walks",
		Summary: "Say that somebody who walks past a camera is seen in its picture, or take that back", DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			SitePath
			Body walkBody
		}) (*struct{}, error) {
			return s.keep(ctx, act.WalkPast{Site: in.Site, Device: in.Body.Device, Unsaid: in.Body.Unsaid})
		})
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
