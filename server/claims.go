package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/signin"
)

type claimBody struct {
	Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
	User    string      `json:"user" minLength:"1" maxLength:"60"`
	Strict  bool        `json:"strict,omitempty" doc:"refuse everything where one device cannot be claimed, rather than leave it out"`
	Secret  string      `json:"secret,omitempty" maxLength:"200" doc:"one password for all; empty makes one of its own for each"`
}

// claims serve the claiming of devices.
type claims struct{ resource }

func (s claims) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "claim-devices", Method: "POST", Path: "/api/sites/{site}/claim",
		Summary: "Give factory-fresh devices their first account", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			TryQuery
			Body claimBody
		}) (*runOut, error) {
			b := in.Body
			return s.tryOrBegin(ctx, in.TryQuery, act.Claim{Site: in.Site, Devices: b.Devices, Strict: b.Strict, User: b.User,
				Secret: signin.NewSecret(b.Secret)})
		})
}
