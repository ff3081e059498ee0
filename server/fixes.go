package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
)

type fixBody struct {
	Devices []uuid.UUID        `json:"devices" minItems:"1" maxItems:"5000"`
	Action  evidence.FixAction `json:"action" enum:"streams,clock,stream_user"`
	Undo    bool               `json:"undo,omitempty" doc:"put back what was before"`
	User    string             `json:"user,omitempty" maxLength:"60" doc:"name of the stream user to make"`
	Strict  bool               `json:"strict,omitempty" doc:"refuse everything where one device cannot be taken, rather than leave it out"`
	Each    bool               `json:"each,omitempty" doc:"a password of its own for each device; one for all where it is missing"`
}

// fixes serve what is mended on devices.
type fixes struct{ resource }

func (s fixes) routes(api huma.API) {
	s.fixRoutes(api)
	s.certificateRoutes(api)
}

func (s fixes) fixRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "fix-devices", Method: "POST", Path: "/api/sites/{site}/fixes",
		Summary: "Mend one thing on devices, read back, or take it back", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			TryQuery
			Body fixBody
		}) (*runOut, error) {
			b := in.Body
			return s.tryOrBegin(ctx, in.TryQuery, act.Fix{Site: in.Site, Devices: b.Devices, Strict: b.Strict, Action: b.Action,
				Undo: b.Undo, User: b.User, Each: b.Each})
		})
}

// certificateRoutes lets a person take a device's new certificate in place of the one that it was known by.
func (s fixes) certificateRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "take-certificate", Method: "POST", Path: "/api/devices/{device}/certificate",
		Summary: "Take the certificate that the device shows now"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				SHA256 string `json:"sha256" doc:"of the certificate that the person has seen"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.TakeCertificate{Device: in.Device, SHA256: in.Body.SHA256})
		})
}

// undoable returns the fixes on a device that can be taken back.
func undoable(st *latch.Status) []fixView {
	var out []fixView
	for _, r := range st.Fixes {
		out = append(out, fixView{Action: string(r.Action), Before: r.Before, After: r.After})
	}
	return out
}

// fixView is a change that Unlatch made on the device.
type fixView struct {
	Action string `json:"action" enum:"streams,clock,stream_user"`
	Before string `json:"before"`
	After  string `json:"after"`
}
