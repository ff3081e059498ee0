package server

import (
	"context"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/wiretext"
)

// DevicePath names a device in the path. It is exported because huma reads exported fields only.
type DevicePath struct {
	Device uuid.UUID `path:"device"`
}

func (s *Server) deviceRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-devices", Method: "GET", Path: "/api/sites/{site}/devices",
		Summary: "A site's devices with their latches"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []encodedDevice }, error) {
			list, err := s.lineUp.site(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			defer list.mu.Unlock()
			return &struct{ Body []encodedDevice }{Body: list.all()}, nil
		})
	changes := api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[changesView](), true, "")
	register(s, api, huma.Operation{OperationID: "list-changes", Method: "GET", Path: "/api/sites/{site}/changes",
		Summary: "The devices that have changed since a version; all of them from the beginning",
		Responses: map[string]*huma.Response{"200": {Description: "OK",
			Content: map[string]*huma.MediaType{"application/json": {Schema: changes}}}}},
		func(ctx context.Context, in *struct {
			SitePath
			Since string `query:"since"`
		}) (*huma.StreamResponse, error) {
			list, err := s.lineUp.site(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			defer list.mu.Unlock()
			raw := list.since(s.lineUp.begun, in.Since).encode()
			return &huma.StreamResponse{Body: func(ctx huma.Context) {
				ctx.SetHeader("Content-Type", "application/json")
				ctx.BodyWriter().Write(raw)
			}}, nil
		})
	register(s, api, huma.Operation{OperationID: "get-device", Method: "GET", Path: "/api/devices/{device}", Summary: "One device"},
		func(ctx context.Context, in *DevicePath) (*struct{ Body deviceView }, error) {
			d, err := s.cfg.Store.Devices.Get(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			return &struct{ Body deviceView }{viewOf(d)}, nil
		})
	register(s, api, huma.Operation{OperationID: "rename-device", Method: "PATCH", Path: "/api/devices/{device}",
		Summary: "Name a device by what it sees"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				Name string `json:"name" maxLength:"120" doc:"empty gives back the device's own name"`
			}
		}) (*struct {
			Body struct {
				Before string `json:"before"`
			}
		}, error) {
			out := &struct {
				Body struct {
					Before string `json:"before"`
				}
			}{}
			var err error
			out.Body.Before, err = s.cfg.Store.Devices.Rename(ctx, in.Device, wiretext.Line(in.Body.Name, 120))
			return out, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "forget-device", Method: "DELETE", Path: "/api/devices/{device}",
		Summary: "Remove a device with its evidence"},
		func(ctx context.Context, in *DevicePath) (*struct{}, error) {
			d, err := s.cfg.Store.Devices.Get(ctx, in.Device)
			if err == nil {
				_, err = s.cfg.Store.Devices.Forget(ctx, person(ctx), d.Site, []uuid.UUID{d.ID})
			}
			return nil, s.explain(err)
		})
}
