package server

import (
	"context"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/release"
	"unlatch/core/ground/trouble"
	"unlatch/store"
)

// findingView is something seen that a person should act on.
type findingView struct {
	Cause   trouble.Cause `json:"cause"`
	Summary string        `json:"summary"`
	Fix     string        `json:"fix"`
	Seen    string        `json:"seen,omitempty"`
	Address string        `json:"address,omitempty" doc:"of a claim: the address that makes it"`
}

// findings returns what should be acted on at a device beside the latch that it waits at.
func findings(st *latch.Status) []findingView {
	var out []findingView
	for _, c := range st.Claims {
		d := diagnose.ClaimedBy(c.Addr, c.Still, c.Method)
		out = append(out, findingView{Cause: d.Cause, Summary: d.Summary, Fix: d.Fix, Seen: d.Seen, Address: c.Addr.String()})
	}
	for _, u := range st.Unreadable {
		d := u.Diagnosis
		out = append(out, findingView{Cause: d.Cause, Summary: d.Summary, Fix: d.Fix, Seen: d.Seen})
	}
	return out
}

type agreeBody struct {
	Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
	Breadth act.Breadth `json:"breadth" enum:"devices,models,site" doc:"these devices, their models on this site, or the site"`
	// Weaker agrees to a weaker scheme than a device has taken before, for these devices alone.
	Weaker bool `json:"weaker,omitempty" doc:"also take a weaker scheme than before, on these devices"`
}

// trust serves the agreements for devices, and what the server itself has to say.
type trust struct {
	resource
	room      *Room
	preparing func() string // nil where nothing is ever prepared
}

func (s trust) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "agree-readable", Method: "POST", Path: "/api/sites/{site}/agreements",
		Summary: "Agree that sign-ins may go out so that they can be read, and go on", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body agreeBody
		}) (*runOut, error) {
			return s.begin(ctx, act.AgreeReadable{Site: in.Site, Devices: in.Body.Devices, Breadth: in.Body.Breadth, Weaker: in.Body.Weaker})
		})
	register(s, api, huma.Operation{OperationID: "withdraw-agreement", Method: "DELETE", Path: "/api/devices/{device}/agreement",
		Summary: "Withdraw every agreement that covers a device"},
		func(ctx context.Context, in *DevicePath) (*struct{}, error) {
			return s.keep(ctx, act.WithdrawReadable{Device: in.Device})
		})
	register(s, api, huma.Operation{OperationID: "dismiss-claim", Method: "DELETE", Path: "/api/devices/{device}/claims/{address}",
		Summary: "Set a claim to be this device aside"},
		func(ctx context.Context, in *struct {
			DevicePath
			Address string `path:"address"`
		}) (*struct{}, error) {
			addr, err := netip.ParseAddr(in.Address)
			if err != nil {
				return nil, s.explain(store.ErrNotFound)
			}
			return s.keep(ctx, act.DismissClaim{Device: in.Device, Addr: addr})
		})
	register(s, api, huma.Operation{OperationID: "forget-devices", Method: "POST", Path: "/api/sites/{site}/forget",
		Summary: "Remove devices with their evidence"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"20000"`
			}
		}) (*struct {
			Body struct {
				Forgotten int64 `json:"forgotten"`
			}
		}, error) {
			out := &struct {
				Body struct {
					Forgotten int64 `json:"forgotten"`
				}
			}{}
			done, err := s.do(ctx, act.Forget{Site: in.Site, Devices: in.Body.Devices})
			if err == nil {
				out.Body.Forgotten, _ = done.Results[0].(int64)
			}
			return out, err
		})
	register(s, api, huma.Operation{OperationID: "end-storms", Method: "DELETE", Path: "/api/sites/{site}/storms",
		Summary: "Set the storms of announcements aside"},
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			return s.keep(ctx, act.EndStorms{Site: in.Site})
		})
	register(s, api, huma.Operation{OperationID: "get-health", Method: "GET", Path: "/api/health",
		Summary: "Whether the server has what it needs"},
		func(_ context.Context, _ *struct{}) (*struct{ Body healthView }, error) {
			out := &struct{ Body healthView }{}
			out.Body.FreeBytes, _ = s.room.Free()
			out.Body.LowOnDisk = s.room.Low()
			out.Body.Version = release.Running().String()
			if s.preparing != nil {
				out.Body.Preparing = s.preparing()
			}
			return out, nil
		})
}

type healthView struct {
	Version   string `json:"version" doc:"of the program, with the revision that it was built from"`
	FreeBytes uint64 `json:"free_bytes,omitempty" doc:"on the disk of the database; missing where that is elsewhere"`
	LowOnDisk bool   `json:"low_on_disk"`
	Preparing string `json:"preparing,omitempty" doc:"what the demo still prepares behind its pages; missing when all is ready"`
}
