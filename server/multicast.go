package server

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/multicast"
)

// castView is how one stream is sent to a group, as far as that is known.
type castView struct {
	Device      uuid.UUID            `json:"device"`
	Name        string               `json:"name"`
	Address     string               `json:"address"`
	Role        string               `json:"role" enum:"main,sub,third"`
	Known       bool                 `json:"known" doc:"it was asked and listened to"`
	Group       string               `json:"group,omitempty" doc:"and port, by the device's own word"`
	TTL         int                  `json:"ttl,omitempty"`
	Always      bool                 `json:"always,omitempty" doc:"it says that it sends with nobody asking"`
	Before      string               `json:"before,omitempty" doc:"the setting that undo puts back"`
	Bare        *heardView           `json:"bare,omitempty" doc:"what came on its group with nobody asking"`
	Specific    *heardView           `json:"specific,omitempty" doc:"the same, joined for this device alone"`
	RTSP        *heardView           `json:"rtsp,omitempty" doc:"what came on the group that RTSP names, while it was asked for"`
	RTSPProblem string               `json:"rtsp_problem,omitempty"`
	Findings    []diagnose.Diagnosis `json:"findings"`
}

// heardView is what came on a group.
type heardView struct {
	Group     string               `json:"group"`
	Interface string               `json:"interface,omitempty"`
	ForMS     int                  `json:"for_ms"`
	Of        *camera.GroupSender  `json:"of,omitempty" doc:"what the device itself sent"`
	Others    []camera.GroupSender `json:"others"`
}

type castBody struct {
	Streams []castStream        `json:"streams" minItems:"1" maxItems:"5000"`
	Action  evidence.CastAction `json:"action" enum:"measure,start,stop,undo"`
}

type castStream struct {
	Device uuid.UUID `json:"device"`
	Role   string    `json:"role" enum:"main,sub,third"`
}

type groupPlanBody struct {
	Streams []castStream `json:"streams" minItems:"1" maxItems:"5000"`
	Pool    string       `json:"pool,omitempty" maxLength:"20" doc:"range of groups; missing for 239.255.0.0/16"`
	Port    int          `json:"port,omitempty" minimum:"0" maximum:"65535" doc:"even; missing for 50000"`
	TTL     int          `json:"ttl,omitempty" minimum:"0" maximum:"255" doc:"missing for 4"`
	Always  *bool        `json:"always,omitempty" doc:"whether it is sent with nobody asking; missing leaves that as it is"`
	Send    bool         `json:"send,omitempty" doc:"set the groups, in place of showing what would be set"`
}

type groupLine struct {
	Device uuid.UUID `json:"device"`
	Role   string    `json:"role" enum:"main,sub,third"`
	Name   string    `json:"name"`
	Old    string    `json:"old"`
	New    string    `json:"new"`
	Keep   bool      `json:"keep,omitempty" doc:"it is so already"`
}

type groupPlanView struct {
	Lines []groupLine `json:"lines"`
	Run   *runView    `json:"run,omitempty"`
	Left  []act.Left  `json:"left,omitempty"`
}

// groups serve what multicast groups carry.
type groups struct{ resource }

func (s groups) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "multicast", Method: "GET", Path: "/api/sites/{site}/multicast",
		Summary: "How the streams of the site's cameras are sent to groups"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []castView }, error) {
			list, err := s.casts(ctx, in.Site)
			return &struct{ Body []castView }{list}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "cast-devices", Method: "POST", Path: "/api/sites/{site}/multicast",
		Summary: "Measure the groups of streams, start or stop sending to them, or put back what was set", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			TryQuery
			Body castBody
		}) (*runOut, error) {
			roles := map[uuid.UUID][]string{}
			for _, x := range in.Body.Streams {
				if !slices.Contains(roles[x.Device], x.Role) {
					roles[x.Device] = append(roles[x.Device], x.Role)
				}
			}
			return s.tryOrBegin(ctx, in.TryQuery, act.Cast{Site: in.Site, Action: in.Body.Action, Roles: roles})
		})
	register(s, api, huma.Operation{OperationID: "plan-groups", Extensions: map[string]any{"x-act": "set-groups"}, Method: "POST",
		Path:    "/api/sites/{site}/group-plans",
		Summary: "Give streams groups of their own: what would be set, or setting it"},
		func(ctx context.Context, in *struct {
			SitePath
			Body groupPlanBody
		}) (*struct{ Body groupPlanView }, error) {
			v, err := s.planGroups(ctx, in.Site, in.Body)
			return &struct{ Body groupPlanView }{v}, err
		})
}

// casts lists the streams of all cameras that can be asked for their groups.
func (s groups) casts(ctx context.Context, site uuid.UUID) ([]castView, error) {
	devices, err := s.store.Devices.List(ctx, site)
	if err != nil {
		return nil, err
	}
	out := []castView{}
	var groups []netip.AddrPort
	var seen []diagnose.Cast
	for _, d := range devices {
		st := &d.Status
		if st.Device.Kind == sighting.Recorder || d.Via != nil || st.Device.Stray {
			continue
		}
		addr, _ := netip.ParseAddr(d.Addr)
		for _, stream := range st.Streams {
			b, known := st.Multicast[stream.Role]
			v := castView{Device: d.ID, Name: d.Title(), Address: d.Addr, Role: stream.Role, Known: known, Always: b.Sends(), TTL: b.Says.TTL,
				Bare: viewOfHeard(b.Bare, addr), Specific: viewOfHeard(b.Specific, addr), RTSP: viewOfHeard(b.RTSP, addr), RTSPProblem: b.RTSPProblem}
			if g := b.Says.Group(); g.IsValid() {
				v.Group = g.String()
			}
			if b.Before != nil {
				v.Before = b.Before.String()
			}
			out = append(out, v)
			groups = append(groups, b.Says.Group())
			seen = append(seen, diagnose.Cast{Device: addr, Says: b.Says, Sends: b.Sends(), Bare: b.Bare, RTSP: b.RTSP, RTSPGroup: b.RTSPGroup})
		}
	}
	clashes := multicast.Same(groups, func(i int) string { return out[i].Device.String() })
	for i := range out {
		for _, j := range clashes[i] {
			seen[i].SameAs = append(seen[i].SameAs, diagnose.Other{Name: out[j].Name, Addr: seen[j].Device})
		}
		out[i].Findings = append([]diagnose.Diagnosis{}, diagnose.Multicast(seen[i])...)
	}
	return out, nil
}

func viewOfHeard(h *camera.GroupHeard, device netip.Addr) *heardView {
	if h == nil {
		return nil
	}
	v := &heardView{Group: h.Group.String(), Interface: h.Interface, ForMS: h.ForMS, Others: []camera.GroupSender{}}
	for _, s := range h.Senders {
		if s.From.Addr() == device && v.Of == nil {
			v.Of = &s
		} else {
			v.Others = append(v.Others, s)
		}
	}
	return v
}

// planGroups plans groups for streams, none of which another stream of the site has, and sets them where that is wanted.
func (s groups) planGroups(ctx context.Context, site uuid.UUID, in groupPlanBody) (v groupPlanView, err error) {
	pool, port, ttl := multicast.UsualPool, multicast.UsualPort, multicast.UsualTTL
	if in.Pool != "" {
		if pool, err = netip.ParsePrefix(in.Pool); err != nil {
			return v, problem(422, "bad_pool", fmt.Sprintf("%q is no range of groups.", in.Pool), "Type it like 239.255.0.0/16.")
		}
	}
	if in.Port != 0 {
		port = in.Port
	}
	if in.TTL != 0 {
		ttl = in.TTL
	}
	devices, err := s.store.Devices.List(ctx, site)
	if err != nil {
		return v, s.explain(err)
	}
	v.Lines = []groupLine{}
	wanted := map[castStream]bool{}
	for _, x := range in.Streams {
		wanted[x] = true
	}
	var wishes []multicast.Wish
	var taken []netip.Addr
	for _, d := range devices {
		for _, stream := range d.Status.Streams {
			key, says := castStream{d.ID, stream.Role}, d.Status.Multicast[stream.Role].Says
			switch {
			case wanted[key]:
				wishes = append(wishes, multicast.Wish{ID: d.ID.String() + " " + stream.Role, Now: says})
				v.Lines = append(v.Lines, groupLine{Device: d.ID, Role: stream.Role, Name: d.Title(), Old: says.String()})
			case says.Group().IsValid():
				taken = append(taken, says.Addr)
			}
		}
	}
	if len(v.Lines) < len(wanted) {
		return v, problem(422, "unknown_stream", "One of the streams is not there any more.", "Load the page anew and choose again.")
	}
	plan, err := multicast.Plan(wishes, taken, pool, port, ttl)
	if bad := new(multicast.PlanError); errors.As(err, &bad) {
		return v, problem(422, "no_group_plan", diagnose.Capital(bad.Problem)+".", diagnose.Capital(bad.Fix)+".")
	}
	sets := map[uuid.UUID]map[string]camera.GroupSetting{}
	for i, a := range plan {
		if in.Always != nil {
			a.Keep, a.New.Auto = a.Keep && a.New.Auto == *in.Always, *in.Always
		}
		v.Lines[i].New, v.Lines[i].Keep = a.New.String(), a.Keep
		if a.Keep {
			continue
		}
		line := v.Lines[i]
		if sets[line.Device] == nil {
			sets[line.Device] = map[string]camera.GroupSetting{}
		}
		sets[line.Device][line.Role] = a.New
	}
	if !in.Send || len(sets) == 0 {
		return v, nil
	}
	done, err := s.do(ctx, act.SetGroups{Site: site, Groups: sets})
	if err != nil {
		return v, err
	}
	r := viewOfRun(*done.Run, time.Now())
	v.Run, v.Left = &r, done.Left
	return v, nil
}
