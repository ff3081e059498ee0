package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"unlatch/core/decide/act"
	"unlatch/core/decide/keeping"
)

// keepings serve how long the past is kept.
type keepings struct{ resource }

// keepingView is how long the past is kept, by the rule that somebody has set and by what holds where it says nothing.
type keepingView struct {
	Set   keeping.KeepingRule `json:"set"`
	Holds keeping.KeepingRule `json:"holds"`
}

func (s keepings) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "get-keeping", Method: "GET", Path: "/api/keeping", Metadata: needs(act.Administer),
		Summary: "How long the past is kept"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body keepingView }, error) {
			r, err := s.store.Watched.Keeping(ctx)
			return &struct{ Body keepingView }{keepingView{r, r.Whole()}}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "set-keeping", Method: "PUT", Path: "/api/keeping", Summary: "Say how long the past is kept"},
		func(ctx context.Context, in *struct{ Body keeping.KeepingRule }) (*struct{}, error) {
			return s.keep(ctx, act.SetKeeping{Rule: in.Body})
		})
}
