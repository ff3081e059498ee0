package server

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/google/uuid"
	"github.com/pquerna/otp/totp"

	"unlatch/core/decide/act"
	"unlatch/store"
)

// own marks operations on one's own account, which also somebody may ask for who must add a second factor first.
var own = map[string]any{"own": true, "right": act.Look}

type factorsView struct {
	Factors  []store.Factor `json:"factors"`
	Codes    int            `json:"recovery_codes" doc:"how many recovery codes are good still"`
	Passkeys bool           `json:"passkeys" doc:"the browser has reached the server by a name, so that passkeys can be made"`
}

type passwordBody struct {
	Password string `json:"password" minLength:"1" maxLength:"400" doc:"one's own, once more"`
}

type codeBegun struct {
	Ceremony string `json:"ceremony" doc:"to finish with"`
	Secret   string `json:"secret" doc:"the key in base32, for typing it into the app"`
	URL      string `json:"url" doc:"the same as an otpauth URL, for a QR code"`
}

type passkeyBegun struct {
	Ceremony string          `json:"ceremony" doc:"to finish with"`
	Options  json.RawMessage `json:"options" doc:"PublicKeyCredentialCreationOptions (WebAuthn §5.4) as JSON"`
}

type factorAdded struct {
	Codes []string `json:"recovery_codes,omitempty" doc:"with the first factor: told once, each good once"`
}

func (s factors) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "show-second", Metadata: open, Method: "POST", Path: "/api/session/second",
		Summary: "Finish a sign-in with a second factor"},
		func(ctx context.Context, in *struct {
			Caller
			Ceremony string `cookie:"unlatch_second"`
			Body     secondBody
		}) (*cookieOut, error) {
			return s.finish(ctx, in.Ceremony, in.Body, in.Caller)
		})
	register(s, api, huma.Operation{OperationID: "list-factors", Metadata: own, Method: "GET", Path: "/api/session/factors",
		Summary: "One's own second factors"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body factorsView }, error) {
			list, err := s.store.Factors(ctx, person(ctx).ID)
			if err != nil {
				return nil, s.explain(err)
			}
			left, err := s.store.People.RecoveryCodesLeft(ctx, person(ctx).ID)
			return &struct{ Body factorsView }{factorsView{list, left, relyingParty(ctx) != nil}}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "remove-factor", Metadata: own, Method: "POST", Path: "/api/session/factors/{factor}/remove",
		Summary: "Take a second factor of one's own away"},
		func(ctx context.Context, in *struct {
			Caller
			Factor uuid.UUID `path:"factor"`
			Body   passwordBody
		}) (*struct{}, error) {
			if err := s.confirmPassword(ctx, person(ctx).Name, in.Body.Password, in.Caller); err != nil {
				return nil, err
			}
			return s.keep(ctx, act.RemoveFactor{Factor: in.Factor})
		})
	register(s, api, huma.Operation{OperationID: "new-recovery-codes", Metadata: own, Method: "POST", Path: "/api/session/recovery-codes",
		Summary: "Make new recovery codes; those of before end"},
		func(ctx context.Context, in *struct {
			Caller
			Body passwordBody
		}) (*struct{ Body factorAdded }, error) {
			if err := s.confirmPassword(ctx, person(ctx).Name, in.Body.Password, in.Caller); err != nil {
				return nil, err
			}
			codes, hashes := newRecoveryCodes()
			_, err := s.do(ctx, act.NewRecoveryCodes{Hashes: hashes})
			return &struct{ Body factorAdded }{factorAdded{codes}}, err
		})
	s.codeRoutes(api)
	s.passkeyRoutes(api)
}

// codeRoutes add an app that makes codes.
func (s factors) codeRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "begin-code", Metadata: ownReads, Method: "POST", Path: "/api/session/factors/code/begin",
		Summary: "The key for an app that makes one-time codes"},
		func(ctx context.Context, in *struct {
			Caller
			Body passwordBody
		}) (*struct{ Body codeBegun }, error) {
			if err := s.confirmPassword(ctx, person(ctx).Name, in.Body.Password, in.Caller); err != nil {
				return nil, err
			}
			key, err := totp.Generate(totp.GenerateOpts{Issuer: "Unlatch", AccountName: person(ctx).Name, Period: codePeriod})
			if err != nil {
				return nil, s.explain(err)
			}
			token, err := s.ceremony(ctx, forCode, key.Secret())
			return &struct{ Body codeBegun }{codeBegun{token, key.Secret(), key.URL()}}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "add-code", Extensions: map[string]any{"x-act": "add-factor"}, Metadata: own, Method: "POST",
		Path: "/api/session/factors/code", Summary: "Add an app that makes one-time codes, by its first code", DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Ceremony string `json:"ceremony" maxLength:"100"`
				Name     string `json:"name,omitempty" maxLength:"100"`
				Code     string `json:"code" maxLength:"20"`
			}
		}) (*struct{ Body factorAdded }, error) {
			c, err := s.store.Ceremony(ctx, in.Body.Ceremony, forCode, person(ctx).ID)
			if err != nil {
				return nil, s.ceremonyProblem(err)
			}
			step, ok := stepOf(c.State, in.Body.Code, s.now())
			if !ok {
				return nil, problem(http.StatusUnprocessableEntity, "wrong_second", "That is not the code that the app shows now.",
					"Look that the clocks of the phone and of this server are right, and type the next code.")
			}
			return s.add(ctx, in.Body.Ceremony, act.AddFactor{Kind: act.OneTimeCode, Name: in.Body.Name, Secret: c.State, Step: step})
		})
}

// ownReads is own for what changes nothing.
var ownReads = map[string]any{"own": true, "right": act.Look, "reads": true}

// passkeyRoutes add a passkey.
func (s factors) passkeyRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "begin-passkey", Metadata: ownReads, Method: "POST",
		Path: "/api/session/factors/passkey/begin", Summary: "What a browser makes a passkey by"},
		func(ctx context.Context, in *struct {
			Caller
			Body passwordBody
		}) (*struct{ Body passkeyBegun }, error) {
			if err := s.confirmPassword(ctx, person(ctx).Name, in.Body.Password, in.Caller); err != nil {
				return nil, err
			}
			return s.beginPasskey(ctx)
		})
	register(s, api, huma.Operation{OperationID: "add-passkey", Extensions: map[string]any{"x-act": "add-factor"}, Metadata: own,
		Method: "POST", Path: "/api/session/factors/passkey", Summary: "Add a passkey that the browser has made", DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			Body struct {
				Ceremony string          `json:"ceremony" maxLength:"100"`
				Name     string          `json:"name,omitempty" maxLength:"100"`
				Passkey  json.RawMessage `json:"passkey" doc:"RegistrationResponseJSON (WebAuthn §5.1.8)"`
			}
		}) (*struct{ Body factorAdded }, error) {
			c, err := s.store.Ceremony(ctx, in.Body.Ceremony, forPasskey, person(ctx).ID)
			if err != nil {
				return nil, s.ceremonyProblem(err)
			}
			key, err := madePasskey(ctx, person(ctx), c.State, in.Body.Passkey)
			if err != nil {
				return nil, err
			}
			raw, err := json.Marshal(key)
			if err != nil {
				return nil, s.explain(err)
			}
			return s.add(ctx, in.Body.Ceremony, act.AddFactor{Kind: act.Passkey, Name: in.Body.Name, Secret: string(raw), Passkey: key.ID})
		})
}

func (s factors) beginPasskey(ctx context.Context) (*struct{ Body passkeyBegun }, error) {
	w := relyingParty(ctx)
	if w == nil {
		return nil, problem(http.StatusUnprocessableEntity, "no_name", "A passkey belongs to a name, and Unlatch was opened by an address.",
			"Open it by a name, or add codes from an app.")
	}
	list, err := s.store.Factors(ctx, person(ctx).ID)
	if err != nil {
		return nil, s.explain(err)
	}
	h, err := holderOf(person(ctx), list)
	if err != nil {
		return nil, s.explain(err)
	}
	options, session, err := w.BeginRegistration(h, webauthn.WithExclusions(webauthn.Credentials(h.keys).CredentialDescriptors()))
	if err != nil {
		return nil, s.explain(err)
	}
	state, err := json.Marshal(session)
	if err != nil {
		return nil, s.explain(err)
	}
	token, err := s.ceremony(ctx, forPasskey, string(state))
	if err != nil {
		return nil, s.explain(err)
	}
	raw, err := json.Marshal(options.Response)
	return &struct{ Body passkeyBegun }{passkeyBegun{token, raw}}, s.explain(err)
}

// madePasskey judges a passkey that a browser has made. Its error is a *Problem.
func madePasskey(ctx context.Context, p act.Person, state string, answer []byte) (*webauthn.Credential, error) {
	bad := problem(http.StatusUnprocessableEntity, "bad_passkey", "That is no passkey for this server.", "Begin again.")
	w := relyingParty(ctx)
	var session webauthn.SessionData
	if w == nil || json.Unmarshal([]byte(state), &session) != nil {
		return nil, bad
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return nil, bad
	}
	key, err := w.CreateCredential(holder{person: p}, session, parsed)
	if err != nil {
		return nil, bad
	}
	return key, nil
}

// ceremony begins one for who is signed in and returns its token.
func (s factors) ceremony(ctx context.Context, purpose, state string) (string, error) {
	token := newToken()
	return token, s.store.BeginCeremony(ctx, token, store.Ceremony{Purpose: purpose, Person: person(ctx).ID, State: state,
		Until: time.Now().Add(ceremonyLife)})
}

// add keeps a factor whose first answer was right, with recovery codes where there are none yet.
func (s factors) add(ctx context.Context, ceremony string, what act.AddFactor) (*struct{ Body factorAdded }, error) {
	left, err := s.store.People.RecoveryCodesLeft(ctx, person(ctx).ID)
	if err != nil {
		return nil, s.explain(err)
	}
	out := &struct{ Body factorAdded }{}
	if left == 0 {
		out.Body.Codes, what.Recovery = newRecoveryCodes()
	}
	what.ID, what.Ceremony = uuid.Must(uuid.NewV7()), store.HashOfToken(ceremony)
	_, err = s.do(ctx, what)
	return out, err
}
