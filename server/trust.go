package server

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/diagnose"
	"unlatch/core/evidence"
	"unlatch/core/latch"
	"unlatch/core/signin"
	"unlatch/store"
)

// findingView is something seen that a person should act on.
type findingView struct {
	Cause   diagnose.Cause `json:"cause"`
	Summary string         `json:"summary"`
	Fix     string         `json:"fix"`
	Seen    string         `json:"seen,omitempty"`
	Address string         `json:"address,omitempty" doc:"of a claim: the address that makes it"`
}

// findings are what should be acted on at a device beside the latch that it waits at.
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
	Devices []uuid.UUID   `json:"devices" minItems:"1" maxItems:"5000"`
	Breadth store.Breadth `json:"breadth" enum:"devices,models,site" doc:"how far it reaches: these devices, their models on this site, or the whole site"`
	// Weaker agrees to a weaker scheme than a device has taken before, for these devices alone.
	Weaker bool `json:"weaker,omitempty" doc:"also take a weaker scheme than before, on these devices"`
}

func (s *Server) trustRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "agree-readable", Method: "POST", Path: "/api/sites/{site}/agreements",
		Summary: "Agree that sign-ins may go out so that they can be read, and go on", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body agreeBody
		}) (*runOut, error) {
			return s.agree(ctx, in.Site, in.Body)
		})
	register(s, api, huma.Operation{OperationID: "withdraw-agreement", Method: "DELETE", Path: "/api/devices/{device}/agreement",
		Summary: "Withdraw every agreement that covers a device"},
		func(ctx context.Context, in *DevicePath) (*struct{}, error) {
			d, err := s.cfg.Store.Devices.Get(ctx, in.Device)
			if err == nil {
				err = s.cfg.Store.Consents.Disagree(ctx, person(ctx), d)
			}
			return nil, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "dismiss-claim", Method: "DELETE", Path: "/api/devices/{device}/claims/{address}",
		Summary: "Set a claim to be this device aside"},
		func(ctx context.Context, in *struct {
			DevicePath
			Address string `path:"address"`
		}) (*struct{}, error) {
			d, err := s.cfg.Store.Devices.Get(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			addr, err := netip.ParseAddr(in.Address)
			for _, c := range d.Status.Claims {
				if err != nil || c.Addr != addr {
					continue
				}
				if err := s.did(ctx, "set a claim aside", "of "+addr.String(), d.Site, d.ID); err != nil {
					return nil, s.explain(err)
				}
				c.Dismissed = true
				return nil, s.explain(s.cfg.Store.Devices.Record(ctx, d, nil, store.Finding{Subject: addr.String(), Body: c}))
			}
			return nil, s.explain(store.ErrNotFound)
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
			var err error
			out.Body.Forgotten, err = s.cfg.Store.Devices.Forget(ctx, person(ctx), in.Site, in.Body.Devices)
			return out, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "end-storms", Method: "DELETE", Path: "/api/sites/{site}/storms",
		Summary: "Set the storms of announcements aside"},
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			return nil, s.explain(s.cfg.Store.Sites.EndStorms(ctx, in.Site))
		})
	register(s, api, huma.Operation{OperationID: "get-health", Method: "GET", Path: "/api/health",
		Summary: "Whether the server has what it needs"},
		func(_ context.Context, _ *struct{}) (*struct{ Body healthView }, error) {
			out := &struct{ Body healthView }{}
			out.Body.FreeBytes, _ = s.cfg.Room.Free()
			out.Body.LowOnDisk = s.cfg.Room.Low()
			return out, nil
		})
}

type healthView struct {
	FreeBytes uint64 `json:"free_bytes,omitempty" doc:"on the disk of the database; missing where that is elsewhere"`
	LowOnDisk bool   `json:"low_on_disk"`
}

// agree keeps what a person has agreed to for a selection, and goes on with the devices: one question for all of them.
func (s *Server) agree(ctx context.Context, site uuid.UUID, in agreeBody) (*runOut, error) {
	var devices []store.Device
	for _, id := range in.Devices {
		d, err := s.cfg.Store.Devices.Get(ctx, id)
		if err != nil {
			return nil, s.explain(err)
		}
		if d.Site != site {
			return nil, s.explain(store.ErrNotFound)
		}
		devices = append(devices, *d)
	}
	if err := s.cfg.Store.Consents.Agree(ctx, person(ctx), site, devices, in.Breadth); err != nil {
		return nil, s.explain(err)
	}
	for i := range devices {
		d := &devices[i]
		w := d.Status.Wanted()
		if !in.Weaker || w == nil || w.Before == "" || w.Service == signin.Target {
			continue
		}
		purpose, wants := string(w.Service), w.Scheme
		if err := s.did(ctx, "agreed to a weaker sign-in scheme", fmt.Sprintf("%s, before %s", wants, d.Status.Schemes[purpose]), site,
			d.ID); err != nil {
			return nil, s.explain(err)
		}
		f := store.Finding{Subject: purpose, Body: evidence.Scheme{Scheme: wants, Before: d.Status.Schemes[purpose]}}
		if err := s.cfg.Store.Devices.Record(ctx, d, nil, f); err != nil {
			return nil, s.explain(err)
		}
	}
	run, err := s.cfg.Queue.Open(ctx, site, "Go on with "+cameras(len(devices)), in.Devices, false)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}
