package server

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/bringup"
	"unlatch/core/diagnose"
	"unlatch/core/rtmp"
	"unlatch/core/signin"
	"unlatch/core/target"
	"unlatch/core/target/byhand"
	"unlatch/core/target/feed"
	mqtthub "unlatch/core/target/hub"
	"unlatch/core/target/live"
	"unlatch/core/target/onvifrecorder"
	"unlatch/core/target/viabridge"
	"unlatch/store"
)

type targetView struct {
	ID       uuid.UUID         `json:"id"`
	Name     string            `json:"name"`
	Kind     string            `json:"kind" enum:"onvif-recorder,bridge,hub,feed,template,live"`
	Is       string            `json:"is" doc:"what it is, for people: recorder, management software, wall panel …"`
	Device   *uuid.UUID        `json:"device,omitempty"`
	Address  string            `json:"address,omitempty"`
	Intake   string            `json:"intake,omitempty" doc:"the name of what it accepts; missing where nobody has said"`
	SignIn   *uuid.UUID        `json:"sign_in,omitempty"`
	Settings map[string]string `json:"settings"`
	Via      *uuid.UUID        `json:"via,omitempty"`
	Shared   bool              `json:"shared"`
	Own      bool              `json:"own" doc:"it is this site's; others are shared by another one"`
	Refused  bool              `json:"refused,omitempty" doc:"it has refused the sign-in that it has"`
	Pin      string            `json:"certificate,omitempty" doc:"SHA-256 of the one that it is known by"`
	PinTaken bool              `json:"certificate_taken,omitempty" doc:"a person has said that it is the target's own"`
	Seen     *time.Time        `json:"seen_at,omitempty"`
	About    *target.About     `json:"about,omitempty" doc:"what it last said of itself"`
	Layout   *target.Layout    `json:"layout,omitempty" doc:"its slots as they last were"`
	Wanted   []uuid.UUID       `json:"wanted" doc:"the cameras that are wanted on it, in order"`
	Feed     string            `json:"feed,omitempty" doc:"the address of its feed"`
	Screens  []feed.Screen     `json:"screens,omitempty" doc:"who takes the feed"`

	Agreements []agreementView  `json:"agreements" doc:"what may go to it so that it can be read"`
	Wants      *diagnose.Wanted `json:"wants,omitempty" doc:"what was not sent to it because nobody has agreed"`
	Hands      []handedView     `json:"hands" doc:"the sign-ins that it is given for cameras"`
}

// targetBody is a target that stands by itself.
type targetBody struct {
	Name     string            `json:"name" maxLength:"100"`
	Kind     string            `json:"kind" enum:"bridge,hub,feed,template,live"`
	Address  string            `json:"address,omitempty" maxLength:"300"`
	Intake   string            `json:"intake,omitempty" maxLength:"200"`
	SignIn   *uuid.UUID        `json:"sign_in,omitempty"`
	Settings map[string]string `json:"settings,omitempty"`
	Via      *uuid.UUID        `json:"via,omitempty" doc:"of a live platform: the recorder that sends to it"`
	Shared   bool              `json:"shared,omitempty"`
	Agree    []target.Secret   `json:"agree,omitempty" maxItems:"3" enum:"sign_in,camera_sign_ins,stream_key" doc:"of a new one: what may go to it so that it can be read"`
	Renewed  bool              `json:"new_certificate,omitempty" doc:"take the next certificate that it shows for its own"`
	User     string            `json:"user,omitempty" maxLength:"200" doc:"with secret: a new sign-in for it, which goes onto the keyring"`
	Secret   signin.Secret     `json:"secret,omitempty"`
}

// allowedSettings are the settings of each kind.
var allowedSettings = map[string][]string{string(mqtthub.Kind): {mqtthub.Prefix}, string(live.Kind): {live.Ingest, live.Stream},
	string(byhand.Kind): {"text", "each", "passwords", "file"}}

// read checks a target and works out the places that it is reached at.
func (b targetBody) read(site uuid.UUID) (t store.Target, reach []netip.AddrPort, err error) {
	t = store.Target{Site: site, Kind: target.Kind(b.Kind), Name: strings.TrimSpace(b.Name), Address: strings.TrimSpace(b.Address), Intake: b.Intake, SignIn: b.SignIn,
		Via: b.Via, Shared: b.Shared, Settings: store.JSON(map[string]string{})}
	for k, v := range b.Settings {
		if !slices.Contains(allowedSettings[b.Kind], k) {
			return t, nil, problem(422, "bad_setting", fmt.Sprintf("A target of this kind has no setting %q.", k), "Leave it out.")
		}
		if len(v) > 70_000 {
			return t, nil, problem(422, "bad_setting", "The setting is too long.", "Make it shorter.")
		}
		t.Settings.V[k] = v
	}
	if t.Name == "" && (t.Kind == feed.Kind || t.Kind == byhand.Kind) {
		return t, nil, problem(422, "no_name", "It has no name.", "Give it the name of the screen or of what reads the list.")
	}
	if t.Kind == feed.Kind || t.Kind == byhand.Kind {
		t.Address = ""
		return t, nil, nil
	}
	if t.Kind == live.Kind {
		if b.Via == nil {
			return t, nil, problem(422, "no_recorder", "A live platform is reached by way of a recorder.", "Choose the recorder that sends to it.")
		}
		if _, err := rtmp.ParseIngest(t.Settings.V[live.Ingest]); errors.Is(err, rtmp.ErrKeyInAddress) {
			return t, nil, problem(422, "key_in_address", "The last part of the ingest address looks like the stream key, which is a secret.",
				"Take it out of the address and type it as the stream key: it goes onto the keyring.")
		} else if err != nil {
			return t, nil, problem(422, "bad_ingest", "The ingest address cannot be read: "+err.Error()+".", "Copy it from the platform's page, without the key.")
		}
	}
	at, err := reachOf(t)
	return t, []netip.AddrPort{at}, err
}

// reachOf is the one place that a target's address names.
func reachOf(t store.Target) (netip.AddrPort, error) {
	u, err := url.Parse(t.Address)
	schemes := map[target.Kind][]string{viabridge.Kind: {"http", "https"}, live.Kind: {"http", "https"}, mqtthub.Kind: {"mqtt", "mqtts"}}[t.Kind]
	bad := problem(422, "bad_address", "The address cannot be read.", fmt.Sprintf("Write it like %s://192.0.2.10:%s.", schemes[0],
		map[string]string{"http": "8081", "mqtt": "1883"}[schemes[0]]))
	if err != nil || !slices.Contains(schemes, u.Scheme) || u.Hostname() == "" || u.RawQuery != "" || u.Fragment != "" {
		return netip.AddrPort{}, bad
	}
	if u.User != nil {
		return netip.AddrPort{}, problem(422, "sign_in_in_address", "A sign-in does not belong into the address.", "Put it on the keyring and choose it.")
	}
	port := target.Port(u)
	n, err := strconv.ParseUint(port, 10, 16)
	addr, aerr := netip.ParseAddr(u.Hostname())
	if aerr != nil {
		return netip.AddrPort{}, problem(422, "name_for_address", fmt.Sprintf("%q is a name.", u.Hostname()),
			"Give its address in numbers: a name may lead elsewhere tomorrow, and connections leave for stated addresses only.")
	}
	if err != nil || addr.IsUnspecified() || addr.IsMulticast() {
		return netip.AddrPort{}, bad
	}
	return netip.AddrPortFrom(addr.Unmap(), uint16(n)), nil
}

func (s *Server) targetRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-targets", Method: "GET", Path: "/api/sites/{site}/targets",
		Summary: "What the cameras of a site are put onto"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []targetView }, error) {
			return s.targets(ctx, in.Site)
		})
	register(s, api, huma.Operation{OperationID: "add-target", Method: "POST", Path: "/api/sites/{site}/targets", Summary: "Add a target, and look at it",
		DefaultStatus: 201}, func(ctx context.Context, in *struct {
		SitePath
		Body targetBody
	}) (*struct{ Body idBody }, error) {
		return s.addTarget(ctx, in.Site, in.Body)
	})
	register(s, api, huma.Operation{OperationID: "set-target", Method: "PUT", Path: "/api/sites/{site}/targets/{target}", Summary: "Change a target"},
		func(ctx context.Context, in *struct {
			TargetPath
			Body targetBody
		}) (*struct{}, error) {
			return nil, s.setTarget(ctx, in.Site, in.Target, in.Body)
		})
	register(s, api, huma.Operation{OperationID: "delete-target", Method: "DELETE", Path: "/api/sites/{site}/targets/{target}",
		Summary: "Remove a target. What stands on it stays on it"},
		func(ctx context.Context, in *TargetPath) (*struct{}, error) {
			return nil, s.explain(s.cfg.Store.Targets.Delete(ctx, person(ctx), in.Site, in.Target))
		})
	register(s, api, huma.Operation{OperationID: "look-at-targets", Method: "POST", Path: "/api/sites/{site}/targets/look", DefaultStatus: 202,
		Summary: "Ask targets what they are and how their slots stand"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Targets []uuid.UUID `json:"targets,omitempty" maxItems:"500" doc:"all that can be asked where it is empty"`
			Retry   bool        `json:"retry,omitempty" doc:"send a sign-in once more that it has refused"`
		}
	}) (*runOut, error) {
		return s.lookAt(ctx, in.Site, in.Body.Targets, in.Body.Retry)
	})
	register(s, api, huma.Operation{OperationID: "change-target", Method: "POST", Path: "/api/sites/{site}/targets/{target}/change", DefaultStatus: 202,
		Summary: "Free a blocked slot, set the order of the slots, or when one records"}, func(ctx context.Context, in *struct {
		TargetPath
		Body bringup.TargetChange
	}) (*runOut, error) {
		return s.changeTarget(ctx, in.Site, in.Target, in.Body)
	})
	register(s, api, huma.Operation{OperationID: "target-history", Method: "GET", Path: "/api/sites/{site}/targets/{target}/history",
		Summary: "What a target has said, newest first"},
		func(ctx context.Context, in *TargetPath) (*struct{ Body []seenView }, error) {
			if _, err := s.target(ctx, in.Site, in.Target); err != nil {
				return nil, err
			}
			return s.targetHistory(ctx, in.Target)
		})
}

// idBody is the ID of what was made.
type idBody struct {
	ID uuid.UUID `json:"id"`
}

// seenView is one entry of a target's record.
type seenView struct {
	ID       uuid.UUID `json:"id"`
	At       time.Time `json:"at"`
	Text     string    `json:"text"`
	Fix      string    `json:"fix,omitempty"`
	OK       bool      `json:"ok"`
	Exchange bool      `json:"exchange" doc:"the conversation was kept"`
}

// words of what a target is, by its own word or its kind.
var wordsOfKinds = map[string]string{"recorder": "recorder", "software": "management software", "panel": "wall panel", "intercom": "intercom station",
	"directory": "voice directory", "platform": "live platform", "hub": "home hub", string(feed.Kind): "screens by a feed",
	string(byhand.Kind): "list by a template", string(live.Kind): "live platform", string(onvifrecorder.Kind): "recorder", string(viabridge.Kind): "target by a bridge"}

func (s *Server) targets(ctx context.Context, site uuid.UUID) (*struct{ Body []targetView }, error) {
	list, err := s.cfg.Store.Targets.List(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	names, err := s.names(ctx, site)
	if err != nil {
		return nil, err
	}
	out := &struct{ Body []targetView }{Body: []targetView{}}
	for _, t := range list {
		v := targetView{ID: t.ID, Name: t.Name, Kind: string(t.Kind), Device: t.Device, Intake: t.Intake, Address: t.Address, SignIn: t.SignIn,
			Settings: t.Settings.V, Via: t.Via, Shared: t.Shared, Own: t.Site == site, Pin: t.Pin, PinTaken: t.PinTaken, Seen: t.Seen, Wanted: []uuid.UUID{}}
		v.Refused = t.Refused != nil && t.SignIn != nil && *t.Refused == *t.SignIn
		v.Is = wordsOfKinds[string(t.Kind)]
		if t.About != nil {
			v.About = &t.About.V
			v.Is = cmp.Or(wordsOfKinds[t.About.V.Kind], v.Is)
			v.Name = cmp.Or(v.Name, t.About.V.Name)
		}
		if t.Layout != nil {
			v.Layout = &t.Layout.V
		}
		if t.Device != nil && v.Name == "" {
			v.Name = names[*t.Device]
		}
		v.Name = cmp.Or(v.Name, "the target at "+t.Address)
		if ids, err := s.cfg.Store.Targets.On(ctx, t.ID); err != nil {
			return nil, s.explain(err)
		} else if ids != nil {
			v.Wanted = ids
		}
		if t.Kind == feed.Kind {
			if err := s.feedOf(ctx, &v); err != nil {
				return nil, s.explain(err)
			}
		}
		out.Body = append(out.Body, v)
	}
	return out, s.explain(s.trustOf(ctx, site, out.Body))
}

// names are the names of a site's devices.
func (s *Server) names(ctx context.Context, site uuid.UUID) (map[uuid.UUID]string, error) {
	up, err := s.lineUp.site(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	defer up.mu.Unlock()
	out := map[uuid.UUID]string{}
	for id, d := range up.devices {
		out[id] = d.view.Name
	}
	return out, nil
}

// target is a target that a site may use.
func (s *Server) target(ctx context.Context, site, id uuid.UUID) (store.Target, error) {
	t, err := s.cfg.Store.Targets.Get(ctx, id)
	if err == nil && t.Site != site && !t.Shared {
		err = store.ErrNotFound
	}
	return t, s.explain(err)
}

func (s *Server) addTarget(ctx context.Context, site uuid.UUID, in targetBody) (*struct{ Body idBody }, error) {
	t, reach, err := in.read(site)
	if err != nil {
		return nil, err
	}
	if err := s.partsOf(ctx, site, t); err != nil {
		return nil, err
	}
	if t.SignIn, err = s.targetSignIn(ctx, t, in); err != nil {
		return nil, s.explain(err)
	}
	id, err := s.cfg.Store.Targets.Add(ctx, person(ctx), t, reach)
	if err != nil {
		return nil, s.explain(err)
	}
	t.ID = id
	if err := s.cfg.Store.Targets.Agree(ctx, person(ctx), t, nil, in.Agree...); err != nil {
		return nil, s.explain(err)
	}
	if t.Kind == feed.Kind {
		if _, err := s.cfg.Store.Targets.OpenFeed(ctx, person(ctx), site, id); err != nil {
			return nil, s.explain(err)
		}
	}
	if asked(t.Kind) {
		if _, err := s.cfg.Queue.LookAt(ctx, site, "Look at "+cmp.Or(t.Name, t.Address), []uuid.UUID{id}, false); err != nil {
			return nil, s.explain(err)
		}
	}
	return &struct{ Body idBody }{idBody{id}}, nil
}

// targetSignIn puts a sign-in that was typed for a target on the keyring. It is tried on no device.
func (s *Server) targetSignIn(ctx context.Context, t store.Target, in targetBody) (*uuid.UUID, error) {
	if in.User == "" && in.Secret.Empty() {
		return t.SignIn, nil
	}
	id, err := s.cfg.Store.SignIns.Add(ctx, store.NewSignIn{Label: "For " + cmp.Or(t.Name, t.Address), User: in.User, Secret: in.Secret,
		Terms: store.Terms{Purpose: signin.Target}})
	return &id, err
}

// asked reports whether a target of a kind can be asked anything.
func asked(k target.Kind) bool { return k != feed.Kind && k != byhand.Kind }

// partsOf makes sure that what a target names is there.
func (s *Server) partsOf(ctx context.Context, site uuid.UUID, t store.Target) error {
	if t.Intake != "" {
		x, err := s.cfg.Store.Shelf.Intake(ctx, t.Intake)
		if err != nil {
			return s.explain(err)
		}
		if x == nil {
			return noIntake(t.Intake)
		}
	}
	if t.SignIn != nil {
		if _, err := s.cfg.Store.SignIns.Get(ctx, *t.SignIn); err != nil {
			return s.explain(err)
		}
	}
	if t.Via != nil {
		via, err := s.target(ctx, site, *t.Via)
		if err != nil {
			return err
		}
		if via.Kind != viabridge.Kind {
			return problem(422, "not_a_pusher", via.Name+" cannot send to a live platform.", "Choose a recorder that is reached by a bridge and can.")
		}
	}
	return nil
}

func (s *Server) setTarget(ctx context.Context, site, id uuid.UUID, in targetBody) error {
	t, reach, err := in.read(site)
	if err != nil {
		return err
	}
	old, err := s.target(ctx, site, id)
	if err != nil {
		return err
	}
	if old.Kind != t.Kind || old.Device != nil {
		return problem(422, "other_kind", "A target stays of its kind.", "Add another one.")
	}
	if err := s.partsOf(ctx, site, t); err != nil {
		return err
	}
	if t.ID = id; !in.Renewed {
		t.Pin = old.Pin
	}
	if t.SignIn, err = s.targetSignIn(ctx, t, in); err != nil {
		return s.explain(err)
	}
	if err := s.cfg.Store.Targets.Set(ctx, person(ctx), t, reach); err != nil || !asked(t.Kind) {
		return s.explain(err)
	}
	_, err = s.cfg.Queue.LookAt(ctx, site, "Look at "+cmp.Or(t.Name, t.Address), []uuid.UUID{id}, false)
	return s.explain(err)
}

func (s *Server) lookAt(ctx context.Context, site uuid.UUID, ids []uuid.UUID, retry bool) (*runOut, error) {
	list, err := s.cfg.Store.Targets.List(ctx, site)
	if err != nil {
		return nil, s.explain(err)
	}
	var which []uuid.UUID
	for _, t := range list {
		if asked(t.Kind) && (len(ids) == 0 || slices.Contains(ids, t.ID)) {
			which = append(which, t.ID)
		}
	}
	if len(which) == 0 {
		return nil, problem(422, "nothing_to_ask", "There is no target here that can be asked.", "Add one, or open the latches of a recorder.")
	}
	title := "Look at 1 target"
	if len(which) > 1 {
		title = fmt.Sprintf("Look at %d targets", len(which))
	}
	run, err := s.cfg.Queue.LookAt(ctx, site, title, which, retry)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

func (s *Server) changeTarget(ctx context.Context, site, id uuid.UUID, c bringup.TargetChange) (*runOut, error) {
	t, err := s.target(ctx, site, id)
	if err != nil {
		return nil, err
	}
	title := ""
	switch {
	case c.Free != "":
		title = "Free the slot " + c.Free + " of " + t.Name
	case c.Schedule != nil && c.Slot != "":
		for _, p := range c.Schedule.Week {
			if p.From >= p.To {
				return nil, problem(422, "bad_hours", "A span of hours ends before it begins.", "Give hours like 8 to 18.")
			}
		}
		title = "Set when " + c.Slot + " of " + t.Name + " records"
	case len(c.Order) > 0:
		title = "Set the order on " + t.Name
	default:
		return nil, problem(422, "nothing_to_do", "Nothing is asked for.", "Name a slot to free, an order, or a schedule.")
	}
	if err := s.did(ctx, "began", title, site, uuid.Nil); err != nil {
		return nil, s.explain(err)
	}
	run, err := s.cfg.Queue.ChangeTarget(ctx, site, title, id, c)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

func (s *Server) targetHistory(ctx context.Context, id uuid.UUID) (*struct{ Body []seenView }, error) {
	list, err := s.cfg.Store.Targets.History(ctx, id, 60)
	out := &struct{ Body []seenView }{Body: []seenView{}}
	for _, r := range list {
		v := seenView{ID: r.ID, At: r.At, Text: r.What, OK: r.Diagnosis == nil, Exchange: r.Exchange}
		if r.Diagnosis != nil {
			v.Text, v.Fix = r.Diagnosis.V.Summary, r.Diagnosis.V.Fix
		}
		out.Body = append(out.Body, v)
	}
	return out, s.explain(err)
}
