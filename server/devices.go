package server

import (
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"net/netip"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/address"
	"unlatch/core/camera"
	"unlatch/core/diagnose"
	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/identity"
	"unlatch/core/pathprobe"
	"unlatch/core/latch"
	"unlatch/core/prove"
	"unlatch/core/netconfig"
	"unlatch/core/streamurl"
	"unlatch/core/wiretext"
	"unlatch/store"
)

// deviceView is one row of the line-up.
type deviceView struct {
	ID          uuid.UUID         `json:"id"`
	Revision    string            `json:"revision" doc:"differs when anything else in this view does"`
	Kind        string            `json:"kind" enum:"camera,recorder,other"`
	Name        string            `json:"name"`
	Named       bool              `json:"named" doc:"a person gave the name"`
	Address     string            `json:"address"`
	Stray       bool              `json:"stray"`
	Consent     *time.Time        `json:"consent,omitempty" doc:"until when a stray may be connected to"`
	Web         string            `json:"web,omitempty" doc:"the device's own page"`
	Maker       string            `json:"maker,omitempty"`
	Model       string            `json:"model,omitempty"`
	Firmware    string            `json:"firmware,omitempty"`
	Serial      string            `json:"serial,omitempty"`
	MAC         string            `json:"mac,omitempty"`
	Block       string            `json:"mac_block,omitempty" doc:"who registered the MAC block, where this machine has the public registry"`
	Is          string            `json:"is,omitempty" doc:"what it calls its kind, where it is neither camera nor recorder"`
	Claims      []claimView       `json:"claims" doc:"what each method heard, and when"`
	Moved       *movedView        `json:"moved,omitempty" doc:"the last time that it was given an address"`
	Conflict    bool              `json:"conflict" doc:"another device claims the same address"`
	Methods     []string          `json:"methods" doc:"what heard it"`
	Ports       []discovery.Port  `json:"ports"`
	Protocols   []camera.Protocol `json:"protocols,omitempty" doc:"network services by the device's own word"`
	HeardAt     time.Time         `json:"heard_at"`
	LeftAt      *time.Time        `json:"left_at,omitempty" doc:"when it said goodbye, where nothing was heard of it since"`
	Certificate string            `json:"certificate,omitempty" doc:"the one that it last showed, as SHA-256"`
	Latches     []latch.Latch     `json:"latches"`
	At          string            `json:"at" doc:"the latch it waits at; empty when all are open"`
	Next        latch.NextStep    `json:"next"`
	Streams     []streamView      `json:"streams"`
	Placements  []latch.Placement `json:"placements"`
	Via         *viaView          `json:"via,omitempty" doc:"the recorder that it is reached through"`
	Ladder      *ladderView       `json:"ladder,omitempty" doc:"paths that were tried, of a device without a device service"`
	Findings    []findingView     `json:"findings,omitempty" doc:"what a person should act on beside the next step"`
	Agreed      *time.Time        `json:"agreed,omitempty" doc:"when somebody agreed that its sign-in may be sent readable"`
	Factory     string            `json:"factory,omitempty" doc:"a finding: the user that it still has with its factory password"`
	Grid        []latch.GridRow   `json:"grid,omitempty" doc:"what the sign-ins open"`
	SkewMS      int64             `json:"skew_ms,omitempty" doc:"by how much its clock is ahead, where that is more than a few seconds"`
	Remedies    []remedyView      `json:"remedies,omitempty" doc:"changes made on it that can be taken back"`
	Snapshot    *pictureView      `json:"snapshot,omitempty" doc:"its still picture over HTTP"`
	Motion      *pictureView      `json:"mjpeg,omitempty" doc:"its motion JPEG over HTTP"`
	Channels    []channelView     `json:"channels,omitempty" doc:"of a recorder: what it sends on"`
}

// ladderView is how a stream path was looked for.
type ladderView struct {
	Recipe string         `json:"recipe,omitempty"`
	Shape  string         `json:"shape,omitempty"`
	Manner string         `json:"manner" doc:"what the server judges first"`
	Tried  []pathprobe.Tried `json:"tried"`
}

// pictureView is a picture over HTTP that was fetched.
type pictureView struct {
	URL    string     `json:"url"`
	Width  int        `json:"width"`
	Height int        `json:"height"`
	FPS    float64    `json:"fps,omitempty"`
	Scheme string     `json:"scheme"`
	Still  *uuid.UUID `json:"still,omitempty"`
}

// largestSkew is how far a clock may be off before it is a finding.
const largestSkew = 5 * time.Second

func viewOfPicture(st *latch.Status, kind string) *pictureView {
	p, ok := st.Pictures[kind]
	if !ok || p.Diagnosis != nil || p.None {
		return nil
	}
	return &pictureView{URL: p.URL, Width: p.Width, Height: p.Height, FPS: p.FPS, Scheme: p.Scheme, Still: p.Still}
}

// viaView says how a camera on a recorder's own switch is reached.
type viaView struct {
	Recorder uuid.UUID `json:"recorder"`
	Name     string    `json:"name"`
	Channel  int       `json:"channel"`
	Camera   string    `json:"camera,omitempty" doc:"its own address on the recorder's private subnet"`
	Place    string    `json:"place,omitempty" doc:"where it is plugged in, in the recorder's words"`
}

// channelView is one channel of a recorder.
type channelView struct {
	Number int    `json:"number"`
	Name   string `json:"name"`
	Camera string `json:"camera,omitempty"`
	Place  string `json:"place,omitempty"`
	Page   string `json:"page,omitempty" doc:"the recorder's way through to the camera's own page"`
}

// claimView is what one method heard.
type claimView struct {
	Method string    `json:"method"`
	At     time.Time `json:"at"`
	Text   string    `json:"text"`
}

// claims says for each sighting what the device claimed in it.
func claims(heard []evidence.Heard) []claimView {
	out := []claimView{}
	for _, s := range heard {
		var parts []string
		for _, p := range []string{s.Name, s.Maker, s.Hardware, s.Is} {
			if p != "" && !slices.Contains(parts, p) {
				parts = append(parts, p)
			}
		}
		if s.Serial != "" {
			parts = append(parts, "serial "+s.Serial)
		}
		if s.MAC != "" {
			parts = append(parts, s.MAC)
		}
		for _, p := range s.Ports {
			parts = append(parts, "port "+p.String())
		}
		if s.Via != nil {
			parts = append(parts, fmt.Sprintf("channel %d", s.Channel))
		}
		if s.Camera != "" {
			parts = append(parts, "behind it at "+s.Camera)
		}
		parts = append(parts, "at "+s.Addr.String())
		out = append(out, claimView{Method: string(s.Method), At: s.At, Text: strings.Join(parts, ", ")})
	}
	return out
}

// movedView is what undo needs.
type movedView struct {
	Before netconfig.Setting `json:"before"`
	After  netconfig.Setting `json:"after"`
	Failed string            `json:"failed,omitempty"`
	Fix    string            `json:"fix,omitempty"`
}

// streamView is one stream: what the device claims and what was measured.
type streamView struct {
	Token    string              `json:"token" doc:"the device's own name of the stream"`
	Role     string              `json:"role"`
	URL      string              `json:"url" doc:"without the sign-in"`
	Segments []streamurl.Segment `json:"segments"`
	Claimed  camera.Settings     `json:"claimed"`
	Proof    *proofView          `json:"proof,omitempty"`
}

type proofView struct {
	prove.Proof
	At    time.Time  `json:"at"`
	Still *uuid.UUID `json:"still,omitempty"`
}

type recordView struct {
	ID       uuid.UUID `json:"id"`
	At       time.Time `json:"at"`
	Kind     string    `json:"kind"`
	Subject  string    `json:"subject,omitempty"`
	Summary  string    `json:"summary"`
	Failed   bool      `json:"failed"`
	Exchange bool      `json:"exchange" doc:"the conversation can be read"`
}

// DevicePath names a device in the path. It is exported because huma reads exported fields only.
type DevicePath struct {
	Device uuid.UUID `path:"device"`
}

func (s *Server) deviceRoutes(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "list-devices", Method: "GET", Path: "/api/sites/{site}/devices",
		Summary: "A site's devices with their latches"},
		func(ctx context.Context, in *SitePath) (*struct{ Body []encodedDevice }, error) {
			list, err := s.lineUp.site(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			defer list.mu.Unlock()
			return &struct{ Body []encodedDevice }{Body: list.all()}, nil
		})
	changes := api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[changesView](), true, "")
	huma.Register(api, huma.Operation{OperationID: "list-changes", Method: "GET", Path: "/api/sites/{site}/changes",
		Summary: "The devices that have changed since a version; all of them from the beginning",
		Responses: map[string]*huma.Response{"200": {Description: "OK",
			Content: map[string]*huma.MediaType{"application/json": {Schema: changes}}}}},
		func(ctx context.Context, in *struct {
			SitePath
			Since string `query:"since"`
		}) (*huma.StreamResponse, error) {
			list, err := s.lineUp.site(ctx, in.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			defer list.mu.Unlock()
			raw := list.since(s.lineUp.begun, in.Since).encode()
			return &huma.StreamResponse{Body: func(ctx huma.Context) {
				ctx.SetHeader("Content-Type", "application/json")
				ctx.BodyWriter().Write(raw)
			}}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "get-device", Method: "GET", Path: "/api/devices/{device}", Summary: "One device"},
		func(ctx context.Context, in *DevicePath) (*struct{ Body deviceView }, error) {
			d, err := s.cfg.Store.Device(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			return &struct{ Body deviceView }{viewOf(d)}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "rename-device", Method: "PATCH", Path: "/api/devices/{device}",
		Summary: "Name a device by what it sees"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				Name string `json:"name" maxLength:"120" doc:"empty gives back the device's own name"`
			}
		}) (*struct {
			Body struct {
				Before string `json:"before"`
			}
		}, error) {
			out := &struct {
				Body struct {
					Before string `json:"before"`
				}
			}{}
			var err error
			out.Body.Before, err = s.cfg.Store.Rename(ctx, in.Device, wiretext.Line(in.Body.Name, 120))
			return out, s.explain(err)
		})
	huma.Register(api, huma.Operation{OperationID: "guide-to-device", Method: "GET", Path: "/api/devices/{device}/guidance",
		Summary: "What this machine needs to reach a stray"},
		func(ctx context.Context, in *DevicePath) (*struct{ Body address.Guidance }, error) {
			d, err := s.cfg.Store.Device(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			own, err := s.cfg.Agent.Interfaces(ctx, d.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			all, err := s.cfg.Store.Devices(ctx, d.Site)
			if err != nil {
				return nil, s.explain(err)
			}
			var taken []netip.Addr
			for i := range all {
				taken = append(taken, all[i].Status.Device.Addr)
			}
			return &struct{ Body address.Guidance }{address.Guide(d.Status.Device.Addr, own, runtime.GOOS, taken)}, nil
		})
	huma.Register(api, huma.Operation{OperationID: "consent", Method: "POST", Path: "/api/devices/{device}/consent",
		Summary: "Agree to connect to one stray for half an hour"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				Address string `json:"address" doc:"the stray's address, named by the person who agrees"`
				Reason  string `json:"reason" minLength:"1" maxLength:"300"`
			}
		}) (*struct{}, error) {
			d, err := s.cfg.Store.Device(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			if !d.Status.Device.Stray || in.Body.Address != d.Addr || strings.TrimSpace(in.Body.Reason) == "" {
				return nil, problem(422, "no_consent", "The consent must name the stray's present address and a reason.",
					"Look at the stray again: its address may have changed.")
			}
			return nil, s.explain(s.cfg.Store.Consent(ctx, d, person(ctx), wiretext.Line(in.Body.Reason, 300)))
		})
	huma.Register(api, huma.Operation{OperationID: "withdraw-consent", Method: "DELETE", Path: "/api/devices/{device}/consent",
		Summary: "Take the consent back"},
		func(ctx context.Context, in *DevicePath) (*struct{}, error) {
			d, err := s.cfg.Store.Device(ctx, in.Device)
			if err == nil {
				err = s.cfg.Store.Withdraw(ctx, d)
			}
			return nil, s.explain(err)
		})
	huma.Register(api, huma.Operation{OperationID: "forget-device", Method: "DELETE", Path: "/api/devices/{device}",
		Summary: "Remove a device with its evidence"},
		func(ctx context.Context, in *DevicePath) (*struct{}, error) {
			d, err := s.cfg.Store.Device(ctx, in.Device)
			if err == nil {
				_, err = s.cfg.Store.Forget(ctx, person(ctx), d.Site, []uuid.UUID{d.ID})
			}
			return nil, s.explain(err)
		})
	huma.Register(api, huma.Operation{OperationID: "list-evidence", Method: "GET", Path: "/api/devices/{device}/evidence",
		Summary: "What was seen of a device, newest first"},
		func(ctx context.Context, in *DevicePath) (*struct{ Body []recordView }, error) {
			records, err := s.cfg.Store.History(ctx, in.Device, 100)
			if err != nil {
				return nil, s.explain(err)
			}
			out := &struct{ Body []recordView }{Body: []recordView{}}
			for _, r := range records {
				out.Body = append(out.Body, recordView{ID: r.ID, At: r.At, Kind: string(r.Kind), Subject: subject(r), Summary: r.Sum(),
					Failed: r.Failed(), Exchange: r.HasExchange})
			}
			return out, nil
		})
}

// subject leaves out subjects that are identities: they say nothing to a person.
func subject(r evidence.Record) string {
	if r.Kind == evidence.KindPlaced || r.Kind == evidence.KindConfirmed || r.Kind == evidence.KindProof {
		return ""
	}
	return r.Subject
}

func viewOf(d *store.Device) deviceView {
	st := &d.Status
	v := deviceView{ID: d.ID, Kind: string(st.Device.Kind), Name: d.Title(), Named: d.Name.Valid, Address: d.Addr, Stray: st.Device.Stray,
		Methods: st.Device.Methods, Ports: st.Device.Ports, HeardAt: st.HeardAt, Latches: st.Latches, At: string(st.At()),
		Streams: []streamView{}, Placements: st.Placements}
	if v.Kind == "" {
		v.Kind = "other"
	}
	if v.Methods == nil {
		v.Methods = []string{}
	}
	if v.Ports == nil {
		v.Ports = []discovery.Port{}
	}
	if v.Placements == nil {
		v.Placements = []latch.Placement{}
	}
	v.Web, v.Certificate = webPage(d), st.Device.Certificate
	if !st.LeftAt.IsZero() {
		v.LeftAt = &st.LeftAt
	}
	v.Maker, v.Model, v.Serial, v.MAC, v.Is = st.Device.Maker, st.Device.Hardware, st.Device.Serial, st.Device.MAC, st.Device.Is
	if !st.Consent.IsZero() {
		v.Consent = &st.Consent
	}
	v.Claims = claims(st.Heard)
	if l := st.Latch(latch.Reachable); l.Diagnosis != nil {
		v.Conflict = l.Diagnosis.Cause == diagnose.AddressConflict
	}
	if in := st.SignedIn; in != nil {
		v.Protocols = in.Protocols
		if in.Factory && d.Via == nil {
			v.Factory = in.User
		}
		if in.MAC != "" {
			v.MAC = in.MAC
		}
	}
	if in := st.SignedIn; in != nil && in.Info.Model != "" {
		v.Maker, v.Model, v.Firmware, v.Serial = in.Info.Manufacturer, in.Info.Model, in.Info.Firmware, in.Info.Serial
	}
	v.Block = identity.MACBlock(v.MAC)
	_, label, _ := st.StreamSignIn()
	if st.StreamKey == nil && st.SignedIn != nil && st.Via != "" {
		label += ", the sign-in of " + st.Via
	}
	for _, x := range st.Streams {
		v.Streams = append(v.Streams, viewOfStream(d, x, label))
	}
	if a := st.Addressed; a != nil && a.Before.Addr.IsValid() {
		v.Moved = &movedView{Before: a.Before, After: a.After}
		if a.Pending {
			v.Moved.After = a.To
		}
		if a.Diagnosis != nil {
			v.Moved.Failed, v.Moved.Fix = a.Diagnosis.Summary, a.Diagnosis.Fix
		}
	}
	if via := st.Device.Via; via != nil {
		v.Via = &viaView{Recorder: *via, Name: st.Via, Channel: st.Device.Channel, Camera: st.Device.Camera}
		for _, s := range st.Heard {
			v.Via.Place = s.Location
		}
	}
	if st.Located != nil && len(st.Located.Tried) > 0 && st.Reached != nil && st.Reached.Ladder != nil {
		v.Ladder = &ladderView{Recipe: st.Located.Recipe, Shape: st.Located.Shape, Manner: string(st.Reached.Ladder.Precedence),
			Tried: st.Located.Tried}
	}
	for _, c := range st.Channels {
		view := channelView{Number: c.Number, Name: c.Name, Place: c.Place, Page: c.Page}
		if c.Camera.IsValid() {
			view.Camera = c.Camera.String()
		}
		v.Channels = append(v.Channels, view)
	}
	v.Grid, v.Remedies = d.Status.Grid(), undoable(st)
	v.Snapshot, v.Motion = viewOfPicture(st, "snapshot"), viewOfPicture(st, "mjpeg")
	if r := st.Reached; r != nil && d.Via == nil && (time.Duration(r.SkewMS)*time.Millisecond).Abs() > largestSkew {
		v.SkewMS = r.SkewMS
	}
	v.Findings = findings(st)
	if !st.Agreed.IsZero() {
		v.Agreed = &st.Agreed
	}
	v.Next = d.Status.Next()
	v.Revision = revision(v)
	return v
}

// revision is a checksum of a view, by which a page knows what it need not draw again.
func revision(v deviceView) string {
	h := fnv.New64a()
	json.NewEncoder(h).Encode(v)
	return strconv.FormatUint(h.Sum64(), 36)
}

func viewOfStream(d *store.Device, x camera.Stream, label string) streamView {
	out := streamView{Token: x.Token, Role: x.Role, URL: x.URL, Claimed: x.Claimed}
	p, played := d.Status.Proofs[x.Role]
	if u, err := streamurl.Parse(x.URL); err == nil {
		source := "the device's own answer"
		switch {
		case x.Service == "recipe":
			source = fmt.Sprintf("the recipe %q, tried on the device", x.Name)
		case d.Via != nil:
			source = "the recorder's answer"
		}
		if x.Reserve != "" {
			source += ", which names another host for its streams"
		}
		if x.Corrected != "" {
			source += fmt.Sprintf(" (it named %s)", x.Corrected)
		}
		out.Segments = u.Segments(source, played && p.OK, label)
	}
	if played {
		l := d.Status.Latch(latch.Proven)
		view := &proofView{Proof: p.Proof, Still: p.Still}
		if l.Since != nil {
			view.At = *l.Since
		}
		out.Proof = view
	}
	return out
}

// webPage is the device's own page: where its device service answers, or the first port that speaks HTTP.
func webPage(d *store.Device) string {
	if d.Via != nil {
		return d.Status.Device.Page // the recorder's own page is not the camera's
	}
	if x := d.Status.Device.XAddr; x != "" && d.Status.InScope() {
		if i := strings.Index(x, "/onvif"); i > 0 {
			return x[:i] + "/"
		}
	}
	for _, p := range d.Status.Device.Ports {
		if p.Speaks == "http" || p.Speaks == "device service" {
			return fmt.Sprintf("http://%s:%d/", d.Addr, p.Number)
		}
	}
	return ""
}
