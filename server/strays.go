package server

import (
	"context"
	"net/netip"

	"github.com/danielgtaylor/huma/v2"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/jobs"
)

// strays serve the consent to reach strays.
type strays struct {
	resource
	agent jobs.Agent
}

func (s strays) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "guide-to-device", Method: "GET", Path: "/api/devices/{device}/guidance",
		Summary: "What the machine that reaches the site needs to reach a stray"},
		func(ctx context.Context, in *DevicePath) (*struct{ Body address.Guidance }, error) {
			d, err := s.store.Devices.Get(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			own, err := s.agent.Machine(ctx, d.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			all, err := s.store.Devices.List(ctx, d.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			var taken []netip.Addr
			for i := range all {
				taken = append(taken, all[i].Status.Device.Addr)
			}
			return &struct{ Body address.Guidance }{address.Guide(d.Status.Device.Addr, own, taken)}, nil
		})
	register(s, api, huma.Operation{OperationID: "consent", Method: "POST", Path: "/api/devices/{device}/consent",
		Summary: "Agree to connect to one stray for half an hour"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				Address string `json:"address" doc:"the stray's address, named by the person who agrees"`
				Reason  string `json:"reason" minLength:"1" maxLength:"300"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.Consent{Device: in.Device, Addr: in.Body.Address, Reason: in.Body.Reason})
		})
	register(s, api, huma.Operation{OperationID: "withdraw-consent", Method: "DELETE", Path: "/api/devices/{device}/consent",
		Summary: "Take the consent back"},
		func(ctx context.Context, in *DevicePath) (*struct{}, error) {
			return s.keep(ctx, act.WithdrawConsent{Device: in.Device})
		})
}
