package server

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/certificate"
	"unlatch/core/evidence"
	"unlatch/core/fix"
	"unlatch/core/latch"
	"unlatch/core/signin"
	"unlatch/jobs"
	"unlatch/store"
)

type fixBody struct {
	Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
	Action  fix.Action  `json:"action" enum:"streams,clock,stream_user"`
	Undo    bool        `json:"undo,omitempty" doc:"put back what was before"`
	User    string      `json:"user,omitempty" maxLength:"60" doc:"name of the stream user to make"`
	Each    bool        `json:"each,omitempty" doc:"a password of its own for each device; one for all where it is missing"`
}

func (s *Server) fixRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "fix-devices", Method: "POST", Path: "/api/sites/{site}/fixes",
		Summary: "Mend one thing on devices, read back, or take it back", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body fixBody
		}) (*runOut, error) {
			return s.fix(ctx, in.Site, in.Body)
		})
}

// takenPin is a certificate that a person has looked at and taken for a device.
func takenPin(st *latch.Status, c certificate.Certificate) evidence.Pin {
	out := evidence.Pin{Certificate: c, Taken: true}
	if p := st.Pin; p != nil && p.Certificate.SHA256 != c.SHA256 {
		out.Before = p.Certificate.SHA256
	}
	return out
}

// certificateRoutes lets a person take a device's new certificate in place of the one that it was known by.
func (s *Server) certificateRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "take-certificate", Method: "POST", Path: "/api/devices/{device}/certificate",
		Summary: "Take the certificate that the device shows now"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				SHA256 string `json:"sha256" doc:"of the certificate that the person has seen"`
			}
		}) (*struct{}, error) {
			d, err := s.cfg.Store.Devices.Get(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			var shown []*certificate.Certificate
			if r := d.Status.Reached; r != nil {
				shown = append(shown, r.TLS)
			}
			for _, p := range d.Status.Proofs {
				shown = append(shown, p.TLS)
			}
			if p := d.Status.Pin; p != nil {
				shown = append(shown, &p.Certificate)
			}
			for _, c := range shown {
				if c == nil || c.SHA256 != in.Body.SHA256 {
					continue
				}
				if err := s.did(ctx, "took the device's certificate", "SHA-256 "+in.Body.SHA256, d.Site, d.ID); err != nil {
					return nil, s.explain(err)
				}
				return nil, s.explain(s.cfg.Store.Devices.Record(ctx, d, nil, store.Finding{Body: takenPin(&d.Status, *c)}))
			}
			return nil, problem(422, "no_certificate", "That is not the certificate that the device has shown.",
				"Play the stream again and look at what it shows now.")
		})
}

var fixTitles = map[fix.Action][2]string{
	fix.Streams:    {"Switch the stream service on, %s", "Switch the stream service off again, %s"},
	fix.Clock:      {"Set the clock, %s", "Put the clock back, %s"},
	fix.StreamUser: {"Make a stream user on %s", "Take the stream user off %s"},
}

// fix puts what it needs on the keyring and then begins the run.
func (s *Server) fix(ctx context.Context, site uuid.UUID, in fixBody) (*runOut, error) {
	user := strings.TrimSpace(in.User)
	makes := in.Action == fix.StreamUser && !in.Undo
	if makes && (user == "" || strings.ContainsAny(user, " :@/\\\"'<>&")) {
		return nil, problem(422, "bad_user", "The user name is missing, or holds a character that devices or URLs cannot take.",
			"Use letters, digits, a dash or a dot.")
	}
	var list []jobs.Fix
	var keys []store.NewSignIn
	for _, id := range in.Devices {
		d, err := s.changeable(ctx, site, id, "nothing on it can be changed")
		if err != nil {
			return nil, err
		}
		r := jobs.Fix{Device: id, Action: in.Action, Undo: in.Undo}
		if makes {
			if in.Each || len(keys) == 0 {
				keys = append(keys, store.NewSignIn{ID: uuid.Must(uuid.NewV7()), Label: fmt.Sprintf("%s of %s", user, d.Title()),
					User:   user,
					Secret: signin.NewSecret(password()), Terms: store.For(signin.Streams, id)})
			} else {
				keys[0].Devices = append(keys[0].Devices, id) // one for all, and for nothing else
			}
			r.SignIn = keys[len(keys)-1].ID
		}
		list = append(list, r)
	}
	if makes && !in.Each {
		keys[0].Label = fmt.Sprintf("%s, %s", user, cameras(len(list)))
	}
	title := fixTitles[in.Action][0]
	if in.Undo {
		title = fixTitles[in.Action][1]
	}
	for _, r := range list {
		if err := s.did(ctx, fmt.Sprintf(strings.ToLower(title[:1])+title[1:], "the device"), user, site, r.Device); err != nil {
			return nil, s.explain(err)
		}
	}
	// The passwords are on the keyring before any device hears of them: a crash between the two locks nobody out.
	if _, err := s.cfg.Store.SignIns.AddAll(ctx, keys...); err != nil {
		return nil, s.explain(err)
	}
	run, err := s.cfg.Queue.Fix(ctx, site, fmt.Sprintf(title, cameras(len(list))), list)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

// changeable is a device of the site whose own service has opened to a sign-in of the keyring. Without that the request is refused with lost,
// which is what cannot be done.
func (s *Server) changeable(ctx context.Context, site, id uuid.UUID, lost string) (*store.Device, error) {
	d, err := s.cfg.Store.Devices.Get(ctx, id)
	if err != nil {
		return nil, s.explain(err)
	}
	if in := d.Status.SignedIn; d.Site != site || d.Via != nil || in == nil || in.StreamOnly || in.SignIn == uuid.Nil {
		return nil, problem(422, "not_signed_in", d.Title()+" has not been signed in to by its device service.",
			"Open its latches first; without that "+lost+".")
	}
	return d, nil
}

// undoable are the fixes on a device that can be taken back.
func undoable(st *latch.Status) []fixView {
	var out []fixView
	for _, r := range st.Fixes {
		out = append(out, fixView{Action: string(r.Action), Before: r.Before, After: r.After})
	}
	return out
}

// fixView is a change that Unlatch made on the device.
type fixView struct {
	Action string `json:"action" enum:"streams,clock,stream_user"`
	Before string `json:"before"`
	After  string `json:"after"`
}
