package server

import (
	"context"
	"encoding/json"
	"errors"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/weigh"
	"unlatch/core/stream/capacity"
	"unlatch/core/stream/tuning"
)

type costsView struct {
	Form    capacity.RecordingForm `json:"form"`
	Cost    costView               `json:"cost"`
	Curve   []capacity.Point       `json:"curve" doc:"days and load with every recorded bitrate times a factor"`
	Choices []capacity.Choice      `json:"choices" doc:"other sizes, rates and codecs, estimated"`
	Kbps    float64                `json:"kbps" doc:"of all that is recorded"`
	For     []kbpsFor              `json:"for_days,omitempty" doc:"the bitrates with which it keeps the wanted days"`
}

// kbpsFor is what one stream may have.
type kbpsFor struct {
	Device uuid.UUID `json:"device"`
	Role   string    `json:"role"`
	Kbps   int       `json:"kbps"`
	Now    float64   `json:"now"`
}

// costs serve what streams cost.
type costs struct{ resource }

func (s costs) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "get-costs", Method: "GET", Path: "/api/sites/{site}/costs",
		Summary: "How a site is recorded, as somebody has said"},
		func(ctx context.Context, in *SitePath) (*struct{ Body capacity.RecordingForm }, error) {
			form, err := s.formOf(ctx, in.Site)
			return &struct{ Body capacity.RecordingForm }{form}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "reckon-costs", Metadata: reads, Method: "POST", Path: "/api/sites/{site}/costs",
		Summary: "Reckon what a site's streams cost: days of recording and load", MaxBodyBytes: 4 << 20},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Form  capacity.RecordingForm `json:"form"`
				Plans map[uuid.UUID]planText `json:"plans,omitempty" doc:"by device, in place of what is planned"`
			}
		}) (*struct{ Body costsView }, error) {
			return s.reckon(ctx, in.Site, in.Body.Form, in.Body.Plans)
		})
	register(s, api, huma.Operation{OperationID: "put-costs", Method: "PUT", Path: "/api/sites/{site}/costs",
		Summary: "Keep how a site is recorded"},
		func(ctx context.Context, in *struct {
			SitePath
			Body capacity.RecordingForm
		}) (*struct{}, error) {
			if _, err := in.Body.Read(); err != nil {
				return nil, badRecording(err)
			}
			raw, err := json.Marshal(in.Body)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.PutCosts{Site: in.Site, Form: raw})
		})
}

// badRecording explains what cannot be reckoned with.
func badRecording(err error) error {
	var bad *capacity.InputError
	if errors.As(err, &bad) {
		return problem(422, "bad_recording", sentence(bad.Error()), "Nothing else that was typed is lost.")
	}
	return err
}

// formOf returns the form of a site, as it was kept.
func (s costs) formOf(ctx context.Context, site uuid.UUID) (form capacity.RecordingForm, err error) {
	raw, err := s.store.Sites.Costs(ctx, site)
	if err != nil || raw == nil {
		return capacity.UsualRecording, err
	}
	return form, json.Unmarshal(raw, &form)
}

// recordingOf returns how a site is recorded; nil where what was kept cannot be reckoned with.
func (s costs) recordingOf(ctx context.Context, site uuid.UUID) (*capacity.Recording, error) {
	form, err := s.formOf(ctx, site)
	if err != nil {
		return nil, err
	}
	r, err := form.Read()
	if err != nil {
		return nil, nil // it was kept by a program that knew another form
	}
	return &r, nil
}

func (s costs) reckon(ctx context.Context, site uuid.UUID, form capacity.RecordingForm,
	drafts map[uuid.UUID]planText) (*struct{ Body costsView }, error) {
	r, err := form.Read()
	if err != nil {
		return nil, badRecording(err)
	}
	for _, text := range drafts {
		if _, err := text.read(); err != nil {
			return nil, err
		}
	}
	list, err := s.lineUp.site(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	defer list.mu.Unlock()
	of := weigh.Sources(list.latches(), func(d *latch.Device) tuning.Plan {
		draft, _ := drafts[d.ID].read() // was read above
		return weigh.Unmet(&d.Status, draft)
	})
	src := weigh.Bare(of)
	c, err := r.CostOf(src)
	if err != nil {
		return nil, badRecording(err)
	}
	out := costsView{Form: form, Cost: c, Curve: r.Curve(src, c)}
	for i, st := range r.Streams(src) {
		if st.Hours > 0 {
			out.Kbps += src[i].Kbps
		}
	}
	out.Choices = capacity.Choices(c, out.Kbps)
	if form.Days > 0 {
		kbps, err := r.KbpsFor(form.Days, src, form.Evenly)
		if err != nil {
			return nil, badRecording(err)
		}
		for i, k := range kbps {
			if k >= 1 {
				out.For = append(out.For, kbpsFor{of[i].Device, of[i].Role, int(k), src[i].Kbps})
			}
		}
	}
	return &struct{ Body costsView }{out}, nil
}
