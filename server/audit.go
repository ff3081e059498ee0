package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/store"
)

// auditLog serves the record of who did what.
type auditLog struct{ resource }

// auditRoutes show what was done, by whom and when.
func (s auditLog) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-acts", Method: "GET", Path: "/api/audit",
		Summary: "What was done by whom, newest first"},
		func(ctx context.Context, in *struct {
			Site   string `query:"site" doc:"of one site only"`
			Before string `query:"before" doc:"the act to go on after"`
		}) (*struct{ Body []store.Line }, error) {
			var site *uuid.UUID
			if id, err := uuid.Parse(in.Site); err == nil {
				if err := s.given(ctx, store.ThingSite, id); err != nil {
					return nil, err
				}
				site = &id
			}
			before, _ := uuid.Parse(in.Before)
			acts, err := s.store.Record.List(ctx, store.LineFilter{Given: sitesOf(ctx), Site: site, Before: before, Limit: 200})
			return &struct{ Body []store.Line }{acts}, s.explain(err)
		})
}
