package server

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/store"
)

// people serve the accounts: who may sign in, as what, and on which sites.
type people struct {
	resource
	sessions sessions
}

// PersonPath names a person in the path. It is exported because huma reads exported fields only.
type PersonPath struct {
	Person uuid.UUID `path:"person"`
}

// LinkPath names a one-time link in the path.
type LinkPath struct {
	Link uuid.UUID `path:"link"`
}

type peopleView struct {
	People []store.Member `json:"people"`
	Links  []store.Link   `json:"links" doc:"one-time links that nobody has used yet"`
	Roles  []roleView     `json:"roles" doc:"what each role may do"`
	Strict []act.Role     `json:"strict_roles" enum:"owner,engineer,technician,viewer,customer" doc:"roles that must have a second factor"`
}

type roleView struct {
	Role   act.Role    `json:"role"`
	Rights []act.Right `json:"rights"`
}

// StandingBody is exported, as TokenBody is, because huma reads exported fields only.
type StandingBody struct {
	Role  act.Role    `json:"role" enum:"owner,engineer,technician,viewer,customer"`
	Sites []uuid.UUID `json:"sites" maxItems:"5000" doc:"that the role counts on; of an owner they mean nothing"`
}

func (b StandingBody) standing() act.Standing { return act.Standing{Role: b.Role, Sites: b.Sites} }

type inviteBody struct {
	Name string `json:"name" minLength:"1" maxLength:"100"`
	StandingBody
}

// linkMade is a one-time link right after it was made: its token is told once and never again.
type linkMade struct {
	Token   string `json:"token" doc:"told once; /join#TOKEN is the page for it"`
	Expires string `json:"expires_at" format:"date-time"`
}

type TokenBody struct {
	Token string `json:"token" minLength:"20" maxLength:"100"`
}

type takeLinkBody struct {
	TokenBody
	Password string `json:"password" minLength:"10" maxLength:"400" doc:"at least 10 characters"`
}

type linkView struct {
	Name  string   `json:"name" doc:"to sign in with"`
	Role  act.Role `json:"role" enum:"owner,engineer,technician,viewer,customer"`
	Reset bool     `json:"reset" doc:"it sets a new password for an account that is there"`
}

type newPasswordBody struct {
	Old string `json:"old" minLength:"1" maxLength:"400"`
	New string `json:"new" minLength:"10" maxLength:"400" doc:"at least 10 characters"`
}

func (s people) routes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-people", Metadata: needs(act.Administer), Method: "GET", Path: "/api/people",
		Summary: "Who may sign in, as what, and on which sites"},
		func(ctx context.Context, _ *struct{}) (*struct{ Body peopleView }, error) {
			out := &struct{ Body peopleView }{}
			var err, lerr, serr error
			out.Body.People, err = s.store.People.List(ctx)
			out.Body.Links, lerr = s.store.People.Links(ctx)
			out.Body.Strict, serr = s.store.People.StrictRoles(ctx)
			for _, r := range act.Roles {
				out.Body.Roles = append(out.Body.Roles, roleView{r, r.Rights()})
			}
			return out, s.explain(errors.Join(err, lerr, serr))
		})
	register(s, api, huma.Operation{OperationID: "invite-person", Method: "POST", Path: "/api/people/links",
		Summary: "Make a one-time link by which somebody makes an account", DefaultStatus: 201},
		func(ctx context.Context, in *struct{ Body inviteBody }) (*struct{ Body linkMade }, error) {
			return s.makeLink(ctx, func(id uuid.UUID, hash []byte) act.Act {
				return act.Invite{ID: id, Hash: hash, Name: in.Body.Name, Standing: in.Body.standing()}
			})
		})
	register(s, api, huma.Operation{OperationID: "withdraw-link", Method: "DELETE", Path: "/api/people/links/{link}",
		Summary: "End a one-time link that nobody has used"},
		func(ctx context.Context, in *LinkPath) (*struct{}, error) {
			return s.keep(ctx, act.WithdrawLink{Link: in.Link})
		})
	register(s, api, huma.Operation{OperationID: "change-person", Method: "PUT", Path: "/api/people/{person}",
		Summary: "Give a person another role or other sites"},
		func(ctx context.Context, in *struct {
			PersonPath
			Body StandingBody
		}) (*struct{}, error) {
			return s.keep(ctx, act.ChangePerson{Person: in.Person, Standing: in.Body.standing()})
		})
	register(s, api, huma.Operation{OperationID: "remove-person", Method: "DELETE", Path: "/api/people/{person}",
		Summary: "End an account and its sessions"},
		func(ctx context.Context, in *PersonPath) (*struct{}, error) {
			return s.keep(ctx, act.RemovePerson{Person: in.Person})
		})
	register(s, api, huma.Operation{OperationID: "reset-person", Method: "POST", Path: "/api/people/{person}/reset",
		Summary: "Make a one-time link by which a person sets a new password", DefaultStatus: 201},
		func(ctx context.Context, in *PersonPath) (*struct{ Body linkMade }, error) {
			return s.makeLink(ctx, func(id uuid.UUID, hash []byte) act.Act {
				return act.ResetPerson{Person: in.Person, ID: id, Hash: hash}
			})
		})
	register(s, api, huma.Operation{OperationID: "drop-factors", Method: "POST", Path: "/api/people/{person}/drop-factors",
		Summary: "Take all second factors of a person away, who has lost them"},
		func(ctx context.Context, in *PersonPath) (*struct{}, error) {
			return s.keep(ctx, act.DropFactors{Person: in.Person})
		})
	register(s, api, huma.Operation{OperationID: "require-factors", Method: "PUT", Path: "/api/people/strict-roles",
		Summary: "Say which roles must have a second factor"},
		func(ctx context.Context, in *struct {
			Body struct {
				Roles []act.Role `json:"roles" maxItems:"5" enum:"owner,engineer,technician,viewer,customer"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.RequireFactors{Roles: in.Body.Roles})
		})
	s.ownRoutes(api)
	s.linkRoutes(api)
}

// makeLink carries out the act that makes a one-time link, and tells its token.
func (s people) makeLink(ctx context.Context, what func(id uuid.UUID, hash []byte) act.Act) (*struct{ Body linkMade }, error) {
	token := newToken()
	if _, err := s.do(ctx, what(uuid.Must(uuid.NewV7()), store.HashOfToken(token))); err != nil {
		return nil, err
	}
	link, err := s.store.People.LinkOf(ctx, token)
	return &struct{ Body linkMade }{linkMade{token, link.Expires.UTC().Format("2006-01-02T15:04:05Z")}}, s.explain(err)
}

// ownRoutes are what each person does with the own account.
func (s people) ownRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "list-sessions", Metadata: own, Method: "GET", Path: "/api/session/all",
		Summary: "The browsers in which one is signed in"},
		func(ctx context.Context, in *struct {
			Token string `cookie:"unlatch_session"`
		}) (*struct{ Body []store.Session }, error) {
			list, err := s.store.People.Sessions(ctx, person(ctx).ID, in.Token)
			return &struct{ Body []store.Session }{list}, s.explain(err)
		})
	register(s, api, huma.Operation{OperationID: "end-session", Metadata: own, Method: "DELETE", Path: "/api/session/all/{session}",
		Summary: "Sign out in another browser"},
		func(ctx context.Context, in *struct {
			Session uuid.UUID `path:"session"`
		}) (*struct{}, error) {
			return s.keep(ctx, act.EndSession{Session: in.Session})
		})
	register(s, api, huma.Operation{OperationID: "change-password", Metadata: own, Method: "PUT", Path: "/api/session/password",
		Summary: "Change one's own password; all other sessions end"},
		func(ctx context.Context, in *struct {
			Caller
			Token string `cookie:"unlatch_session"`
			Body  newPasswordBody
		}) (*struct{}, error) {
			if err := s.sessions.confirmPassword(ctx, person(ctx).Name, in.Body.Old, in.Caller); err != nil {
				return nil, err
			}
			var hash string
			if err := s.sessions.hash(ctx, func() { hash = HashPassword(in.Body.New) }); err != nil {
				return nil, s.explain(err)
			}
			return s.keep(ctx, act.ChangePassword{Hash: hash, Session: store.HashOfToken(in.Token)})
		})
}

// linkRoutes are for whoever holds a one-time link and is not signed in. Guesses are counted by where they come from.
func (s people) linkRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "look-at-link", Metadata: open, Method: "POST", Path: "/api/link",
		Summary: "What a one-time link is for"},
		func(ctx context.Context, in *struct {
			Caller
			Body TokenBody
		}) (*struct{ Body linkView }, error) {
			link, err := s.link(ctx, in.Body.Token, in.Caller)
			if err != nil {
				return nil, err
			}
			return &struct{ Body linkView }{linkView{Name: link.Name, Role: link.Role, Reset: link.Person != nil}}, nil
		})
	register(s, api, huma.Operation{OperationID: "take-link", Metadata: open, Method: "POST", Path: "/api/link/take",
		Summary: "Make the account or set the password that a one-time link is for, and sign in"},
		func(ctx context.Context, in *struct {
			Caller
			Body takeLinkBody
		}) (*cookieOut, error) {
			if _, err := s.link(ctx, in.Body.Token, in.Caller); err != nil {
				return nil, err
			}
			var hash string
			if err := s.sessions.hash(ctx, func() { hash = HashPassword(in.Body.Password) }); err != nil {
				return nil, s.explain(err)
			}
			var p act.Person
			acts := s.store.Acts()
			err := acts.Together(ctx, func(ctx context.Context) (err error) {
				if p, err = s.store.People.TakeLink(ctx, in.Body.Token, store.Taking{PasswordHash: hash}); err != nil {
					return err
				}
				return acts.Write(ctx, p, act.About{Name: "take-link"}, act.Line{Subject: p.Name, After: act.Standing{Role: p.Role,
					Sites: p.Sites}.String()})
			})
			switch {
			case errors.Is(err, store.ErrTaken):
				return nil, problem(http.StatusConflict, "name_taken", "Somebody has an account of this name by now.",
					"Ask for a new link with another name.")
			case errors.Is(err, store.ErrNotFound):
				return nil, linkGone()
			case err != nil:
				return nil, s.explain(err)
			}
			return s.sessions.begin(ctx, p)
		})
}

// link returns the link of a token, or a *Problem.
func (s people) link(ctx context.Context, token string, by Caller) (store.Link, error) {
	if wait := s.sessions.addresses.begin(by.addr); wait > 0 {
		return store.Link{}, tooFast(wait)
	}
	link, err := s.store.People.LinkOf(ctx, strings.TrimSpace(token))
	switch {
	case errors.Is(err, store.ErrNotFound):
		return link, linkGone()
	case err != nil:
		s.sessions.addresses.undo(by.addr)
		return link, s.explain(err)
	}
	s.sessions.addresses.passed(by.addr)
	return link, nil
}

func linkGone() *Problem {
	return problem(http.StatusGone, "link_gone", "This link is not good any more: it was used, withdrawn, or is older than 72 hours.",
		"Ask an owner for a new one.")
}

// ResetOnMachine makes a one-time link by which a person of a name sets a new password, for whoever may work on the machine itself. second
// takes the person's second factors away too.
func ResetOnMachine(ctx context.Context, s *store.Store, name string, second bool) (token string, until time.Time, err error) {
	to, err := s.People.ByName(ctx, name)
	if err != nil {
		return "", until, err
	}
	token, until = newToken(), time.Now().Add(act.LinkLife)
	acts := s.Acts()
	err = acts.Together(ctx, func(ctx context.Context) error {
		link := act.ResetPerson{Person: to.ID, ID: uuid.Must(uuid.NewV7()), Hash: store.HashOfToken(token), Name: to.Name, Until: until}
		machine := act.Person{Name: "the machine"}
		if _, err := acts.Keep(ctx, machine, act.About{}, link); err != nil {
			return err
		}
		after := ""
		if second {
			after = "without second factors"
			if err := s.People.DropFactors(ctx, to.ID); err != nil {
				return err
			}
		}
		return acts.Write(ctx, machine, link.About(), act.Line{Subject: to.Name, After: after})
	})
	return token, until, err
}
