package server

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/evidence"
	"unlatch/core/remedy"
	"unlatch/core/signin"
	"unlatch/jobs"
	"unlatch/store"
)

type remedyBody struct {
	Devices []uuid.UUID   `json:"devices" minItems:"1" maxItems:"5000"`
	Action  remedy.Action `json:"action" enum:"streams,clock,stream_user"`
	Undo    bool          `json:"undo,omitempty" doc:"put back what was before"`
	User    string        `json:"user,omitempty" maxLength:"60" doc:"name of the stream user to make"`
	Each    bool          `json:"each,omitempty" doc:"a password of its own for each device; one for all where it is missing"`
}

func (s *Server) remedyRoutes(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "remedy-devices", Method: "POST", Path: "/api/sites/{site}/remedies", Summary: "Mend one thing on devices, read back, or take it back", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body remedyBody
		}) (*runOut, error) {
			return s.remedy(ctx, in.Site, in.Body)
		})
}

// certificateRoutes lets a person take a device's new certificate in place of the one that it was known by.
func (s *Server) certificateRoutes(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "take-certificate", Method: "POST", Path: "/api/devices/{device}/certificate", Summary: "Take the certificate that the device shows now"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				SHA256 string `json:"sha256" doc:"of the certificate that the person has seen"`
			}
		}) (*struct{}, error) {
			d, err := s.cfg.Store.Device(ctx, in.Device)
			if err != nil {
				return nil, s.explain(err)
			}
			for _, p := range d.Status.Proofs {
				if p.TLS == nil || p.TLS.SHA256 != in.Body.SHA256 || d.Status.Pin == nil {
					continue
				}
				return nil, s.explain(s.cfg.Store.Record(ctx, d, nil, store.Finding{Kind: evidence.KindPin, Body: evidence.Pin{Certificate: *p.TLS, Before: d.Status.Pin.Certificate.SHA256}}))
			}
			return nil, problem(422, "no_certificate", "That is not the certificate that the device has shown.", "Play the stream again and look at what it shows now.")
		})
}

var remedyTitles = map[remedy.Action][2]string{
	remedy.Streams:    {"Switch the stream service on, %s", "Switch the stream service off again, %s"},
	remedy.Clock:      {"Set the clock, %s", "Put the clock back, %s"},
	remedy.StreamUser: {"Make a stream user on %s", "Take the stream user off %s"},
}

// remedy puts what it needs on the keyring and then begins the run.
func (s *Server) remedy(ctx context.Context, site uuid.UUID, in remedyBody) (*runOut, error) {
	user := strings.TrimSpace(in.User)
	makes := in.Action == remedy.StreamUser && !in.Undo
	if makes && (user == "" || strings.ContainsAny(user, " :@/\\\"'<>&")) {
		return nil, problem(422, "bad_user", "The user name is missing, or holds a character that devices or URLs cannot take.", "Use letters, digits, a dash or a dot.")
	}
	var list []jobs.Remedy
	for _, id := range in.Devices {
		d, err := s.cfg.Store.Device(ctx, id)
		if err != nil {
			return nil, s.explain(err)
		}
		if in := d.Status.SignedIn; d.Site != site || d.Via != nil || in == nil || in.StreamOnly || in.SignIn == uuid.Nil {
			return nil, problem(422, "not_signed_in", d.Title()+" has not been signed in to by its device service.", "Open its latches first; without that nothing on it can be changed.")
		}
		r := jobs.Remedy{Device: id, Action: in.Action, Undo: in.Undo}
		if makes && in.Each {
			if r.SignIn, err = s.streamKey(ctx, fmt.Sprintf("%s of %s", user, d.Title()), user, store.Terms{Purpose: store.Streams, Device: &id}); err != nil {
				return nil, s.explain(err)
			}
		}
		list = append(list, r)
	}
	if makes && !in.Each {
		key, err := s.streamKey(ctx, fmt.Sprintf("%s, %s", user, cameras(len(list))), user, store.Terms{Purpose: store.Streams, Site: &site})
		if err != nil {
			return nil, s.explain(err)
		}
		for i := range list {
			list[i].SignIn = key
		}
	}
	title := remedyTitles[in.Action][0]
	if in.Undo {
		title = remedyTitles[in.Action][1]
	}
	run, err := s.cfg.Queue.Remedy(ctx, site, fmt.Sprintf(title, cameras(len(list))), list)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

// streamKey saves a new password to the keyring, before any device hears of it: a crash between the two locks nobody out.
func (s *Server) streamKey(ctx context.Context, label, user string, t store.Terms) (uuid.UUID, error) {
	id, err := s.cfg.Store.AddSignIn(ctx, label, user, signin.NewSecret(password()))
	if err != nil {
		return id, err
	}
	return id, s.cfg.Store.SetTerms(ctx, id, label, t)
}
