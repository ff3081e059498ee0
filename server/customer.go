package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/sighting"
)

// cameraView is a camera in plain words, for whoever may look and no more: no address, no stream and no sign-in stands in it.
type cameraView struct {
	ID    uuid.UUID   `json:"id"`
	Name  string      `json:"name"`
	State latch.Plain `json:"state" enum:"works,shows,setting_up,no_picture" doc:"how it stands, in plain words"`
	Still *uuid.UUID  `json:"still,omitempty" doc:"its latest proven picture"`
	Roles []string    `json:"roles" doc:"the streams that can be looked at live"`
}

// cameras serve the line-up in plain words.
type cameras struct{ resource }

func (s cameras) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-cameras", Metadata: needs(act.Look), Method: "GET",
		Path: "/api/sites/{site}/cameras", Summary: "A site's cameras in plain words, with their pictures"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []cameraView }, error) {
			devices, err := s.store.Devices.List(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			out := &struct{ Body []cameraView }{Body: []cameraView{}}
			for i := range devices {
				d := &devices[i]
				if d.Status.Device.Kind != sighting.Camera || d.Status.Device.Stray {
					continue
				}
				v := cameraView{ID: d.ID, Name: d.Title(), State: d.Status.Plain(), Roles: []string{}}
				if !d.Name.Valid { // what it calls itself may be its address
					v.Name = "A camera without a name"
				}
				for _, st := range d.Status.Streams {
					if p, ok := d.Status.Proofs[st.Role]; ok && p.Diagnosis == nil {
						v.Roles = append(v.Roles, st.Role)
						if v.Still == nil {
							v.Still = p.Still
						}
					}
				}
				out.Body = append(out.Body, v)
			}
			return out, nil
		})
}
