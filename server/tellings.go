package server

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/telling"
	"unlatch/core/ground/signin"
	"unlatch/store"
)

// tellings serve who hears what of a site, and how that goes.
type tellings struct{ resource }

type tellingsView struct {
	Rules    []tellRuleView `json:"rules"`
	Messages []messageView  `json:"messages" doc:"the newest first"`
}

type tellRuleView struct {
	ID      uuid.UUID        `json:"id"`
	Rule    telling.Listener `json:"rule"`
	Secret  bool             `json:"secret" doc:"it has a password, or a signing secret"`
	Off     string           `json:"off,omitempty" doc:"why nothing is told any more"`
	Waiting int              `json:"waiting" doc:"messages that were not delivered yet"`
	Problem string           `json:"problem,omitempty" doc:"why the first of them was not taken"`
	Last    *time.Time       `json:"last,omitempty" doc:"when one was taken last"`
}

type messageView struct {
	ID       int64      `json:"id"`
	Rule     uuid.UUID  `json:"rule"`
	Headline string     `json:"headline"`
	At       time.Time  `json:"at"`
	Done     *time.Time `json:"done,omitempty"`
	GivenUp  bool       `json:"given_up,omitempty"`
	Tries    int        `json:"tries"`
	Problem  string     `json:"problem,omitempty"`
}

// RulePath names a rule of a site.
type RulePath struct {
	SitePath
	Rule uuid.UUID `path:"rule"`
}

// mostMessages is how many messages a page shows.
const mostMessages = 50

func (s tellings) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-tellings", Method: "GET", Path: "/api/sites/{site}/tellings",
		Summary: "Who hears what of the site, and how that goes", Metadata: needs(act.Work)},
		func(ctx context.Context, in *SitePath) (*struct{ Body tellingsView }, error) {
			rules, err := s.store.Tellings.Rules(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			messages, err := s.store.Tellings.Latest(ctx, in.Site, mostMessages)
			if err != nil {
				return nil, s.explain(err)
			}
			v := tellingsView{Rules: []tellRuleView{}, Messages: []messageView{}}
			for _, r := range rules {
				v.Rules = append(v.Rules, tellRuleView{ID: r.ID, Rule: r.Form.V, Secret: r.Secret, Off: r.Off, Waiting: r.Waiting, Problem: r.Problem,
					Last: r.Last})
			}
			for _, m := range messages {
				v.Messages = append(v.Messages, messageView{ID: m.ID, Rule: m.Rule, Headline: m.Body.V.Headline, At: m.Made, Done: m.Done,
					GivenUp: m.GivenUp, Tries: m.Tries, Problem: m.Problem})
			}
			return &struct{ Body tellingsView }{v}, nil
		})
	register(s, api, huma.Operation{OperationID: "put-tell-rule", Method: "PUT", Path: "/api/sites/{site}/tellings/{rule}",
		Summary: "Say who hears what: a new rule, or an old one that is changed"},
		func(ctx context.Context, in *struct {
			RulePath
			Body struct {
				Rule   telling.Listener `json:"rule"`
				Secret string           `json:"secret,omitempty" maxLength:"500" doc:"the password, or what a webhook's signature is made with; missing keeps it"`
			}
		}) (*struct{}, error) {
			r := in.Body.Rule
			if at := originOf(ctx).origin; at != "" {
				r.Link = at + "/sites/" + in.Site.String() + "/drift"
			}
			return s.keep(ctx, act.PutTellRule{ID: in.Rule, Site: in.Site, Rule: r, Secret: signin.NewSecret(in.Body.Secret)})
		})
	register(s, api, huma.Operation{OperationID: "delete-tell-rule", Method: "DELETE", Path: "/api/sites/{site}/tellings/{rule}",
		Summary: "Tell nobody any more by a rule"},
		func(ctx context.Context, in *RulePath) (*struct{}, error) {
			r, err := s.rule(ctx, in)
			if err != nil {
				return nil, err
			}
			return s.keep(ctx, act.DeleteTellRule{ID: in.Rule, Site: in.Site, Name: r.Form.V.Name})
		})
	register(s, api, huma.Operation{OperationID: "test-telling", Method: "POST", Path: "/api/sites/{site}/tellings/{rule}/test",
		Summary: "Send a message that says only that messages arrive"},
		func(ctx context.Context, in *RulePath) (*struct{}, error) {
			r, err := s.rule(ctx, in)
			if err != nil {
				return nil, err
			}
			return s.keep(ctx, act.TestTelling{ID: in.Rule, Site: in.Site, Name: r.Form.V.Name})
		})
}

// rule returns a rule of the site.
func (s tellings) rule(ctx context.Context, in *RulePath) (store.TellRule, error) {
	r, err := s.store.Tellings.Rule(ctx, in.Rule)
	if err == nil && r.Site != in.Site {
		err = store.ErrNotFound
	}
	return r, s.explain(err)
}
