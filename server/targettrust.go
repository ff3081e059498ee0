package server

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/wire/target"
)

// agreementView is a person's agreement that a secret may go to a target although others may read it on the way.
type agreementView struct {
	Secret target.Secret    `json:"secret" enum:"sign_in,camera_sign_ins,stream_key"`
	Person string           `json:"person" doc:"who has agreed"`
	Given  time.Time        `json:"given_at"`
	To     *target.Identity `json:"to,omitempty" doc:"to whom; missing while nobody has answered there since"`
}

// handedView is a sign-in that a target is given for cameras.
type handedView struct {
	Label   string `json:"label" doc:"the entry of the keyring"`
	User    string `json:"user"`
	Level   string `json:"level,omitempty" doc:"of that user on the cameras, by their own word"`
	Cameras int    `json:"cameras"`
}

// targetAgreeBody names what may go to a target, as the person was shown it.
type targetAgreeBody struct {
	Secret target.Secret `json:"secret" enum:"sign_in,camera_sign_ins,stream_key"`
	// To is who the person was shown. It is bound to what the target says of itself besides.
	To *struct {
		At          string `json:"at" maxLength:"300" doc:"scheme, host and port"`
		Certificate string `json:"certificate,omitempty" maxLength:"64" doc:"SHA-256 in hex"`
		Scheme      string `json:"scheme,omitempty" maxLength:"40"`
	} `json:"to,omitempty" doc:"missing for whoever answers there first"`
	Devices []uuid.UUID `json:"devices,omitempty" maxItems:"5000" doc:"cameras to go on with"`
}

// targetTrust serves the agreements for targets.
type targetTrust struct{ resource }

func (s targetTrust) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "agree-for-target", Method: "POST", Path: "/api/sites/{site}/targets/{target}/agreements",
		DefaultStatus: 202, Summary: "Agree that a secret may go to a target so that it can be read, and go on"},
		func(ctx context.Context, in *struct {
			TargetPath
			Body targetAgreeBody
		}) (*runOut, error) {
			a := act.AgreeForTarget{Site: in.Site, Target: in.Target, Secret: in.Body.Secret, Devices: in.Body.Devices}
			if to := in.Body.To; to != nil {
				a.To = &target.Identity{At: to.At, Certificate: to.Certificate, Scheme: to.Scheme}
			}
			return s.begin(ctx, a)
		})
	register(s, api, huma.Operation{OperationID: "withdraw-target-agreement", Method: "DELETE",
		Path: "/api/sites/{site}/targets/{target}/agreements", Summary: "Take back what was agreed for a target; one secret, or all"},
		func(ctx context.Context, in *struct {
			TargetPath
			Secret target.Secret `query:"secret" enum:"sign_in,camera_sign_ins,stream_key"`
		}) (*struct{}, error) {
			return s.keep(ctx, act.WithdrawForTarget{Site: in.Site, Target: in.Target, Secret: in.Secret})
		})
	register(s, api, huma.Operation{OperationID: "take-target-certificate", Method: "POST",
		Path: "/api/sites/{site}/targets/{target}/certificate", Summary: "Say that a target's certificate is its own"},
		func(ctx context.Context, in *struct {
			TargetPath
			Body struct {
				SHA256 string `json:"sha256" pattern:"^[0-9a-f]{64}$" doc:"of the certificate that the person has seen"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.TakeTargetCertificate{Site: in.Site, Target: in.Target, SHA256: in.Body.SHA256})
		})
}

// trustOf adds to views of targets what was agreed for them, what waits for an agreement, and which sign-ins they are given.
func (s targetTrust) trustOf(ctx context.Context, site uuid.UUID, views []targetView) error {
	ids := make([]uuid.UUID, len(views))
	at := map[uuid.UUID]*targetView{}
	for i := range views {
		ids[i], at[views[i].ID] = views[i].ID, &views[i]
		views[i].Agreements, views[i].Hands = []agreementView{}, []handedView{}
	}
	list, err := s.store.Targets.Agreements(ctx, ids...)
	if err != nil {
		return err
	}
	for _, a := range list {
		v := agreementView{Secret: a.Secret, Person: a.Person, Given: a.Given}
		if a.To != nil {
			v.To = &a.To.V
		}
		at[a.Target].Agreements = append(at[a.Target].Agreements, v)
	}
	wants, err := s.store.Targets.Wants(ctx, ids)
	if err != nil {
		return err
	}
	for id, w := range wants {
		at[id].Wants = &w
	}
	up, err := s.lineUp.site(ctx, site)
	if err != nil {
		return err
	}
	defer up.mu.Unlock()
	for _, d := range up.order {
		d.hands(at)
	}
	return nil
}

// hands adds to targets the sign-in that each is given for a device, and what it waits for before it is given that.
func (l *lineUpRow) hands(at map[uuid.UUID]*targetView) {
	st := &l.d.Status
	key, label, user := st.StreamSignIn()
	if key == uuid.Nil {
		return
	}
	level := ""
	if st.StreamKey == nil && st.SignedIn != nil {
		level = st.SignedIn.Level
	}
	for _, p := range st.Placements {
		v := at[p.Target]
		if v == nil {
			continue
		}
		if p.Diagnosis != nil && p.Diagnosis.Wanted != nil {
			if w := at[p.Diagnosis.Wanted.Target]; w != nil {
				w.Wants = p.Diagnosis.Wanted
			}
		}
		i := 0
		for i < len(v.Hands) && (v.Hands[i].Label != label || v.Hands[i].Level != level) {
			i++
		}
		if i == len(v.Hands) {
			v.Hands = append(v.Hands, handedView{Label: label, User: user, Level: level})
		}
		v.Hands[i].Cameras++
	}
}
