package server

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/doctor"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/conversion"
	"unlatch/store"
)

// relays serve the streams that workers serve on.
type relays struct{ resource }

type relaysView struct {
	// Pages says that the first of them serves streams to web pages.
	Pages bool `json:"pages,omitempty" doc:"the first worker serves streams to web pages"`
	// Faces says that the first of them makes ONVIF faces.
	Faces bool `json:"faces,omitempty" doc:"the first worker makes ONVIF faces"`
	// At are the addresses under which the workers of the site serve streams; none where no worker does.
	At     []string    `json:"at" doc:"host and port of each worker that serves streams of this site; empty where none does"`
	Relays []relayView `json:"relays"`
}

type relayView struct {
	ID     uuid.UUID `json:"id"`
	Device uuid.UUID `json:"device"`
	act.RelayForm
	As      string    `json:"as,omitempty" doc:"what it is turned into, in words"`
	User    string    `json:"user"`
	URL     string    `json:"url,omitempty" doc:"where it is served, without the sign-in; missing where no worker serves"`
	FaceAt  string    `json:"face_at,omitempty" doc:"where its ONVIF face answers; missing where it has none"`
	TLS     string    `json:"tls_url,omitempty" doc:"the same over TLS; missing where no worker serves so"`
	By      string    `json:"by,omitempty"`
	Created time.Time `json:"created"`
	Takers  int       `json:"takers" doc:"how many take it now"`
	Lost    int64     `json:"lost,omitempty" doc:"packets that takers were too slow for"`
	FPS     float64   `json:"fps,omitempty" doc:"pictures a second that one of the takers gets; missing where nobody takes it"`
	DelayMS float64   `json:"delay_ms,omitempty" doc:"milliseconds that serving adds, of 95 packets in 100 at most"`
	Problem string    `json:"problem,omitempty" doc:"why the camera did not play"`
	// CameraFPS and CameraLost are what comes from the camera meanwhile.
	CameraFPS  float64 `json:"camera_fps,omitempty" doc:"pictures a second that come from the camera meanwhile"`
	CameraLost int64   `json:"camera_lost,omitempty" doc:"packets of the camera that did not come"`
	// Sent is how sending to a live platform goes.
	Sent *pushView  `json:"sent,omitempty" doc:"how sending to the live platform goes; missing where it is sent to none, or no worker has told"`
	Told *time.Time `json:"told,omitempty" doc:"when its worker told of it last"`
}

type pushView struct {
	State string     `json:"state" enum:"connecting,sending,refused,broken,no_stream,off_hours,stopped"`
	Since *time.Time `json:"since,omitempty"`
	Says  string     `json:"says,omitempty" doc:"what the platform says, or what went wrong"`
}

type offeredRelay struct {
	Offer *act.RelayOffer `json:"offer,omitempty" doc:"missing where no relay would do, or no worker serves streams of the site"`
}

// RelayPath names a relay of a site.
type RelayPath struct {
	SitePath
	Relay uuid.UUID `path:"relay"`
}

func (s relays) routes(api huma.API) {
	s.costRoutes(api)
	s.sendRoutes(api)
	const path = "/api/sites/{site}/relays"
	register(s, api, huma.Operation{OperationID: "list-relays", Method: "GET", Path: path, Summary: "The streams that are served on"},
		func(ctx context.Context, in *SitePath) (*struct{ Body relaysView }, error) {
			v, err := s.view(ctx, in.Site)
			return &struct{ Body relaysView }{v}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "put-relay", Method: "PUT", Path: path + "/{relay}",
		Summary: "Have a stream served on, or change how it is"},
		func(ctx context.Context, in *struct {
			RelayPath
			Body struct {
				Device uuid.UUID     `json:"device"`
				Relay  act.RelayForm `json:"relay"`
				Anew   bool          `json:"anew,omitempty" doc:"make a new password: the old one opens nothing from then on"`
				Key    string        `json:"key,omitempty" maxLength:"500" doc:"the stream key of the live platform; missing to leave it as it is"`
			}
		}) (*struct{}, error) {
			a := act.PutRelay{ID: in.Relay, Site: in.Site, Device: in.Body.Device, RelayForm: in.Body.Relay, Key: signin.NewSecret(in.Body.Key)}
			old, err := s.store.Relays.Get(ctx, in.Relay)
			switch {
			case err != nil && !errors.Is(err, store.ErrNotFound):
				return nil, s.explain(err)
			case err == nil && (old.Site != in.Site || old.Device != in.Body.Device):
				return nil, s.explain(store.ErrNotFound)
			case err != nil || in.Body.Anew:
				a.User, a.Secret = "relay-"+strings.ToLower(rand.Text()[:6]), signin.NewSecret(rand.Text()[:16])
			}
			return s.keep(ctx, a)
		})
	register(s, api, huma.Operation{OperationID: "delete-relay", Method: "DELETE", Path: path + "/{relay}",
		Summary: "Have a stream served on no more"},
		func(ctx context.Context, in *RelayPath) (*struct{}, error) {
			r, err := s.relay(ctx, in)
			if err != nil {
				return nil, err
			}
			return s.keep(ctx, act.DeleteRelay{RelayName: relayName(r)})
		})
	register(s, api, huma.Operation{OperationID: "reveal-relay", Method: "POST", Path: path + "/{relay}/reveal",
		Summary: "Show the password that opens a relay"},
		func(ctx context.Context, in *RelayPath) (*struct {
			Body struct {
				User   string `json:"user"`
				Secret string `json:"secret"`
			}
		}, error) {
			r, err := s.relay(ctx, in)
			if err != nil {
				return nil, err
			}
			if _, err := s.do(ctx, act.RevealRelay{RelayName: relayName(r)}); err != nil {
				return nil, err
			}
			secret, err := s.store.Relays.Secret(ctx, r.ID)
			out := &struct {
				Body struct {
					User   string `json:"user"`
					Secret string `json:"secret"`
				}
			}{}
			out.Body.User, out.Body.Secret = r.User, secret.Reveal()
			return out, s.explain(err)
		})
}

// costRoutes say what relays would cost.
func (s relays) costRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "offer-relay", Method: "GET",
		Path:    "/api/sites/{site}/targets/{target}/relay-offers/{device}",
		Summary: "By which relay a target would take a camera that it does not take as it is"},
		func(ctx context.Context, in *struct {
			TargetPath
			Device uuid.UUID `path:"device"`
		}) (*struct{ Body offeredRelay }, error) {
			offer, err := s.offer(ctx, in.Site, in.Device, in.Target)
			return &struct{ Body offeredRelay }{offeredRelay{offer}}, err
		})
	register(s, api, huma.Operation{OperationID: "cost-relay", Metadata: reads, Method: "POST",
		Path:    "/api/sites/{site}/devices/{device}/relay-cost",
		Summary: "What it costs a worker to serve a stream of a camera on in a form"},
		func(ctx context.Context, in *struct {
			SitePath
			Device uuid.UUID `path:"device"`
			Body   struct {
				Role string           `json:"role" enum:"main,sub,third"`
				Form conversion.Shape `json:"form"`
			}
		}) (*struct{ Body act.RelayCost }, error) {
			st, serving, err := s.about(ctx, in.Site, in.Device)
			if err != nil {
				return nil, err
			}
			return &struct{ Body act.RelayCost }{act.CostOfRelay(st.FitStreams()[in.Body.Role], in.Body.Form, serving)}, nil
		})
}

// relay returns a relay of the site.
func (s relays) relay(ctx context.Context, in *RelayPath) (store.Relay, error) {
	r, err := s.store.Relays.Get(ctx, in.Relay)
	if err == nil && r.Site != in.Site {
		err = store.ErrNotFound
	}
	return r, s.explain(err)
}

// relayName returns what acts call a relay by.
func relayName(r store.Relay) act.RelayName {
	return act.RelayName{ID: r.ID, Site: r.Site, Device: r.Device, Path: r.Path}
}

func (s relays) view(ctx context.Context, site uuid.UUID) (v relaysView, err error) {
	of, err := s.store.Sites.Get(ctx, site)
	if err != nil {
		return v, err
	}
	processes, err := s.store.Upkeep.Processes(ctx)
	if err != nil {
		return v, err
	}
	v.At, v.Relays = servedAt(processes, of, func(p doctor.Process) string { return p.Relay }), []relayView{}
	v.Pages = slices.ContainsFunc(processes, func(p doctor.Process) bool { return p.Pages != "" && slices.Contains(p.Sites, of.Name) })
	v.Faces = slices.ContainsFunc(processes, func(p doctor.Process) bool { return p.Faces.Last > 0 && slices.Contains(p.Sites, of.Name) })
	secure := servedAt(processes, of, func(p doctor.Process) string { return p.RelayTLS })
	list, err := s.store.Relays.List(ctx, site)
	if err != nil {
		return v, err
	}
	going, err := s.store.Relays.Statuses(ctx, site)
	if err != nil {
		return v, err
	}
	for _, r := range list {
		x := relayView{ID: r.ID, Device: r.Device, User: r.User, By: r.By, Created: r.Created,
			RelayForm: act.RelayForm{Role: r.Role, Path: r.Path, For: r.For, Always: r.Always, Most: r.Most, Form: r.Form.V, At: r.At,
				Face: r.FacePort > 0, Page: r.Page, Push: r.Push.V}}
		if r.Target != nil {
			x.Target = *r.Target
		}
		if x.As = r.Form.V.String(); r.Form.V.IsZero() {
			x.As = ""
		}
		if host, _, err := net.SplitHostPort(r.At); err == nil && r.FacePort > 0 {
			x.FaceAt = fmt.Sprintf("http://%s/onvif/device_service", net.JoinHostPort(host, strconv.Itoa(r.FacePort)))
		}
		if len(v.At) > 0 {
			x.URL = "rtsp://" + cmp.Or(r.At, v.At[0]) + "/" + r.Path
		}
		if len(secure) > 0 {
			x.TLS = "rtsps://" + secure[0] + "/" + r.Path
		}
		if g, ok := going[r.ID.String()]; ok {
			x.Takers, x.Lost, x.Problem, x.Told, x.FPS, x.DelayMS = g.Takers, g.Lost, g.Problem, &g.At, g.FPS, g.DelayMS
			x.CameraFPS, x.CameraLost = g.CameraFPS, g.CameraLost
			if r.Push.V != nil && g.PushState != "" {
				x.Sent = &pushView{State: g.PushState, Since: g.PushSince, Says: g.PushSays}
			}
		}
		v.Relays = append(v.Relays, x)
	}
	return v, nil
}

// servedAt returns where the workers of a site serve streams. at returns where a worker listens, "" for nowhere.
func servedAt(list []doctor.Process, site store.Site, at func(doctor.Process) string) []string {
	out := []string{}
	for _, p := range list {
		if a := p.ServedAt(site.Name, site.Ranges.Prefixes(), at(p)); a != "" {
			out = append(out, a)
		}
	}
	return out
}

// about returns what relays of a camera are judged by: its state, and the workers that serve streams of the site on.
func (s relays) about(ctx context.Context, site, device uuid.UUID) (st *latch.Status, serving []act.Serving, err error) {
	of, err := s.store.Sites.Get(ctx, site)
	if err == nil {
		serving, err = s.store.Relays.Serving(ctx, of.Name, of.Ranges)
	}
	if err != nil {
		return nil, nil, s.explain(err)
	}
	up, err := s.lineUp.site(ctx, site)
	if err != nil {
		return nil, nil, s.explain(err)
	}
	defer up.mu.Unlock()
	x := up.devices[device]
	if x == nil {
		return nil, nil, s.explain(store.ErrNotFound)
	}
	now := x.d.Status
	return &now, serving, nil
}

// offer says by which relay a target would take a camera.
func (s relays) offer(ctx context.Context, site, device, target uuid.UUID) (*act.RelayOffer, error) {
	t, err := s.store.Targets.Get(ctx, target)
	if err == nil && t.Site != site && !t.Shared {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, s.explain(err)
	}
	on, err := s.store.Targets.Latch(ctx, t)
	if err != nil {
		return nil, s.explain(err)
	}
	st, serving, err := s.about(ctx, site, device)
	if err != nil {
		return nil, err
	}
	return act.OfferRelay(st, on, serving), nil
}
