package server

import (
	"context"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/tuning"
)

type tuneBody struct {
	Devices []uuid.UUID            `json:"devices" minItems:"1" maxItems:"5000"`
	Plan    planText               `json:"plan,omitempty" doc:"by part, kept as the own plan of each device; what is left out stays"`
	Plans   map[uuid.UUID]planText `json:"plans,omitempty" doc:"the same by device"`
	Undo    bool                   `json:"undo,omitempty" doc:"put back what was before, and take away the devices' own plans"`
	Strict  bool                   `json:"strict,omitempty" doc:"refuse everything where one device cannot be set, rather than leave it out"`
	Restart bool                   `json:"restart,omitempty" doc:"restart devices that have taken settings and go on as before"`
}

// plans returns the plans in a request by device.
func (b tuneBody) plans() (map[uuid.UUID]tuning.Plan, error) {
	all, err := b.Plan.read()
	if err != nil {
		return nil, err
	}
	out := map[uuid.UUID]tuning.Plan{}
	for _, id := range b.Devices {
		own, err := b.Plans[id].read()
		if err != nil {
			return nil, err
		}
		if p := all.With(own); !p.IsZero() {
			out[id] = p
		}
	}
	return out, nil
}

// tunes serve the setting of streams.
type tunes struct{ resource }

func (s tunes) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "tune-devices", Method: "POST", Path: "/api/sites/{site}/tune",
		Summary: "Set the streams of devices to their plans, read back and measured, or put them back", DefaultStatus: 202,
		MaxBodyBytes: 4 << 20},
		func(ctx context.Context, in *struct {
			SitePath
			TryQuery
			Body tuneBody
		}) (*runOut, error) {
			own, err := in.Body.plans()
			if err != nil {
				return nil, err
			}
			b := in.Body
			return s.tryOrBegin(ctx, in.TryQuery, act.Tune{Site: in.Site, Devices: b.Devices, Strict: b.Strict, Plans: own, Undo: b.Undo,
				Restart: b.Restart})
		})
	register(s, api, huma.Operation{OperationID: "plan-devices", Method: "PUT", Path: "/api/sites/{site}/device-plans",
		Summary: "Plan the streams of single devices. Nothing is sent to any device", MaxBodyBytes: 4 << 20},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Plans map[uuid.UUID]planText `json:"plans" doc:"by device; an empty one takes the device's own plan away"`
			}
		}) (*struct{}, error) {
			own := map[uuid.UUID]tuning.Plan{}
			for id, text := range in.Body.Plans {
				plan, err := text.read()
				if err != nil {
					return nil, err
				}
				own[id] = plan
			}
			return s.keep(ctx, act.PlanDevices{Site: in.Site, Plans: own})
		})
}

// viewOfTuning is nil where nobody has set anything.
func viewOfTuning(b *evidence.Tuned) *tuningView {
	if b == nil {
		return nil
	}
	v := &tuningView{Plan: tuning.Plan{Streams: b.Plan, Overlay: b.Overlay}.Texts(), Before: map[string]string{}, Changes: b.Changes,
		Refused: b.Refused, SideEffects: b.SideEffects, Made: b.Made}
	for role, e := range b.Before {
		v.Before[role] = e.Plan().String()
	}
	return v
}

// tuningView is how a device's streams were set.
type tuningView struct {
	Plan        map[string]string `json:"plan" doc:"by part, as it was wanted"`
	Before      map[string]string `json:"before" doc:"by role, what undo puts back"`
	Changes     []tuning.Change   `json:"changes"`
	Refused     []tuning.Refusal  `json:"refused"`
	SideEffects []string          `json:"side_effects"`
	Made        []string          `json:"made,omitempty" doc:"streams that were made, which undo takes away"`
}

// wishView is what is wanted of one part of a device, and whose plan says so.
type wishView struct {
	Text   string         `json:"text" doc:"as people write it"`
	Owner  tuning.Owner   `json:"owner" enum:"camera,selection,model,site"`
	Whose  string         `json:"whose" doc:"its own, the site’s, of the model …, of the selection …"`
	Stream *tuning.Stream `json:"stream,omitempty" doc:"missing for the overlay"`
}

func viewOfPlan(st *latch.Status) map[string]wishView {
	out := map[string]wishView{}
	for part, text := range st.Plan.Texts() {
		w := wishView{Text: text, Owner: st.Whose[part].Owner, Whose: st.Whose[part].Whose()}
		if stream, ok := st.Plan.Streams[part]; ok {
			w.Stream = &stream
		}
		out[part] = w
	}
	return out
}

// offerView is what a device can be set to, in short.
type offerView struct {
	Sizes    map[string][]string `json:"sizes" doc:"by role, of its codec now"`
	Codecs   map[string][]string `json:"codecs" doc:"by role"`
	Makes    bool                `json:"makes,omitempty" doc:"a stream that it does not have can be made"`
	Overlays int                 `json:"overlays,omitempty" doc:"how many texts it draws at most"`
	Texts    []string            `json:"texts,omitempty" doc:"that it draws now"`
}

func viewOfOffers(b *evidence.Offers) *offerView {
	if b == nil || b.Diagnosis != nil {
		return nil
	}
	v := &offerView{Sizes: map[string][]string{}, Codecs: map[string][]string{}, Makes: b.Makes, Overlays: b.Overlays.Most}
	for _, o := range b.Streams {
		codec, _ := o.Options.Of(o.Encoder.Codec)
		for _, s := range codec.Sizes {
			if text := s.String(); !slices.Contains(v.Sizes[o.Role], text) {
				v.Sizes[o.Role] = append(v.Sizes[o.Role], text)
			}
		}
		for _, c := range o.Options.Codecs {
			v.Codecs[o.Role] = append(v.Codecs[o.Role], c.Codec)
		}
	}
	for _, t := range b.Overlays.Has {
		v.Texts = append(v.Texts, t.Kind+" "+t.Plain)
	}
	return v
}
