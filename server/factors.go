package server

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"encoding/json"
	"errors"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/google/uuid"
	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"unlatch/core/decide/act"
	"unlatch/store"
)

// factors serve the second factors of whoever is signed in, and judge them when somebody signs in.
type factors struct{ sessions }

// What a code of an app is (RFC 6238 §4): six digits of HMAC-SHA-1, another every 30 s. The one before and the one after are taken too,
// since clocks differ.
const (
	codePeriod = 30
	codeSkew   = 1
)

const (
	ceremonyCookie = "unlatch_second"
	ceremonyLife   = 5 * time.Minute
	recoveryCodes  = 10
)

// Purposes of ceremonies.
const (
	forSignIn  = "sign-in"
	forCode    = "add-code"
	forPasskey = "add-passkey"
)

// secondView is what a sign-in still wants after the password.
type secondView struct {
	Code    bool            `json:"code" doc:"a code from an app is taken"`
	Passkey json.RawMessage `json:"passkey,omitempty" doc:"PublicKeyCredentialRequestOptions (WebAuthn §5.5) as JSON, where a passkey is taken"`
}

// relyingParty is this server as passkeys know it, by the name under which the browser has reached it (WebAuthn §5.1.2). It returns nil
// where that is a bare address, for which no browser has passkeys.
func relyingParty(ctx context.Context) *webauthn.WebAuthn {
	at := originOf(ctx)
	if at.host == "" {
		return nil
	}
	if _, err := netip.ParseAddr(at.host); err == nil {
		return nil
	}
	w, err := webauthn.New(&webauthn.Config{RPID: at.host, RPDisplayName: "Unlatch", RPOrigins: []string{at.origin},
		AuthenticatorSelection: protocol.AuthenticatorSelection{UserVerification: protocol.VerificationPreferred}})
	if err != nil {
		return nil
	}
	return w
}

// holder is a person with passkeys, as WebAuthn asks for one.
type holder struct {
	person act.Person
	keys   []webauthn.Credential
	of     []uuid.UUID // the factors of keys
}

func (h holder) WebAuthnID() []byte                         { return h.person.ID[:] }
func (h holder) WebAuthnName() string                       { return h.person.Name }
func (h holder) WebAuthnDisplayName() string                { return h.person.Name }
func (h holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

func holderOf(p act.Person, list []store.Factor) (h holder, err error) {
	h.person = p
	for _, f := range list {
		if f.Kind != act.Passkey {
			continue
		}
		var c webauthn.Credential
		if err := json.Unmarshal([]byte(f.Secret), &c); err != nil {
			return h, err
		}
		h.keys, h.of = append(h.keys, c), append(h.of, f.ID)
	}
	return h, nil
}

// begin lets somebody in whose password was right: at once, or after a second factor where the person has one.
func (s sessions) begin(ctx context.Context, p act.Person) (*cookieOut, error) {
	list, err := s.store.Factors(ctx, p.ID)
	if err != nil {
		return nil, s.explain(err)
	}
	if len(list) == 0 {
		return s.start(ctx, p)
	}
	h, err := holderOf(p, list)
	if err != nil {
		return nil, s.explain(err)
	}
	second := &secondView{Code: len(h.keys) < len(list)}
	state := ""
	if w := relyingParty(ctx); w != nil && len(h.keys) > 0 {
		options, session, err := w.BeginLogin(h)
		if err != nil {
			return nil, s.explain(err)
		}
		raw, err := json.Marshal(session)
		if err != nil {
			return nil, s.explain(err)
		}
		state = string(raw)
		if second.Passkey, err = json.Marshal(options.Response); err != nil {
			return nil, s.explain(err)
		}
	}
	token := newToken()
	if err := s.store.BeginCeremony(ctx, token, store.Ceremony{Purpose: forSignIn, Person: p.ID, State: state,
		Until: time.Now().Add(ceremonyLife)}); err != nil {
		return nil, s.explain(err)
	}
	out := &cookieOut{SetCookie: []http.Cookie{s.cookie(ceremonyCookie, token, int(ceremonyLife.Seconds()))}, Body: stateOf(act.Person{})}
	out.Body.Second = second
	return out, nil
}

type secondBody struct {
	Code    string          `json:"code,omitempty" maxLength:"40" doc:"of an app, or a recovery code"`
	Passkey json.RawMessage `json:"passkey,omitempty" doc:"the answer of a passkey: AuthenticationResponseJSON (WebAuthn §5.1.8)"`
}

// finish judges the second step of a sign-in.
func (s factors) finish(ctx context.Context, token string, b secondBody, by Caller) (*cookieOut, error) {
	if wait := s.addresses.begin(by.addr); wait > 0 {
		return nil, tooFast(wait)
	}
	c, err := s.store.TryCeremony(ctx, token, forSignIn)
	if err != nil {
		return nil, s.ceremonyProblem(err)
	}
	p, err := s.store.People.Get(ctx, c.Person)
	if err != nil {
		return nil, s.ceremonyProblem(err)
	}
	list, err := s.store.Factors(ctx, p.ID)
	if err != nil {
		return nil, s.explain(err)
	}
	var right bool
	if len(b.Passkey) > 0 {
		right, err = s.passkeyFits(ctx, p, list, c.State, b.Passkey)
	} else {
		right, err = s.codeFits(ctx, p, list, b.Code)
	}
	if err != nil {
		return nil, s.explain(err)
	}
	if !right {
		return nil, problem(http.StatusUnauthorized, "wrong_second", "That is not right, or was used already.",
			"Wait for the next code, or use another factor.")
	}
	if mine, err := s.store.EndCeremony(ctx, token); err != nil {
		return nil, s.explain(err)
	} else if !mine {
		return nil, ceremonyGone()
	}
	s.addresses.passed(by.addr)
	out, err := s.start(ctx, p)
	if err == nil {
		out.SetCookie = append(out.SetCookie, s.cookie(ceremonyCookie, "", -1))
	}
	return out, err
}

// ceremonyProblem says why there is no ceremony to go on with.
func (s sessions) ceremonyProblem(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return ceremonyGone()
	}
	return s.explain(err)
}

func ceremonyGone() *Problem {
	return problem(http.StatusGone, "second_gone", "That took too long, or went wrong too often.", "Begin again with your password.")
}

// passkeyFits reports whether an answer is of one of a person's passkeys, made here and now.
func (s factors) passkeyFits(ctx context.Context, p act.Person, list []store.Factor, state string, answer []byte) (bool, error) {
	w := relyingParty(ctx)
	h, err := holderOf(p, list)
	if err != nil || w == nil || state == "" {
		return false, err
	}
	var session webauthn.SessionData
	if err := json.Unmarshal([]byte(state), &session); err != nil {
		return false, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return false, nil
	}
	used, err := w.ValidateLogin(h, session, parsed)
	if err != nil || used.Authenticator.CloneWarning {
		return false, nil
	}
	raw, err := json.Marshal(used)
	if err != nil {
		return false, err
	}
	for i, k := range h.keys {
		if subtle.ConstantTimeCompare(k.ID, used.ID) == 1 {
			return true, s.store.UsePasskey(ctx, h.of[i], string(raw))
		}
	}
	return false, nil
}

// codeFits reports whether a code comes from one of the person's apps now or is one of their recovery codes, and uses it up.
func (s factors) codeFits(ctx context.Context, p act.Person, list []store.Factor, code string) (bool, error) {
	code = strings.ToUpper(strings.Join(strings.FieldsFunc(code, func(r rune) bool { return r == ' ' || r == '-' }), ""))
	for _, f := range list {
		if f.Kind != act.OneTimeCode {
			continue
		}
		step, ok := stepOf(f.Secret, code, s.now())
		if !ok {
			continue
		}
		return s.store.People.TakeStep(ctx, f.ID, step)
	}
	taken := false
	acts := s.store.Acts()
	err := acts.Together(ctx, func(ctx context.Context) (err error) {
		if taken, err = s.store.People.TakeRecoveryCode(ctx, p.ID, code); err != nil || !taken {
			return err
		}
		return acts.Write(ctx, p, act.About{Name: "take-recovery-code"}, act.Line{Subject: p.Name})
	})
	return taken, err
}

// stepOf returns the time step whose code of a secret this is, among those around now.
func stepOf(secret, code string, now time.Time) (step int64, ok bool) {
	for skew := -codeSkew; skew <= codeSkew; skew++ {
		at := now.Add(time.Duration(skew) * codePeriod * time.Second)
		want, err := totp.GenerateCodeCustom(secret, at, totp.ValidateOpts{Period: codePeriod, Digits: otp.DigitsSix,
			Algorithm: otp.AlgorithmSHA1})
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return at.Unix() / codePeriod, true
		}
	}
	return 0, false
}

// newRecoveryCodes returns codes to write down, with what is kept of them.
func newRecoveryCodes() (codes []string, hashes [][]byte) {
	for range recoveryCodes {
		raw := make([]byte, 10)
		rand.Read(raw)
		text := base32.StdEncoding.EncodeToString(raw) // 16 characters
		codes = append(codes, text[:4]+"-"+text[4:8]+"-"+text[8:12]+"-"+text[12:])
		hashes = append(hashes, store.HashOfToken(text))
	}
	return codes, hashes
}
