package server

import (
	"context"
	"reflect"
	"strings"

	"unlatch/core/decide/act"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"
)

// DevicePath names a device in the path. It is exported because huma reads exported fields only.
type DevicePath struct {
	Device uuid.UUID `path:"device"`
}

// devices serve the devices of sites.
type devices struct{ resource }

func (s devices) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-devices", Method: "GET", Path: "/api/sites/{site}/devices",
		Summary: "A site's devices with their latches"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []encodedDevice }, error) {
			list, err := s.lineUp.site(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			defer list.mu.Unlock()
			return &struct{ Body []encodedDevice }{Body: list.ordered()}, nil
		})
	changes := api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[changesView](), true, "")
	register(s, api, huma.Operation{OperationID: "list-changes", Method: "GET", Path: "/api/sites/{site}/changes",
		Summary: "The devices that have changed since a version; all of them from the beginning",
		Responses: map[string]*huma.Response{"200": {Description: "OK",
			Content: map[string]*huma.MediaType{"application/json": {Schema: changes}}}}},
		func(ctx context.Context, in *struct {
			SitePath
			Since string `query:"since"`
			Takes string `header:"Accept-Encoding" hidden:"true"`
		}) (*huma.StreamResponse, error) {
			list, err := s.lineUp.site(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			defer list.mu.Unlock()
			raw, zipped := list.answer(s.lineUp.begun, in.Since, strings.Contains(in.Takes, "gzip"))
			return &huma.StreamResponse{Body: func(ctx huma.Context) {
				ctx.SetHeader("Content-Type", "application/json")
				if zipped {
					ctx.SetHeader("Content-Encoding", "gzip")
					ctx.AppendHeader("Vary", "Accept-Encoding")
				}
				ctx.BodyWriter().Write(raw)
			}}, nil
		})
	register(s, api, huma.Operation{OperationID: "get-device", Method: "GET", Path: "/api/devices/{device}", Summary: "One device"},
		func(ctx context.Context, in *DevicePath) (*struct{ Body deviceView }, error) {
			d, err := s.store.Devices.Get(ctx, in.Device)
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
				Name string  `json:"name" maxLength:"120" doc:"empty gives back the device's own name"`
				Was  *string `json:"was,omitempty" maxLength:"120" doc:"the name that was seen: refused with changed_meanwhile where it is another by now"`
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
			done, err := s.do(ctx, act.Rename{Device: in.Device, Name: in.Body.Name, Was: in.Body.Was})
			out.Body.Before = done.Line.Before
			return out, err
		})
	register(s, api, huma.Operation{OperationID: "name-devices", Method: "POST", Path: "/api/sites/{site}/names",
		Summary: "Name several devices at once: as typed, by a pattern, or by a list"}, s.nameAll)
	register(s, api, huma.Operation{OperationID: "forget-device", Extensions: map[string]any{"x-act": "forget-devices"},
		Method: "DELETE", Path: "/api/devices/{device}",
		Summary: "Remove a device with its evidence"},
		func(ctx context.Context, in *DevicePath) (*struct{}, error) {
			return s.keep(ctx, act.Forget{Devices: []uuid.UUID{in.Device}})
		})
}
