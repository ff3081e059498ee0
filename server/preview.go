package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/weigh"
	"unlatch/core/stream/capacity"
	"unlatch/core/stream/tuning"
	"unlatch/store"
)

// previewBody is what is about to be sent: the plans of devices, with those of a request in place of their own.
type previewBody struct {
	Devices []uuid.UUID            `json:"devices" minItems:"1" maxItems:"5000"`
	Plans   map[uuid.UUID]planText `json:"plans,omitempty" doc:"by device, in place of what is planned"`
}

type previewView struct {
	Rows    []weigh.Outlook `json:"rows"`
	Changed int             `json:"changed" doc:"devices that something would be sent to"`
	Before  *costView       `json:"before,omitempty" doc:"of the whole site; missing where nobody has said how it is recorded"`
	After   *costView       `json:"after,omitempty"`
}

type costView = capacity.Cost

// budgetView is what the encoders of one model get through, as devices of it have shown.
type budgetView struct {
	Model string `json:"model"`
	tuning.Budget
}

// previews serve what a plan would change.
type previews struct {
	resource
	costs costs
}

func (s previews) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "preview-plans", Metadata: reads, Method: "POST", Path: "/api/sites/{site}/preview",
		Summary: "What plans would do to devices, as far as is known before anything is sent", MaxBodyBytes: 4 << 20},
		func(ctx context.Context, in *struct {
			SitePath
			Body previewBody
		}) (*struct{ Body previewView }, error) {
			return s.preview(ctx, in.Site, in.Body)
		})
	register(s, api, huma.Operation{OperationID: "list-budgets", Method: "GET", Path: "/api/sites/{site}/budgets",
		Summary: "What the encoders of each model get through, as was learned when they were set"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []budgetView }, error) {
			budgets, err := s.budgets(ctx, in.Site)
			out := &struct{ Body []budgetView }{Body: []budgetView{}}
			for model, b := range budgets {
				if b.Known() {
					out.Body = append(out.Body, budgetView{model, b})
				}
			}
			return out, s.explain(err)
		})
}

// budgets returns what the models of a site have shown when they were set.
func (s previews) budgets(ctx context.Context, site uuid.UUID) (map[string]tuning.Budget, error) {
	records, err := s.store.Devices.Tunings(ctx, site)
	if err != nil || len(records) == 0 {
		return nil, err
	}
	list, err := s.lineUp.site(ctx, site)
	if err != nil {
		return nil, err
	}
	defer list.mu.Unlock()
	seen := map[string][]tuning.Observation{}
	for _, r := range records {
		x := list.devices[r.Device]
		b, err := evidence.Decode[evidence.Tuned](r)
		if x == nil || err != nil || x.d.Status.Model() == "" {
			continue // one that cannot be read is told where its device is shown
		}
		if o, ok := b.Observation(x.view.Name); ok {
			o.Evidence = r.ID
			model := x.d.Status.Model()
			seen[model] = append(seen[model], o)
		}
	}
	out := map[string]tuning.Budget{}
	for model, o := range seen {
		out[model] = tuning.Learn(o)
	}
	return out, nil
}

// planned returns a device's plan and what a request puts in its place.
func planned(d *store.Device, drafts map[uuid.UUID]planText) (tuning.Plan, error) {
	draft, err := drafts[d.ID].read()
	return d.Status.Plan.With(draft), err
}

func (s previews) preview(ctx context.Context, site uuid.UUID, in previewBody) (*struct{ Body previewView }, error) {
	budgets, err := s.budgets(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	costs, err := s.costs.recordingOf(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	list, err := s.lineUp.site(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	defer list.mu.Unlock()
	out := &struct{ Body previewView }{previewView{Rows: []weigh.Outlook{}}}
	settable := map[uuid.UUID]bool{}
	for _, id := range in.Devices {
		x := list.devices[id]
		if x == nil {
			continue
		}
		plan, err := planned(&x.d, in.Plans)
		if err != nil {
			return nil, err
		}
		row := weigh.Camera(x.d.Latch(), plan, budgets[x.d.Status.Model()])
		if row.Preview != nil && row.Preview.Changed() {
			out.Body.Changed++
		}
		settable[id] = !row.Cannot
		out.Body.Rows = append(out.Body.Rows, row)
	}
	if costs == nil {
		return out, nil
	}
	devices := list.latches()
	before := weigh.Bare(weigh.Sources(devices, nil))
	after := weigh.Bare(weigh.Sources(devices, func(d *latch.Device) tuning.Plan {
		if !settable[d.ID] {
			return tuning.Plan{}
		}
		draft, _ := in.Plans[d.ID].read() // was read above
		return weigh.Unmet(&d.Status, draft)
	}))
	if c, err := costs.CostOf(before); err == nil {
		out.Body.Before = &c
	}
	if c, err := costs.CostOf(after); err == nil {
		out.Body.After = &c
	}
	return out, nil
}
