package provider

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/subtle"
	"errors"
	"time"

	jose "github.com/go-jose/go-jose/v4"
	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"
)

// tokenLife is how long tokens are good.
const tokenLife = 5 * time.Minute

// A request is one sign-on under way. It implements op.AuthRequest.
type request struct {
	*oidc.AuthRequest
	id, subject string
	at          time.Time // when somebody has signed in
}

func (r *request) GetID() string                      { return r.id }
func (r *request) GetACR() string                     { return "" }
func (r *request) GetAMR() []string                   { return []string{"pwd"} }
func (r *request) GetAudience() []string              { return []string{r.ClientID} }
func (r *request) GetAuthTime() time.Time             { return r.at }
func (r *request) GetClientID() string                { return r.ClientID }
func (r *request) GetNonce() string                   { return r.Nonce }
func (r *request) GetRedirectURI() string             { return r.RedirectURI }
func (r *request) GetResponseType() oidc.ResponseType { return r.ResponseType }
func (r *request) GetResponseMode() oidc.ResponseMode { return r.ResponseMode }
func (r *request) GetScopes() []string                { return r.Scopes }
func (r *request) GetState() string                   { return r.State }
func (r *request) GetSubject() string                 { return r.subject }
func (r *request) Done() bool                         { return r.subject != "" }

func (r *request) GetCodeChallenge() *oidc.CodeChallenge {
	if r.CodeChallenge == "" {
		return nil
	}
	return &oidc.CodeChallenge{Challenge: r.CodeChallenge, Method: r.CodeChallengeMethod}
}

var errNotThere = errors.New("not there")

// CreateAuthRequest implements op.Storage.
func (s *storage) CreateAuthRequest(_ context.Context, asked *oidc.AuthRequest, _ string) (op.AuthRequest, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := &request{AuthRequest: asked, id: rand.Text()}
	s.tries[r.id] = r
	return r, nil
}

// AuthRequestByID implements op.Storage.
func (s *storage) AuthRequestByID(_ context.Context, id string) (op.AuthRequest, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.tries[id]; r != nil {
		return r, nil
	}
	return nil, errNotThere
}

// AuthRequestByCode implements op.Storage. A code is good once.
func (s *storage) AuthRequestByCode(ctx context.Context, code string) (op.AuthRequest, error) {
	s.mu.Lock()
	id := s.codes[code]
	delete(s.codes, code)
	s.mu.Unlock()
	return s.AuthRequestByID(ctx, id)
}

// SaveAuthCode implements op.Storage.
func (s *storage) SaveAuthCode(_ context.Context, id, code string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.codes[code] = id
	return nil
}

// DeleteAuthRequest implements op.Storage.
func (s *storage) DeleteAuthRequest(_ context.Context, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.tries, id)
	return nil
}

// CreateAccessToken implements op.Storage.
func (s *storage) CreateAccessToken(_ context.Context, r op.TokenRequest) (string, time.Time, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	id := rand.Text()
	s.tokens[id] = r.GetSubject()
	return id, time.Now().Add(tokenLife), nil
}

// GetClientByClientID implements op.Storage.
func (s *storage) GetClientByClientID(_ context.Context, id string) (op.Client, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, ok := s.clients[id]
	if !ok {
		return nil, errNotThere
	}
	return client{c}, nil
}

// AuthorizeClientIDSecret implements op.Storage.
func (s *storage) AuthorizeClientIDSecret(_ context.Context, id, secret string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, ok := s.clients[id]
	if !ok || subtle.ConstantTimeCompare([]byte(c.Secret), []byte(secret)) != 1 {
		return errNotThere
	}
	return nil
}

// SetUserinfoFromScopes implements op.Storage.
func (s *storage) SetUserinfoFromScopes(context.Context, *oidc.UserInfo, string, string, []string) error {
	return nil
}

// SetUserinfoFromRequest implements op.CanSetUserinfoFromRequest: it fills the ID token.
func (s *storage) SetUserinfoFromRequest(_ context.Context, info *oidc.UserInfo, r op.IDTokenRequest, _ []string) error {
	return s.tell(info, r.GetSubject(), false)
}

// SetUserinfoFromToken implements op.Storage: it fills the answer of the UserInfo endpoint, where roles are told.
func (s *storage) SetUserinfoFromToken(_ context.Context, info *oidc.UserInfo, token, _, _ string) error {
	s.mu.Lock()
	subject := s.tokens[token]
	s.mu.Unlock()
	return s.tell(info, subject, true)
}

func (s *storage) tell(info *oidc.UserInfo, subject string, roles bool) error {
	p, err := s.find(subject)
	if err != nil {
		return err
	}
	info.Subject, info.PreferredUsername = p.Subject, p.Name
	if roles && p.Roles != nil {
		info.AppendClaims(RoleClaim, p.Roles)
	}
	return nil
}

// GetPrivateClaimsFromScopes implements op.Storage.
func (s *storage) GetPrivateClaimsFromScopes(context.Context, string, string, []string) (map[string]any, error) {
	return nil, nil
}

const keyID = "one"

type signingKey struct{ key *rsa.PrivateKey }

func (k signingKey) SignatureAlgorithm() jose.SignatureAlgorithm { return jose.RS256 }
func (k signingKey) Key() any                                    { return k.key }
func (k signingKey) ID() string                                  { return keyID }

// SigningKey implements op.Storage.
func (s *storage) SigningKey(context.Context) (op.SigningKey, error) { return signingKey{s.key}, nil }

// SignatureAlgorithms implements op.Storage.
func (s *storage) SignatureAlgorithms(context.Context) ([]jose.SignatureAlgorithm, error) {
	return []jose.SignatureAlgorithm{jose.RS256}, nil
}

type publicKey struct{ key *rsa.PublicKey }

func (k publicKey) ID() string                         { return keyID }
func (k publicKey) Algorithm() jose.SignatureAlgorithm { return jose.RS256 }
func (k publicKey) Use() string                        { return "sig" }
func (k publicKey) Key() any                           { return k.key }

// KeySet implements op.Storage.
func (s *storage) KeySet(context.Context) ([]op.Key, error) {
	return []op.Key{publicKey{&s.key.PublicKey}}, nil
}

// client implements op.Client.
type client struct{ Client }

func (c client) GetID() string                       { return c.ID }
func (c client) RedirectURIs() []string              { return c.Redirects }
func (c client) PostLogoutRedirectURIs() []string    { return nil }
func (c client) ApplicationType() op.ApplicationType { return op.ApplicationTypeWeb }
func (c client) AuthMethod() oidc.AuthMethod         { return oidc.AuthMethodBasic }
func (c client) ResponseTypes() []oidc.ResponseType {
	return []oidc.ResponseType{oidc.ResponseTypeCode}
}
func (c client) GrantTypes() []oidc.GrantType         { return []oidc.GrantType{oidc.GrantTypeCode} }
func (c client) LoginURL(id string) string            { return "/sign-in?try=" + id }
func (c client) AccessTokenType() op.AccessTokenType  { return op.AccessTokenTypeBearer }
func (c client) IDTokenLifetime() time.Duration       { return tokenLife }
func (c client) DevMode() bool                        { return true } // redirects without TLS, as loopback has them
func (c client) IsScopeAllowed(string) bool           { return false }
func (c client) IDTokenUserinfoClaimsAssertion() bool { return true }
func (c client) ClockSkew() time.Duration             { return 0 }
func (c client) RestrictAdditionalIdTokenScopes() func([]string) []string {
	return func(scopes []string) []string { return scopes }
}
func (c client) RestrictAdditionalAccessTokenScopes() func([]string) []string {
	return func(scopes []string) []string { return scopes }
}
