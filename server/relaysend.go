package server

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"unlatch/core/decide/act"
	webpages "unlatch/core/work/pages"
	"unlatch/store"
)

type pageAddress struct {
	URL   string    `json:"url" doc:"a page that plays the stream"`
	HLS   string    `json:"hls" doc:"the playlist, for players of HLS"`
	WHEP  string    `json:"whep" doc:"for players of WebRTC"`
	Embed string    `json:"embed" doc:"HTML that shows it within another page"`
	Until time.Time `json:"until"`
}

// sendRoutes are those of what is sent to web pages and to live platforms.
func (s relays) sendRoutes(api huma.API) {
	const path = "/api/sites/{site}/relays"
	register(s, api, huma.Operation{OperationID: "make-page", Method: http.MethodPost, Path: path + "/{relay}/pages",
		Summary: "Make an address under which web pages play a relay until a time"},
		func(ctx context.Context, in *struct {
			RelayPath
			Body struct {
				Until time.Time `json:"until" doc:"when it ends, within 400 days"`
			}
		}) (*struct{ Body pageAddress }, error) {
			r, err := s.relay(ctx, &in.RelayPath)
			if err != nil {
				return nil, err
			}
			if _, err := s.do(ctx, act.MakePage{RelayName: relayName(r), On: r.Page, Until: in.Body.Until}); err != nil {
				return nil, err
			}
			v, err := s.page(ctx, r, in.Body.Until)
			return &struct{ Body pageAddress }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "pause-push", Method: http.MethodPut, Path: path + "/{relay}/paused",
		Summary: "Stop sending a relay to its live platform, or begin again"},
		func(ctx context.Context, in *struct {
			RelayPath
			Body struct {
				Paused bool `json:"paused"`
			}
		}) (*struct{}, error) {
			r, err := s.relay(ctx, &in.RelayPath)
			if err != nil {
				return nil, err
			}
			return s.keep(ctx, act.PausePush{RelayName: relayName(r), Paused: in.Body.Paused})
		})
	register(s, api, huma.Operation{OperationID: "stop-pushes", Method: http.MethodPost, Path: "/api/sites/{site}/pushes/stop",
		Summary: "Stop all that is sent to live platforms of a site"},
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			return s.keep(ctx, act.StopPushes{Site: in.Site})
		})
}

// page signs the address of a relay's page.
func (s relays) page(ctx context.Context, r store.Relay, until time.Time) (v pageAddress, err error) {
	of, err := s.store.Sites.Get(ctx, r.Site)
	if err != nil {
		return v, err
	}
	serving, err := s.store.Relays.Serving(ctx, of.Name, of.Ranges)
	if err != nil {
		return v, err
	}
	at := ""
	for _, w := range serving {
		if at == "" || w.At == r.At {
			at = w.Pages
		}
	}
	if at == "" {
		return v, problem(http.StatusConflict, "no_pages", "No worker serves streams of this site to web pages.",
			"Set relay-pages in its settings, such as 0.0.0.0:8590.")
	}
	secret, err := s.store.Relays.Secret(ctx, r.ID)
	if err != nil {
		return v, err
	}
	v.URL, v.Until = at+webpages.Sign(secret, r.Path, until), until.UTC().Truncate(time.Second)
	v.HLS, v.WHEP = v.URL+"index.m3u8", v.URL+"whep"
	v.Embed = fmt.Sprintf(`<iframe src="%s" width="640" height="360" style="border:0" allow="autoplay; fullscreen"></iframe>`, v.URL)
	return v, nil
}
