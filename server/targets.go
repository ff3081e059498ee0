package server

import (
	"cmp"
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/ground/wiretext"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/byhand"
	"unlatch/core/wire/target/feed"
	"unlatch/core/wire/target/live"
	"unlatch/core/wire/target/viabridge"
	"unlatch/core/work/onvifrecorder"
	"unlatch/jobs"
	"unlatch/store"
)

type targetView struct {
	ID      uuid.UUID  `json:"id"`
	Name    string     `json:"name"`
	Kind    string     `json:"kind" enum:"onvif-recorder,bridge,hub,feed,template,live"`
	Is      string     `json:"is" doc:"what it is, for people: recorder, management software, wall panel …"`
	Device  *uuid.UUID `json:"device,omitempty"`
	Address string     `json:"address,omitempty"`
	// Addresses are told of a target whose address is a name.
	Addresses []netip.Addr      `json:"addresses,omitempty" doc:"those that its name led to when somebody looked; it is reached at no others"`
	Intake    string            `json:"intake,omitempty" doc:"the name of what it accepts; missing where nobody has said"`
	SignIn    *uuid.UUID        `json:"sign_in,omitempty"`
	Settings  map[string]string `json:"settings"`
	Via       *uuid.UUID        `json:"via,omitempty"`
	Shared    bool              `json:"shared"`
	Own       bool              `json:"own" doc:"it is this site's; others are shared by another one"`
	Refused   bool              `json:"refused,omitempty" doc:"it has refused the sign-in that it has"`
	Pin       string            `json:"certificate,omitempty" doc:"SHA-256 of the one that it is known by"`
	PinTaken  bool              `json:"certificate_taken,omitempty" doc:"a person has said that it is the target's own"`
	Seen      *time.Time        `json:"seen_at,omitempty"`
	About     *target.About     `json:"about,omitempty" doc:"what it last said of itself"`
	Layout    *target.Layout    `json:"layout,omitempty" doc:"its slots as they last were"`
	Wanted    []uuid.UUID       `json:"wanted" doc:"the cameras that are wanted on it, in order"`
	Feed      string            `json:"feed,omitempty" doc:"the address of its feed"`
	Screens   []feed.Screen     `json:"screens,omitempty" doc:"who takes the feed"`

	Agreements []agreementView `json:"agreements" doc:"what may go to it so that it can be read"`
	Wants      *trouble.Wanted `json:"wants,omitempty" doc:"what was not sent to it because nobody has agreed"`
	Hands      []handedView    `json:"hands" doc:"the sign-ins that it is given for cameras"`
}

// targetBody is a target that stands by itself.
type targetBody struct {
	Name      string            `json:"name" maxLength:"100"`
	Kind      string            `json:"kind" enum:"bridge,hub,feed,template,live"`
	Address   string            `json:"address,omitempty" maxLength:"300"`
	Addresses []netip.Addr      `json:"addresses,omitempty" maxItems:"16" doc:"those that its name leads to, as see-addresses has told them"`
	Intake    string            `json:"intake,omitempty" maxLength:"200"`
	SignIn    *uuid.UUID        `json:"sign_in,omitempty"`
	Settings  map[string]string `json:"settings,omitempty"`
	Via       *uuid.UUID        `json:"via,omitempty" doc:"of a live platform: the recorder that sends to it"`
	Shared    bool              `json:"shared,omitempty"`
	Agree     []target.Secret   `json:"agree,omitempty" maxItems:"3" enum:"sign_in,camera_sign_ins,stream_key" doc:"of a new one: what may go to it readable"`
	// Certificate is taken with a new target.
	Certificate string        `json:"certificate,omitempty" maxLength:"64" doc:"of a new one: the one that was seen there and is its own, SHA-256 in hex"`
	Renewed     bool          `json:"new_certificate,omitempty" doc:"take the next certificate that it shows for its own"`
	Was         *targetSeen   `json:"was,omitempty" doc:"the target that was seen: refused with changed_meanwhile where it is another by now"`
	User        string        `json:"user,omitempty" maxLength:"200" doc:"with secret: a new sign-in for it, which goes onto the keyring"`
	Secret      signin.Secret `json:"secret,omitempty"`
}

// targetSeen is what somebody saw of a target before they began to change it.
type targetSeen struct {
	Name     string            `json:"name"`
	Address  string            `json:"address,omitempty"`
	Intake   string            `json:"intake,omitempty"`
	Settings map[string]string `json:"settings,omitempty"`
}

func (b targetBody) form() act.TargetForm {
	return act.TargetForm{Kind: target.Kind(b.Kind), Name: b.Name, Address: b.Address, Addresses: b.Addresses, Intake: b.Intake,
		SignIn: b.SignIn, Settings: b.Settings, Via: b.Via, Shared: b.Shared, User: b.User, Secret: b.Secret}
}

// targets serve the targets of sites.
type targets struct {
	resource
	agent jobs.Agent
	feeds feeds
	trust targetTrust
}

func (s targets) routes(api huma.API) {
	s.seeRoutes(api)
	register(s, api, huma.Operation{OperationID: "list-targets", Method: "GET", Path: "/api/sites/{site}/targets",
		Summary: "What the cameras of a site are put onto"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []targetView }, error) {
			return s.list(ctx, in.Site)
		})
	register(s, api, huma.Operation{OperationID: "add-target", Method: "POST", Path: "/api/sites/{site}/targets",
		Summary:       "Add a target, and look at it",
		DefaultStatus: 201}, func(ctx context.Context, in *struct {
		SitePath
		Body targetBody
	}) (*struct{ Body idBody }, error) {
		id := uuid.Must(uuid.NewV7())
		_, err := s.do(ctx, act.AddTarget{Site: in.Site, ID: id, TargetForm: in.Body.form(), Agree: in.Body.Agree,
			Certificate: in.Body.Certificate})
		return &struct{ Body idBody }{idBody{id}}, err
	})
	register(s, api, huma.Operation{OperationID: "set-target", Method: "PUT", Path: "/api/sites/{site}/targets/{target}",
		Summary: "Change a target"},
		func(ctx context.Context, in *struct {
			TargetPath
			Body targetBody
		}) (*struct{}, error) {
			change := act.SetTarget{Site: in.Site, Target: in.Target, TargetForm: in.Body.form(), Renewed: in.Body.Renewed}
			if was := in.Body.Was; was != nil {
				change.Was = &act.TargetForm{Name: was.Name, Address: was.Address, Intake: was.Intake, Settings: was.Settings}
			}
			return s.keep(ctx, change)
		})
	register(s, api, huma.Operation{OperationID: "delete-target", Method: "DELETE", Path: "/api/sites/{site}/targets/{target}",
		Summary: "Remove a target. What stands on it stays on it"},
		func(ctx context.Context, in *TargetPath) (*struct{}, error) {
			return s.keep(ctx, act.DeleteTarget{Site: in.Site, Target: in.Target})
		})
	register(s, api, huma.Operation{OperationID: "look-at-targets", Method: "POST", Path: "/api/sites/{site}/targets/look", DefaultStatus: 202,
		Summary: "Ask targets what they are and how their slots stand"}, func(ctx context.Context, in *struct {
		SitePath
		Body struct {
			Targets []uuid.UUID `json:"targets,omitempty" maxItems:"500" doc:"all that can be asked where it is empty"`
			Retry   bool        `json:"retry,omitempty" doc:"send a sign-in once more that it has refused"`
		}
	}) (*runOut, error) {
		return s.begin(ctx, act.LookAt{Site: in.Site, Targets: in.Body.Targets, Retry: in.Body.Retry})
	})
	register(s, api, huma.Operation{OperationID: "change-target", Method: "POST", Path: "/api/sites/{site}/targets/{target}/change",
		DefaultStatus: 202,
		Summary:       "Free a blocked slot, set the order of the slots, or when one records"}, func(ctx context.Context, in *struct {
		TargetPath
		Body command.TargetChange
	}) (*runOut, error) {
		return s.begin(ctx, act.ChangeTarget{Site: in.Site, Target: in.Target, Change: in.Body})
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

// seeRoutes ask about an address that a target is to have. Nothing is kept of the answers.
func (s targets) seeRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "see-certificate", Method: "POST", Path: "/api/sites/{site}/targets/certificate",
		Summary: "What certificate is shown at an address that a target is to have"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Kind      string       `json:"kind" enum:"bridge,hub,live"`
				Address   string       `json:"address" maxLength:"300"`
				Addresses []netip.Addr `json:"addresses,omitempty" maxItems:"16" doc:"those that its name leads to"`
			}
		}) (*struct{ Body certificate.Certificate }, error) {
			return s.certificate(ctx, act.SeeCertificate{Site: in.Site, Kind: target.Kind(in.Body.Kind), Address: in.Body.Address,
				Addresses: in.Body.Addresses})
		})
	register(s, api, huma.Operation{OperationID: "see-addresses", Method: "POST", Path: "/api/sites/{site}/targets/addresses",
		Summary: "Where the name in an address leads that a target is to have, by the name server of a machine that reaches the site"},
		func(ctx context.Context, in *struct {
			SitePath
			Body struct {
				Kind    string `json:"kind" enum:"bridge,hub,live"`
				Address string `json:"address" maxLength:"300"`
			}
		}) (*struct{ Body []seenAddress }, error) {
			return s.addresses(ctx, act.SeeAddresses{Site: in.Site, Kind: target.Kind(in.Body.Kind), Address: in.Body.Address})
		})
}

// idBody is the ID of what was made.
type idBody struct {
	ID uuid.UUID `json:"id"`
}

// certificate asks a worker for the certificate that is shown at an address.
func (s targets) certificate(ctx context.Context, what act.SeeCertificate) (*struct{ Body certificate.Certificate }, error) {
	if _, err := s.do(ctx, what); err != nil {
		return nil, err
	}
	site, err := s.store.Sites.Get(ctx, what.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	host, at, _ := what.At() // it was decided on before
	shown, err := s.agent.Certificate(ctx, site, host, at)
	if errors.Is(err, jobs.ErrNobody) {
		return nil, s.explain(err)
	}
	if err != nil {
		return nil, problem(http.StatusUnprocessableEntity, "no_certificate", "Nothing shows a certificate at "+
			net.JoinHostPort(host, strconv.Itoa(int(at[0].Port())))+": "+
			wiretext.Line(err.Error(), 200)+".", "Check the address and the port, and that it listens with TLS there.")
	}
	return &struct{ Body certificate.Certificate }{*shown}, nil
}

// seenAddress is one address that a name leads to.
type seenAddress struct {
	Address netip.Addr `json:"address"`
	Inside  bool       `json:"inside" doc:"it lies in the site's ranges"`
}

// addresses asks a worker where a name leads.
func (s targets) addresses(ctx context.Context, what act.SeeAddresses) (*struct{ Body []seenAddress }, error) {
	if _, err := s.do(ctx, what); err != nil {
		return nil, err
	}
	site, err := s.store.Sites.Get(ctx, what.Site)
	if err != nil {
		return nil, s.explain(err)
	}
	name, _ := what.Host() // it was decided on before
	list, err := s.agent.Addresses(ctx, site, name)
	if errors.Is(err, jobs.ErrNobody) {
		return nil, s.explain(err)
	}
	if err != nil {
		return nil, problem(http.StatusUnprocessableEntity, "no_address", diagnose.Capital(wiretext.Line(err.Error(), 200))+".",
			"Check the name, and which name server the machine asks that reaches this site; or give the address in numbers.")
	}
	out := make([]seenAddress, len(list))
	for i, a := range list {
		out[i] = seenAddress{a, site.Ranges.Contains(a)}
	}
	return &struct{ Body []seenAddress }{out}, nil
}

// pinned returns the addresses that were taken for the name of a target; none of one whose address is in numbers.
func pinned(t store.Target) (out []netip.Addr) {
	u, err := url.Parse(t.Address)
	if err != nil || !address.HostName(u.Hostname()) {
		return nil
	}
	for _, a := range t.Reach.V {
		out = append(out, a.Addr())
	}
	return out
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
var wordsOfKinds = map[string]string{"recorder": "recorder", "software": "management software", "panel": "wall panel",
	"intercom":  "intercom station",
	"directory": "voice directory", "platform": "live platform", "hub": "home hub", string(feed.Kind): "screens by a feed",
	string(byhand.Kind): "list by a template", string(live.Kind): "live platform",
	string(onvifrecorder.Kind): "recorder", string(viabridge.Kind): "target by a bridge"}

func (s targets) list(ctx context.Context, site uuid.UUID) (*struct{ Body []targetView }, error) {
	list, err := s.store.Targets.List(ctx, site)
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
			Settings: t.Settings.V, Via: t.Via, Shared: t.Shared, Own: t.Site == site, Pin: t.Pin, Addresses: pinned(t),
			PinTaken: t.PinTaken, Seen: t.Seen, Wanted: []uuid.UUID{}}
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
		if ids, err := s.store.Targets.On(ctx, t.ID); err != nil {
			return nil, s.explain(err)
		} else if ids != nil {
			v.Wanted = ids
		}
		if t.Kind == feed.Kind {
			if err := s.feeds.feedOf(ctx, &v); err != nil {
				return nil, s.explain(err)
			}
		}
		out.Body = append(out.Body, v)
	}
	return out, s.explain(s.trust.trustOf(ctx, site, out.Body))
}

// names returns the names of a site's devices.
func (s targets) names(ctx context.Context, site uuid.UUID) (map[uuid.UUID]string, error) {
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

// target returns a target that a site may use.
func (s resource) target(ctx context.Context, site, id uuid.UUID) (store.Target, error) {
	t, err := s.store.Targets.Get(ctx, id)
	if err == nil && t.Site != site && !t.Shared {
		err = store.ErrNotFound
	}
	return t, s.explain(err)
}

func (s targets) targetHistory(ctx context.Context, id uuid.UUID) (*struct{ Body []seenView }, error) {
	list, err := s.store.Targets.History(ctx, id, 60)
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
