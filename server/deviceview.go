package server

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/identity"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/weigh"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/store"
)

// deviceView is one row of the line-up.
type deviceView struct {
	ID          uuid.UUID             `json:"id"`
	Revision    string                `json:"revision" doc:"differs when anything else in this view does"`
	Kind        string                `json:"kind" enum:"camera,recorder,other"`
	Name        string                `json:"name"`
	Named       bool                  `json:"named" doc:"a person gave the name"`
	Address     string                `json:"address"`
	Stray       bool                  `json:"stray"`
	Consent     *time.Time            `json:"consent,omitempty" doc:"until when a stray may be connected to"`
	Web         string                `json:"web,omitempty" doc:"the device's own page"`
	Maker       string                `json:"maker,omitempty"`
	Model       string                `json:"model,omitempty"`
	Firmware    string                `json:"firmware,omitempty"`
	Serial      string                `json:"serial,omitempty"`
	MAC         string                `json:"mac,omitempty"`
	Block       string                `json:"mac_block,omitempty" doc:"who registered the MAC block, by the public registry"`
	Is          string                `json:"is,omitempty" doc:"what it calls its kind, where it is neither camera nor recorder"`
	Claims      []claimView           `json:"claims" doc:"what each method heard, and when"`
	Moved       *movedView            `json:"moved,omitempty" doc:"the last time that it was given an address"`
	Conflict    bool                  `json:"conflict" doc:"another device claims the same address"`
	Methods     []string              `json:"methods" doc:"what heard it"`
	Ports       []sighting.Port       `json:"ports"`
	Protocols   []camera.Protocol     `json:"protocols,omitempty" doc:"network services by the device's own word"`
	HeardAt     time.Time             `json:"heard_at"`
	LeftAt      *time.Time            `json:"left_at,omitempty" doc:"when it said goodbye, where nothing was heard of it since"`
	Certificate string                `json:"certificate,omitempty" doc:"the one that it last showed, as SHA-256"`
	Latches     []latch.Latch         `json:"latches"`
	At          string                `json:"at" doc:"the latch it waits at; empty when all are open"`
	Next        latch.NextStep        `json:"next"`
	Streams     []streamView          `json:"streams"`
	Placements  []latch.Placement     `json:"placements"`
	Ways        *weigh.Ways           `json:"ways,omitempty" doc:"of a camera that offers its picture in more than one way: what they cost together"`
	Via         *viaView              `json:"via,omitempty" doc:"the recorder that it is reached through"`
	TriedPaths  *triedPathsView       `json:"tried_paths,omitempty" doc:"paths that were tried, of a device without a device service"`
	Findings    []findingView         `json:"findings,omitempty" doc:"what a person should act on beside the next step"`
	Agreed      *time.Time            `json:"agreed,omitempty" doc:"when somebody agreed that its sign-in may be sent readable"`
	AgreedTLS   bool                  `json:"agreed_tls,omitempty" doc:"over TLS only"`
	Factory     string                `json:"factory,omitempty" doc:"a finding: the user that it still has with its factory password"`
	Grid        []latch.GridRow       `json:"grid,omitempty" doc:"what the sign-ins open"`
	SkewMS      int64                 `json:"skew_ms,omitempty" doc:"by how much its clock is ahead, where that is more than a few seconds"`
	Tuning      *tuningView           `json:"tuning,omitempty" doc:"how its streams were set, where somebody has"`
	Plan        map[string]wishView   `json:"plan,omitempty" doc:"by part (main, sub, third, overlay), what is wanted"`
	Tunes       map[string]latch.Tune `json:"tunes,omitempty" doc:"by role, how the stream stands to its plan"`
	Offers      *offerView            `json:"offers,omitempty" doc:"what it can be set to, where it was asked"`
	Marked      *markView             `json:"marked,omitempty" doc:"a nudge or a label that still stands on it"`
	Walked      *latch.Walk           `json:"walked,omitempty" doc:"the last walk test in which it was seen"`
	Fixes       []fixView             `json:"fixes,omitempty" doc:"changes made on it that can be taken back"`
	Snapshot    *pictureView          `json:"snapshot,omitempty" doc:"its still picture over HTTP"`
	Motion      *pictureView          `json:"mjpeg,omitempty" doc:"its motion JPEG over HTTP"`
	Channels    []channelView         `json:"channels,omitempty" doc:"of a recorder: what it sends on"`
}

// triedPathsView is how a stream path was looked for.
type triedPathsView struct {
	Recipe string             `json:"recipe,omitempty"`
	Shape  string             `json:"shape,omitempty"`
	Manner string             `json:"manner" doc:"what the server judges first"`
	Tried  []camera.TriedPath `json:"tried"`
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

// sayings says for each sighting what the device claimed in it.
func sayings(heard []evidence.Heard) []claimView {
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
	Before camera.Network `json:"before"`
	After  camera.Network `json:"after"`
	Failed string         `json:"failed,omitempty"`
	Fix    string         `json:"fix,omitempty"`
}

// viewOf returns a device as pages see it.
func viewOf(d *store.Device) deviceView {
	st := &d.Status
	v := deviceView{ID: d.ID, Kind: string(st.Device.Kind), Name: d.Title(), Named: d.Name.Valid, Address: d.Addr, Stray: st.Device.Stray,
		Methods: st.Device.Methods, Ports: st.Device.Ports, HeardAt: st.HeardAt, Latches: st.Latches, At: string(st.At()),
		Streams: []streamView{}, Placements: st.Placements, Ways: weigh.WaysOf(st)}
	if v.Kind == "" {
		v.Kind = "other"
	}
	if v.Methods == nil {
		v.Methods = []string{}
	}
	if v.Ports == nil {
		v.Ports = []sighting.Port{}
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
	v.whoItIs(d)
	v.Block = identity.MACBlock(v.MAC)
	_, label, _ := st.StreamSignIn()
	if st.StreamKey == nil && st.SignedIn != nil && st.Via != "" {
		label += ", the sign-in of " + st.Via
	}
	for _, x := range st.Streams {
		v.Streams = append(v.Streams, viewOfStream(d, x, label))
	}
	v.whereItIs(st)
	v.Grid, v.Fixes, v.Tuning, v.Marked, v.Walked = d.Status.Grid(), undoable(st), viewOfTuning(st.Tuning), viewOfMark(st.Marked), st.Walked
	v.Plan, v.Tunes, v.Offers = viewOfPlan(st), st.Tunes, viewOfOffers(st.Offers)
	v.Snapshot, v.Motion = viewOfPicture(st, "snapshot"), viewOfPicture(st, "mjpeg")
	if r := st.Reached; r != nil && d.Via == nil && r.ClockWrong() {
		v.SkewMS = r.SkewMS
	}
	v.Findings = findings(st)
	if !st.Agreed.IsZero() {
		v.Agreed, v.AgreedTLS = &st.Agreed, st.AgreedTo == signin.OverTLS
	}
	v.Next = d.Status.Next()
	v.Revision = revision(v)
	return v
}

// whoItIs adds what the device says of itself, by discovery and by its own service.
func (v *deviceView) whoItIs(d *store.Device) {
	st := &d.Status
	v.Claims = sayings(st.Heard)
	if l := st.Latch(latch.Reachable); l.Diagnosis != nil {
		v.Conflict = l.Diagnosis.Cause == trouble.AddressConflict
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
}

// whereItIs adds how the device was moved, what it is reached through, and what is reached through it.
func (v *deviceView) whereItIs(st *latch.Status) {
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
	if st.Located != nil && len(st.Located.Tried) > 0 && st.Reached != nil && st.Reached.StreamServer != nil {
		v.TriedPaths = &triedPathsView{Recipe: st.Located.Recipe, Shape: st.Located.Shape,
			Manner: string(st.Reached.StreamServer.Precedence),
			Tried:  st.Located.Tried}
	}
	for _, c := range st.Channels {
		view := channelView{Number: c.Number, Name: c.Name, Place: c.Place, Page: c.Page}
		if c.Camera.IsValid() {
			view.Camera = c.Camera.String()
		}
		v.Channels = append(v.Channels, view)
	}
}

// revision returns a checksum of a view, by which a page knows what it need not draw again.
func revision(v deviceView) string {
	h := fnv.New64a()
	json.NewEncoder(h).Encode(v)
	return strconv.FormatUint(h.Sum64(), 36)
}

// webPage returns the device's own page: where its device service answers, or the first port that speaks HTTP.
func webPage(d *store.Device) string {
	if d.Via != nil {
		return d.Status.Device.Page // the recorder's own page is not the camera's
	}
	x := d.Status.Device.XAddr
	if r := d.Status.Reached; r != nil && r.Service != "" {
		x = r.Service
	}
	if x != "" && d.Status.InScope() {
		if i := strings.Index(x, "/onvif"); i > 0 {
			return x[:i] + "/"
		}
	}
	for _, p := range d.Status.Device.Ports {
		switch p.Speaks {
		case "http", "device service":
			return fmt.Sprintf("http://%s:%d/", d.Addr, p.Number)
		case "https":
			return fmt.Sprintf("https://%s:%d/", d.Addr, p.Number)
		}
	}
	return ""
}
