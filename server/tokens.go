package server

import (
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/store"
)

// tokens serve the API tokens by which programs act for people.
type tokens struct{ resource }

// tokenMark begins every API token, so that one that lies about is recognised for what it is.
const tokenMark = "unlatch_"

// tokenStart is how many characters of a token are kept to recognise it by.
const tokenStart = len(tokenMark) + 5

// TokenPath names an API token in the path. It is exported because huma reads exported fields only.
type TokenPath struct {
	Token uuid.UUID `path:"token"`
}

type makeTokenBody struct {
	Name    string      `json:"name" minLength:"1" maxLength:"100" doc:"what it is for"`
	Role    act.Role    `json:"role" enum:"owner,engineer,technician,viewer,customer" doc:"no wider than one's own"`
	Sites   []uuid.UUID `json:"sites,omitempty" maxItems:"5000" doc:"missing for all that one is given"`
	Expires time.Time   `json:"expires_at" doc:"at most 400 days from now"`
}

// tokenMade is an API token right after it was made: it is told once and never again.
type tokenMade struct {
	ID    uuid.UUID `json:"id"`
	Token string    `json:"token" doc:"told once; sent as Authorization: Bearer TOKEN"`
}

func (s tokens) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-tokens", Metadata: needs(act.Look), Method: "GET", Path: "/api/tokens",
		Summary: "The API tokens of one's own; of everybody for whoever looks after people"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []store.Token }, error) {
			of := person(ctx).ID
			if person(ctx).Role.May(act.Administer) {
				of = uuid.Nil
			}
			list, err := s.store.People.Tokens(ctx, of)
			return &struct{ Body []store.Token }{list}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "make-token", Method: "POST", Path: "/api/tokens", DefaultStatus: 201,
		Summary: "Make an API token, by which a program acts for oneself"},
		func(ctx context.Context, in *struct{ Body makeTokenBody }) (*struct{ Body tokenMade }, error) {
			b, token := in.Body, tokenMark+newToken()
			id := uuid.Must(uuid.NewV7())
			_, err := s.do(ctx, act.MakeToken{ID: id, Hash: store.HashOfToken(token), Start: token[:tokenStart], Name: b.Name, Role: b.Role,
				Sites: b.Sites, Until: b.Expires})
			if err != nil {
				return nil, err
			}
			return &struct{ Body tokenMade }{tokenMade{id, token}}, nil
		})
	register(s, api, huma.Operation{OperationID: "revoke-token", Method: "DELETE", Path: "/api/tokens/{token}",
		Summary: "End an API token at once"},
		func(ctx context.Context, in *TokenPath) (*struct{}, error) {
			return s.keep(ctx, act.RevokeToken{Token: in.Token})
		})
}

// bearer returns the token of an Authorization header (RFC 6750 §2.1); "" for none.
func bearer(header string) string {
	scheme, token, _ := strings.Cut(header, " ")
	if !strings.EqualFold(scheme, "Bearer") {
		return ""
	}
	return strings.TrimSpace(token)
}
