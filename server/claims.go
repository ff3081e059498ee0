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
	"unlatch/core/wiretext"
	"unlatch/jobs"
	"unlatch/store"
)

type claimBody struct {
	Devices []uuid.UUID `json:"devices" minItems:"1" maxItems:"5000"`
	User    string      `json:"user" minLength:"1" maxLength:"60"`
	Secret  string      `json:"secret,omitempty" maxLength:"200" doc:"one password for all; empty makes one of its own for each"`
}

// shortest is the shortest password that a device is claimed with.
const shortest = 10

func (s *Server) claimRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "claim-devices", Method: "POST", Path: "/api/sites/{site}/claim",
		Summary: "Give factory-fresh devices their first account", DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SitePath
			Body claimBody
		}) (*runOut, error) {
			return s.claim(ctx, in.Site, in.Body)
		})
}

// claim saves the passwords to the keyring and then begins the run.
func (s *Server) claim(ctx context.Context, site uuid.UUID, in claimBody) (*runOut, error) {
	user := wiretext.Line(in.User, 60)
	if user == "" {
		return nil, problem(422, "no_user", "The account has no user name.", "Type one.")
	}
	if in.Secret != "" && len(in.Secret) < shortest {
		return nil, problem(422, "weak_password", fmt.Sprintf("A password of %d characters is too short.", len(in.Secret)),
			fmt.Sprintf("Use at least %d, or let Unlatch make one.", shortest))
	}
	var claims []jobs.Claim
	var keys []store.NewSignIn
	for _, id := range in.Devices {
		d, err := s.cfg.Store.Devices.Get(ctx, id)
		if err != nil {
			return nil, s.explain(err)
		}
		l := d.Status.Latch(latch.SignedIn)
		factory := d.Status.SignedIn != nil && d.Status.SignedIn.Factory
		if factory && d.Status.SignedIn.User != user {
			return nil, problem(422, "other_user", fmt.Sprintf("%s has the user %q from the factory.", d.Title(), d.Status.SignedIn.User),
				"Keep that name: it is its password that changes.")
		}
		if d.Site != site || !factory && (l.Diagnosis == nil || l.Diagnosis.Cause != diagnose.FactoryFresh) {
			return nil, problem(422, "not_fresh", d.Title()+" is not known to be factory-fresh.",
				"Open its latches first: only a device without any account is claimed.")
		}
		key := store.NewSignIn{ID: uuid.Must(uuid.NewV7()), Label: fmt.Sprintf("%s of %s", user, d.Title()), User: user,
			Secret: signin.NewSecret(password()), Terms: store.For("", id)}
		if in.Secret != "" && len(keys) > 0 {
			keys[0].Devices = append(keys[0].Devices, id) // one for all, and for nothing else
		} else {
			keys = append(keys, key)
		}
		claims = append(claims, jobs.Claim{Device: id, SignIn: keys[len(keys)-1].ID})
	}
	if in.Secret != "" {
		keys[0].Label, keys[0].Secret = fmt.Sprintf("%s, %s claimed", user, cameras(len(claims))), signin.NewSecret(in.Secret)
	}
	title := "Claim " + cameras(len(claims))
	for _, c := range claims {
		if err := s.did(ctx, "claimed the device", "with the user "+user, site, c.Device); err != nil {
			return nil, s.explain(err)
		}
	}
	if _, err := s.cfg.Store.SignIns.AddAll(ctx, keys...); err != nil {
		return nil, s.explain(err)
	}
	run, err := s.cfg.Queue.Claim(ctx, site, title, claims)
	return &runOut{viewOfRun(run, time.Now())}, s.explain(err)
}

// password makes one of 100 bits without characters that targets cannot take.
func password() string {
	raw := make([]byte, 13)
	rand.Read(raw)
	text := strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(raw))[:20]
	return strings.Join([]string{text[:5], text[5:10], text[10:15], text[15:]}, "-")
}
