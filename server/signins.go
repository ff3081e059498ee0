package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/signinlist"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/table"
	"unlatch/core/ground/wiretext"
	"unlatch/store"
)

// importOut is the result of importing a list.
type importOut struct {
	Body struct {
		Added    int      `json:"added"`
		Known    int      `json:"known" doc:"already on the keyring"`
		Warnings []string `json:"warnings"`
	}
}

// signIns serve the keyring.
type signIns struct{ resource }

// importSignIns adds what is not on the keyring yet: the same user with the same password for the same is the same sign-in.
func (s signIns) importSignIns(ctx context.Context, raw []byte, site *uuid.UUID) (*importOut, error) {
	keys, warnings, err := signinlist.ParseCSV(raw)
	if err != nil {
		return nil, s.explain(err)
	}
	out := &importOut{}
	out.Body.Warnings = append([]string{}, warnings...)
	have, err := s.store.SignIns.List(ctx)
	if err != nil {
		return nil, s.explain(err)
	}
	type mark struct{ user, secret, maker, purpose string }
	known := map[mark]bool{}
	for _, h := range have {
		in, err := s.store.SignIns.Decrypt(ctx, h.ID)
		if err != nil {
			return nil, s.explain(err)
		}
		known[mark{h.User, in.Secret.Reveal(), h.Maker, string(h.Purpose)}] = true
	}
	var add act.NewSignIns
	for _, k := range keys {
		if known[mark{k.User, k.Secret.Reveal(), k.Maker, k.Purpose}] {
			out.Body.Known++
			continue
		}
		add = append(add, signin.New{Label: k.Label, User: k.User, Secret: k.Secret,
			Terms: signin.Terms{Factory: k.Factory, Note: k.Note, Site: site, Maker: k.Maker, Purpose: signin.Purpose(k.Purpose)}})
	}
	if _, err := s.do(ctx, act.ImportSignIns{Site: site, New: add}); err != nil {
		return nil, err
	}
	out.Body.Added = len(add)
	return out, nil
}

type signInBody struct {
	Label  string `json:"label,omitempty" maxLength:"120" doc:"what to call it; the user name where empty"`
	User   string `json:"user" minLength:"1" maxLength:"200"`
	Secret string `json:"secret" maxLength:"400"`
	TermsBody
}

// TermsBody says where a sign-in may be tried. It is exported because huma reads exported fields only.
type TermsBody struct {
	Factory bool        `json:"factory,omitempty" doc:"devices have it from the factory"`
	Note    string      `json:"note,omitempty" maxLength:"1000"`
	Site    *uuid.UUID  `json:"site,omitempty" doc:"tried on this site only"`
	Maker   string      `json:"maker,omitempty" maxLength:"80" doc:"tried on this maker's devices only"`
	Purpose string      `json:"purpose,omitempty" enum:",device,stream,web,target" doc:"what it is for; everything where it is empty"`
	Bound   bool        `json:"bound,omitempty" doc:"tried on these devices only, and nowhere where there are none"`
	Devices []uuid.UUID `json:"devices,omitempty" maxItems:"5000" doc:"the devices that it is for"`
}

func (t TermsBody) terms() signin.Terms {
	return signin.Terms{Factory: t.Factory, Note: wiretext.Line(t.Note, 1000), Site: t.Site, Maker: wiretext.Line(t.Maker, 80),
		Purpose: signin.Purpose(t.Purpose), Bound: t.Bound, Devices: t.Devices}
}

// SignInPath names a sign-in in the path. It is exported because huma reads exported fields only.
type SignInPath struct {
	SignIn uuid.UUID `path:"sign_in"`
}

// keyView is an entry of the keyring, with what should be known of it.
type keyView struct {
	store.SignIn
	Weak string `json:"weak,omitempty" doc:"why its password is a finding; missing where it is good"`
}

// keyring lists the sign-ins and finds the weak ones: a digest hides a password only from those who do not guess at it.
func (s signIns) keyring(ctx context.Context) ([]keyView, error) {
	list, err := s.store.SignIns.List(ctx)
	out := []keyView{}
	for _, k := range list {
		if k.Site != nil && !person(ctx).Given(*k.Site) {
			continue
		}
		in, uerr := s.store.SignIns.Decrypt(ctx, k.ID)
		v := keyView{SignIn: k}
		if uerr == nil {
			v.Weak = weakness(in)
		}
		out = append(out, v)
	}
	return out, err
}

func (s signIns) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-sign-ins", Metadata: needs(act.Inspect), Method: "GET", Path: "/api/sign-ins",
		Summary: "The keyring, without secrets"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body []keyView }, error) {
			out, err := s.keyring(ctx)
			return &struct{ Body []keyView }{out}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "add-sign-in", Method: "POST", Path: "/api/sign-ins",
		Summary: "Put a sign-in on the keyring", DefaultStatus: 201},
		func(ctx context.Context, in *struct{ Body signInBody }) (*struct {
			Body struct {
				ID uuid.UUID `json:"id"`
			}
		}, error) {
			out := &struct {
				Body struct {
					ID uuid.UUID `json:"id"`
				}
			}{}
			out.Body.ID = uuid.Must(uuid.NewV7())
			_, err := s.do(ctx, act.AddSignIn{New: signin.New{ID: out.Body.ID, Label: in.Body.Label, User: in.Body.User,
				Secret: signin.NewSecret(in.Body.Secret), Terms: in.Body.terms()}})
			return out, err
		})
	register(s, api, huma.Operation{OperationID: "change-sign-in", Method: "PUT", Path: "/api/sign-ins/{sign_in}",
		Summary: "Change where a sign-in may be tried, and what it is called"},
		func(ctx context.Context, in *struct {
			SignInPath
			Body struct {
				Label string `json:"label" minLength:"1" maxLength:"120"`
				TermsBody
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.ChangeSignIn{ID: in.SignIn, Label: in.Body.Label, Terms: in.Body.terms()})
		})
	register(s, api, huma.Operation{OperationID: "import-sign-ins", Method: "POST", Path: "/api/sign-ins/import",
		Summary: "Put sign-ins of a CSV file on the keyring", MaxBodyBytes: table.MaxBytes + 1<<20},
		func(ctx context.Context, in *struct {
			Body struct {
				Content []byte     `json:"content" doc:"the file, base64"`
				Site    *uuid.UUID `json:"site,omitempty" doc:"tried on this site only"`
			}
		}) (*importOut, error) {
			return s.importSignIns(ctx, in.Body.Content, in.Body.Site)
		})
	register(s, api, huma.Operation{OperationID: "order-sign-ins", Method: "PUT", Path: "/api/sign-ins",
		Summary: "Set the order in which sign-ins are tried"},
		func(ctx context.Context, in *struct {
			Body struct {
				IDs []uuid.UUID `json:"ids" maxItems:"2000"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.OrderSignIns{IDs: in.Body.IDs})
		})
	register(s, api, huma.Operation{OperationID: "delete-sign-in", Method: "DELETE", Path: "/api/sign-ins/{sign_in}",
		Summary: "Take a sign-in off the keyring"},
		func(ctx context.Context, in *SignInPath) (*struct{}, error) {
			return s.keep(ctx, act.DeleteSignIn{ID: in.SignIn})
		})
	register(s, api, huma.Operation{OperationID: "reveal-sign-in", Method: "POST", Path: "/api/sign-ins/{sign_in}/reveal",
		Summary: "Show a secret; who asked is recorded"},
		func(ctx context.Context, in *SignInPath) (*struct {
			Body struct {
				Secret string `json:"secret"`
			}
		}, error) {
			out := &struct {
				Body struct {
					Secret string `json:"secret"`
				}
			}{}
			if _, err := s.do(ctx, act.RevealSignIn{ID: in.SignIn}); err != nil {
				return nil, err
			}
			key, err := s.store.SignIns.Decrypt(ctx, in.SignIn)
			out.Body.Secret = key.Secret.Reveal()
			return out, s.explain(err)
		})
}
