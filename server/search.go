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

// firmwareView counts the devices of a model that run a version of firmware at a site.
type firmwareView struct {
	Site    uuid.UUID `json:"site"`
	Maker   string    `json:"maker"`
	Model   string    `json:"model"`
	Version string    `json:"version" doc:"empty where the devices tell none"`
	Devices int       `json:"devices"`
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
	register(s, api, huma.Operation{OperationID: "count-firmware", Method: "GET", Path: "/api/firmware",
		Summary: "Which versions of firmware run where, on all sites, by what the devices said when they were signed in to"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []firmwareView }, error) {
			sites, err := s.givenSites(ctx)
			if err != nil {
				return nil, s.explain(err)
			}
			counts, err := s.store.Devices.Firmware(ctx, sites)
			out := []firmwareView{}
			for _, c := range counts {
				out = append(out, firmwareView(c))
			}
			return &struct{ Body []firmwareView }{out}, s.explain(err)
		})
}

// givenSites returns the sites that are given to whoever asks.
func (s search) givenSites(ctx context.Context) (out []uuid.UUID, err error) {
	sites, err := s.store.Sites.List(ctx)
	for _, site := range sites {
		if person(ctx).Given(site.ID) {
			out = append(out, site.ID)
		}
	}
	return out, err
}

func (s search) find(ctx context.Context, words []string) ([]foundView, error) {
	out := []foundView{}
	if len(words) == 0 {
		return out, nil
	}
	sites, err := s.givenSites(ctx)
	if err != nil {
		return nil, err
	}
	found, err := s.store.Devices.Search(ctx, sites, words, mostFound)
	for i := range found {
		d := &found[i]
		out = append(out, foundView{d.ID, d.Site, d.SiteName, d.Title(), d.Addr})
	}
	return out, err
}
