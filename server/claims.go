package server

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/diagnose"
	"unlatch/core/latch"
	"unlatch/core/signin"
	"unlatch/jobs"
)

type claimBody struct {
	Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
	User    string      `json:"user" minLength:"1" maxLength:"60"`
	Secret  string      `json:"secret,omitempty" maxLength:"200" doc:"one password for all; empty makes one of its own for each"`
}

// shortest is the shortest password that a device is claimed with.
const shortest = 10

func (s *Server) claimRoutes(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "claim-devices", Method: "POST", Path: "/api/sites/{site}/claim", Summary: "Give factory-fresh devices their first account", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body claimBody
		}) (*runOut, error) {
			return s.claim(ctx, in.Site, in.Body)
		})
}

// claim saves the passwords to the keyring and then begins the run.
func (s *Server) claim(ctx context.Context, site uuid.UUID, in claimBody) (*runOut, error) {
	user := strings.TrimSpace(in.User)
	if user == "" {
		return nil, problem(422, "no_user", "The account has no user name.", "Type one.")
	}
	if in.Secret != "" && len(in.Secret) < shortest {
		return nil, problem(422, "weak_password", fmt.Sprintf("A password of %d characters is too short.", len(in.Secret)), fmt.Sprintf("Use at least %d, or let Unlatch make one.", shortest))
	}
	var shared uuid.UUID
	var claims []jobs.Claim
	for _, id := range in.Devices {
		d, err := s.cfg.Store.Device(ctx, id)
		if err != nil {
			return nil, s.explain(err)
		}
		l := d.Status.Latch(latch.SignedIn)
		factory := d.Status.SignedIn != nil && d.Status.SignedIn.Factory
		if factory && d.Status.SignedIn.User != user {
			return nil, problem(422, "other_user", fmt.Sprintf("%s has the user %q from the factory.", d.Title(), d.Status.SignedIn.User), "Keep that name: it is its password that changes.")
		}
		if d.Site != site || !factory && (l.Diagnosis == nil || l.Diagnosis.Cause != diagnose.FactoryFresh) {
			return nil, problem(422, "not_fresh", d.Title()+" is not known to be factory-fresh.", "Open its latches first: only a device without any account is claimed.")
		}
		claims = append(claims, jobs.Claim{Device: id})
		if in.Secret != "" {
			continue
		}
		label := fmt.Sprintf("%s of %s", user, d.Title())
		if claims[len(claims)-1].SignIn, err = s.cfg.Store.AddSignIn(ctx, label, user, signin.NewSecret(password())); err != nil {
			return nil, s.explain(err)
		}
	}
	if in.Secret != "" {
		var err error
		if shared, err = s.cfg.Store.AddSignIn(ctx, fmt.Sprintf("%s, %s claimed", user, cameras(len(claims))), user, signin.NewSecret(in.Secret)); err != nil {
			return nil, s.explain(err)
		}
		for i := range claims {
			claims[i].SignIn = shared
		}
	}
	run, err := s.cfg.Queue.Claim(ctx, site, "Claim "+cameras(len(claims)), claims)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

// password makes one of 100 bits without characters that targets cannot take.
func password() string {
	raw := make([]byte, 13)
	rand.Read(raw)
	text := strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(raw))[:20]
	return strings.Join([]string{text[:5], text[5:10], text[10:15], text[15:]}, "-")
}
