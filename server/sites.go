package server

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/address"
	"unlatch/jobs"
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
	Customer  string         `json:"customer,omitempty" doc:"whose site it is"`
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
	// Since is when the first of those that are stuck or can go on came to where they stand.
	Since    *time.Time    `json:"since,omitempty" doc:"since when cameras are stuck, or wait for a person"`
	LastAct  *lastActView  `json:"last_act,omitempty" doc:"what was done there last; for whoever may see the record"`
	Stills   []uuid.UUID   `json:"stills" doc:"up to four pictures of its cameras"`
	Network  networkBody   `json:"network" doc:"how its addresses are laid out"`
	Watch    bool          `json:"watch" doc:"what devices announce by themselves is listened to"`
	LinkMbps int           `json:"link_mbps,omitempty" doc:"Mbit/s while streams are measured; missing for a share of what the interface carries"`
	Reached  bool          `json:"reached" doc:"some worker reaches its network"`
	Far      bool          `json:"far" doc:"a paired worker does its work, over a line that may be slow"`
	Storms   []store.Storm `json:"storms" doc:"announcements that were not filed, since no wire has so many devices"`
	Created  time.Time     `json:"created_at"`
	// Work is for whoever may see the site.
	Work store.SiteWork `json:"work" doc:"who works it from elsewhere, and what waits to be done; in the list of sites alone"`
}

// lastActView is the newest line of a site's record.
type lastActView struct {
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Action  string    `json:"action" doc:"what was done, in words; the subject follows"`
	Subject string    `json:"subject"`
}

// SiteBody is a site as it shall be. It is exported because huma reads exported fields only.
type SiteBody struct {
	Name     string   `json:"name" minLength:"1" maxLength:"120"`
	Customer string   `json:"customer,omitempty" maxLength:"120" doc:"whose site it is; sites are listed by it"`
	Ranges   []string `json:"ranges" minItems:"1" maxItems:"64" doc:"CIDR prefixes, addresses, or first-last"`
	Confirm  bool     `json:"confirm_large,omitempty" doc:"the number of addresses was shown and confirmed"`
	Link     int      `json:"link_mbps,omitempty" minimum:"0" maximum:"100000" doc:"while streams are measured; 0 for a share of what the interface carries"`
}

func (b SiteBody) form() (act.SiteForm, error) {
	ranges, err := address.Parse(b.Ranges...)
	return act.SiteForm{Name: b.Name, Customer: b.Customer, Ranges: ranges, Confirmed: b.Confirm, LinkMbps: b.Link}, err
}

// changeSiteBody is a site as it shall be, with what it was.
type changeSiteBody struct {
	SiteBody
	Was *SiteBody `json:"was,omitempty" doc:"the site that was seen: refused with changed_meanwhile where it is another by now"`
}

// SitePath names a site in the path. It is exported because huma reads exported fields only.
type SitePath struct {
	Site uuid.UUID `path:"site"`
}

// plainSite returns a site for whoever may look and no more: its name, and no word of its network.
func plainSite(site store.Site) siteView {
	return siteView{ID: site.ID, Name: site.Name, Ranges: []string{}, Funnel: map[string]int{}, Stills: []uuid.UUID{}, Storms: []store.Storm{},
		Reached: site.Reached, Created: site.Created}
}

// sites serve the sites.
type sites struct {
	resource
	agent jobs.Agent
}

// list returns the sites that exist for who asks.
func (s sites) list(ctx context.Context) ([]siteView, error) {
	sites, err := s.store.Sites.List(ctx)
	if err != nil {
		return nil, s.explain(err)
	}
	newest, err := s.store.Record.Newest(ctx)
	if err != nil {
		return nil, s.explain(err)
	}
	work, err := s.store.Paired.Work(ctx)
	if err != nil {
		return nil, s.explain(err)
	}
	p := person(ctx)
	out, at := []siteView{}, map[uuid.UUID]int{}
	for _, site := range sites {
		switch {
		case !p.Given(site.ID):
			continue
		case !p.Role.May(act.See):
			out = append(out, plainSite(site))
			continue
		}
		v := viewOfSite(site)
		v.Work = work[site.ID]
		if l, ok := newest[site.ID]; ok {
			v.LastAct = &lastActView{At: l.At, By: l.Person, Action: l.Action, Subject: l.Subject}
		}
		at[site.ID] = len(out)
		out = append(out, v)
	}
	err = s.lineUp.each(ctx, slices.Collect(maps.Keys(at)), func(id uuid.UUID, list *siteLineUp) { list.sum(&out[at[id]]) })
	return out, s.explain(err)
}

func (s sites) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-interfaces", Metadata: needs(act.Inspect), Method: "GET", Path: "/api/interfaces",
		Summary: "The networks of the machine that works"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []interfaceView }, error) {
			return s.interfaces(ctx)
		})
	register(s, api, huma.Operation{OperationID: "list-sites", Metadata: needs(act.Look), Method: "GET", Path: "/api/sites",
		Summary: "The sites that exist for who asks"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []siteView }, error) {
			list, err := s.list(ctx)
			return &struct{ Body []siteView }{list}, err
		})
	register(s, api, huma.Operation{OperationID: "create-site", Method: "POST", Path: "/api/sites", Summary: "Make a site",
		DefaultStatus: 201},
		func(ctx context.Context, in *struct{ Body SiteBody }) (*struct{ Body siteView }, error) {
			form, err := in.Body.form()
			if err != nil {
				return nil, s.explain(err)
			}
			id := uuid.Must(uuid.NewV7())
			if _, err := s.do(ctx, act.CreateSite{ID: id, SiteForm: form}); err != nil {
				return nil, err
			}
			site, err := s.store.Sites.Get(ctx, id)
			if err != nil {
				return nil, s.explain(err)
			}
			v, err := s.siteView(ctx, site)
			return &struct{ Body siteView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "get-site", Method: "GET", Path: "/api/sites/{site}", Summary: "One site"},
		func(ctx context.Context, in *SitePath) (*struct{ Body siteView }, error) {
			site, err := s.store.Sites.Get(ctx, in.Site)
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
			Body changeSiteBody
		}) (*struct{}, error) {
			form, err := in.Body.form()
			if err != nil {
				return nil, s.explain(err)
			}
			change := act.ChangeSite{Site: in.Site, SiteForm: form}
			if in.Body.Was != nil {
				was, err := in.Body.Was.form()
				if err != nil {
					return nil, s.explain(err)
				}
				change.Was = &was
			}
			return s.keep(ctx, change)
		})
	register(s, api, huma.Operation{OperationID: "watch-site", Method: "PUT", Path: "/api/sites/{site}/watch",
		Summary: "Listen between sweeps for what devices announce, or stop"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				On bool `json:"on"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.WatchSite{Site: in.Site, On: in.Body.On})
		})
	register(s, api, huma.Operation{OperationID: "delete-site", Method: "DELETE", Path: "/api/sites/{site}",
		Summary: "Remove a site with all it holds"},
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			return s.keep(ctx, act.DeleteSite{Site: in.Site})
		})
}

func (s sites) interfaces(ctx context.Context) (*struct{ Body []interfaceView }, error) {
	machine, err := s.agent.Machine(ctx, uuid.Nil)
	if err != nil {
		return nil, s.explain(err)
	}
	out := &struct{ Body []interfaceView }{Body: []interfaceView{}}
	for _, i := range machine.Interfaces {
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

func (s sites) siteView(ctx context.Context, site store.Site) (siteView, error) {
	v := viewOfSite(site)
	list, err := s.lineUp.site(ctx, site.ID)
	if err != nil {
		return v, err
	}
	defer list.mu.Unlock()
	list.sum(&v)
	return v, nil
}

// viewOfSite returns a site without what stands in its line-up.
func viewOfSite(site store.Site) siteView {
	return siteView{ID: site.ID, Name: site.Name, Ranges: site.Ranges.Strings(), Addresses: site.Ranges.Count(),
		Network: viewOfNetwork(site.Network), Watch: site.Watch, Customer: site.Customer, LinkMbps: site.LinkMbps,
		Reached: site.Reached, Far: site.Far, Storms: site.Storms,
		Created: site.Created, Funnel: map[string]int{}, Stills: []uuid.UUID{}}
}
