package server

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/address"
	"unlatch/core/wiretext"
	"unlatch/store"
)

type interfaceView struct {
	Name    string   `json:"name"`
	Address []string `json:"addresses"`
	Gateway string   `json:"gateway,omitempty"`
	Ranges  []string `json:"ranges" doc:"offered as a site's ranges"`
}

type siteView struct {
	ID        uuid.UUID      `json:"id"`
	Name      string         `json:"name"`
	Ranges    []string       `json:"ranges"`
	Addresses uint64         `json:"addresses" doc:"how many the ranges hold"`
	Cameras   int            `json:"cameras"`
	Recorders int            `json:"recorders"`
	Others    int            `json:"others"`
	Strays    int            `json:"strays" doc:"devices heard outside the ranges"`
	Done      int            `json:"done" doc:"cameras with every latch open or waived"`
	Stuck     int            `json:"stuck" doc:"cameras with a stuck latch"`
	CanGoOn   int            `json:"can_go_on" doc:"cameras that wait for nothing but a person's button"`
	Funnel    map[string]int `json:"funnel" doc:"cameras waiting at each latch"`
	Stills    []uuid.UUID    `json:"stills" doc:"up to four pictures of its cameras"`
	Network   networkBody    `json:"network" doc:"how its addresses are laid out"`
	Watch     bool           `json:"watch" doc:"what devices announce by themselves is listened to"`
	LinkMbps  int            `json:"link_mbps,omitempty" doc:"how much may flow at once while streams are measured, Mbit/s; missing for a share of what the interface carries"`
	Reached   bool           `json:"reached" doc:"some worker reaches its network"`
	Storms    []store.Storm  `json:"storms" doc:"announcements that were not filed, since no wire has so many devices"`
	Created   time.Time      `json:"created_at"`
}

type siteBody struct {
	Name    string   `json:"name" minLength:"1" maxLength:"120"`
	Ranges  []string `json:"ranges" minItems:"1" maxItems:"64" doc:"CIDR prefixes, addresses, or first-last"`
	Confirm bool     `json:"confirm_large,omitempty" doc:"the number of addresses was shown and confirmed"`
	Link    int      `json:"link_mbps,omitempty" minimum:"0" maximum:"100000" doc:"how much may flow at once while streams are measured, Mbit/s; 0 for a share of what the interface carries"`
}

// read checks what a person typed.
func (b siteBody) read() (string, address.Ranges, error) {
	name := wiretext.Line(b.Name, 120)
	if name == "" {
		return "", address.Ranges{}, problem(422, "no_name", "The site has no name.", "Type a name.")
	}
	ranges, err := address.Parse(b.Ranges...)
	if err == nil && ranges.Empty() {
		err = problem(422, "bad_range", "The site has no range.", "Type a range such as 192.0.2.0/24.")
	}
	if err == nil && !b.Confirm {
		err = ranges.Check()
	}
	return name, ranges, err
}

// SitePath names a site in the path. It is exported because huma reads exported fields only.
type SitePath struct {
	Site uuid.UUID `path:"site"`
}

func (s *Server) siteRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-interfaces", Method: "GET", Path: "/api/interfaces",
		Summary: "The networks of the machine that works"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []interfaceView }, error) {
			return s.interfaces(ctx)
		})
	register(s, api, huma.Operation{OperationID: "list-sites", Method: "GET", Path: "/api/sites", Summary: "All sites"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []siteView }, error) {
			sites, err := s.cfg.Store.Sites.List(ctx)
			if err != nil {
				return nil, s.explain(err)
			}
			out := &struct{ Body []siteView }{Body: []siteView{}}
			for _, site := range sites {
				v, err := s.siteView(ctx, site)
				if err != nil {
					return nil, s.explain(err)
				}
				out.Body = append(out.Body, v)
			}
			return out, nil
		})
	register(s, api, huma.Operation{OperationID: "create-site", Method: "POST", Path: "/api/sites", Summary: "Make a site",
		DefaultStatus: 201},
		func(ctx context.Context, in *struct{ Body siteBody }) (*struct{ Body siteView }, error) {
			name, ranges, err := in.Body.read()
			if err != nil {
				return nil, s.explain(err)
			}
			site, err := s.cfg.Store.Sites.Create(ctx, name, ranges)
			if err == nil && in.Body.Link > 0 {
				site.LinkMbps = in.Body.Link
				err = s.cfg.Store.Sites.SetLink(ctx, site.ID, in.Body.Link)
			}
			if err == nil {
				err = s.did(ctx, "made the site", ranges.String(), site.ID, uuid.Nil)
			}
			if err != nil {
				return nil, s.explain(err)
			}
			v, err := s.siteView(ctx, site)
			return &struct{ Body siteView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "get-site", Method: "GET", Path: "/api/sites/{site}", Summary: "One site"},
		func(ctx context.Context, in *SitePath) (*struct{ Body siteView }, error) {
			site, err := s.cfg.Store.Sites.Get(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			v, err := s.siteView(ctx, site)
			return &struct{ Body siteView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "change-site", Method: "PUT", Path: "/api/sites/{site}",
		Summary: "Rename a site or change its ranges"},
		func(ctx context.Context, in *struct {
			SitePath
			Body siteBody
		}) (*struct{}, error) {
			name, ranges, err := in.Body.read()
			if err == nil {
				err = s.cfg.Store.Sites.Change(ctx, person(ctx), in.Site, name, ranges)
			}
			if err == nil {
				err = s.cfg.Store.Sites.SetLink(ctx, in.Site, in.Body.Link)
			}
			return nil, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "watch-site", Method: "PUT", Path: "/api/sites/{site}/watch",
		Summary: "Listen between sweeps for what devices announce, or stop"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				On bool `json:"on"`
			}
		}) (*struct{}, error) {
			return nil, s.explain(s.cfg.Store.Sites.SetWatch(ctx, in.Site, in.Body.On))
		})
	register(s, api, huma.Operation{OperationID: "delete-site", Method: "DELETE", Path: "/api/sites/{site}",
		Summary: "Remove a site with all it holds"},
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			if err := s.cfg.Store.Sites.Delete(ctx, person(ctx), in.Site); err != nil {
				return nil, s.explain(err)
			}
			return nil, s.explain(s.cfg.Queue.DropSite(ctx, in.Site))
		})
}

func (s *Server) interfaces(ctx context.Context) (*struct{ Body []interfaceView }, error) {
	all, err := s.cfg.Agent.Interfaces(ctx, uuid.Nil)
	if err != nil {
		return nil, s.explain(err)
	}
	out := &struct{ Body []interfaceView }{Body: []interfaceView{}}
	for _, i := range all {
		v := interfaceView{Name: i.Name, Ranges: i.Ranges(), Address: []string{}}
		for _, p := range i.Prefixes {
			v.Address = append(v.Address, p.String())
		}
		if i.Gateway.IsValid() {
			v.Gateway = i.Gateway.String()
		}
		out.Body = append(out.Body, v)
	}
	return out, nil
}

func (s *Server) siteView(ctx context.Context, site store.Site) (siteView, error) {
	v := siteView{ID: site.ID, Name: site.Name, Ranges: site.Ranges.Strings(), Addresses: site.Ranges.Count(),
		Network: viewOfNetwork(site.Network), Watch: site.Watch, LinkMbps: site.LinkMbps, Reached: site.Reached, Storms: site.Storms,
		Created: site.Created, Funnel: map[string]int{}, Stills: []uuid.UUID{}}
	list, err := s.lineUp.site(ctx, site.ID)
	if err != nil {
		return v, err
	}
	defer list.mu.Unlock()
	list.sum(&v)
	return v, nil
}
