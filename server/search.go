package server

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"
)

// mostFound is how many devices a search answers with.
const mostFound = 40

// search finds devices on all sites that exist for who asks.
type search struct{ resource }

// foundView is a device that was found by a search.
type foundView struct {
	ID       uuid.UUID `json:"id"`
	Site     uuid.UUID `json:"site"`
	SiteName string    `json:"site_name"`
	Name     string    `json:"name"`
	Address  string    `json:"address"`
}

func (s search) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "search-devices", Method: "GET", Path: "/api/search",
		Summary: "Find devices by name, address, model or serial number on all sites"},
		func(ctx context.Context, in *struct {
			Text string `query:"text" minLength:"2" maxLength:"100" doc:"words, all of which a device holds"`
		}) (*struct{ Body []foundView }, error) {
			found, err := s.find(ctx, strings.Fields(strings.ToLower(in.Text)))
			return &struct{ Body []foundView }{found}, s.explain(err)
		})
}

func (s search) find(ctx context.Context, words []string) ([]foundView, error) {
	out := []foundView{}
	if len(words) == 0 {
		return out, nil
	}
	sites, err := s.store.Sites.List(ctx)
	if err != nil {
		return nil, err
	}
	for _, site := range sites {
		if !person(ctx).Given(site.ID) {
			continue
		}
		list, err := s.lineUp.site(ctx, site.ID)
		if err != nil {
			return nil, err
		}
		for _, x := range list.order {
			v := &x.view
			if len(out) < mostFound && holds(strings.ToLower(strings.Join([]string{v.Name, v.Address, v.Maker, v.Model, v.Serial}, " ")), words) {
				out = append(out, foundView{v.ID, site.ID, site.Name, v.Name, v.Address})
			}
		}
		list.mu.Unlock()
	}
	return out, nil
}

// holds reports whether a text holds every word.
func holds(text string, words []string) bool {
	for _, w := range words {
		if !strings.Contains(text, w) {
			return false
		}
	}
	return true
}
