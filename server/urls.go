package server

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
)

// urls serve stream URLs, and what streams are used as.
type urls struct{ resource }

func (s urls) routes(api huma.API) {
	s.urlRoutes(api)
	s.roleRoutes(api)
	s.givenRoutes(api)
}

func (s urls) urlRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "reveal-url", Method: "POST", Path: "/api/devices/{device}/streams/{role}/reveal",
		Summary: "A stream URL with its sign-in, percent-encoded; who asked is recorded"},
		func(ctx context.Context, in *struct {
			DevicePath
			Role string `path:"role"`
		}) (*struct {
			Body struct {
				URL string `json:"url"`
			}
		}, error) {
			out := &struct {
				Body struct {
					URL string `json:"url"`
				}
			}{}
			var err error
			out.Body.URL, err = s.revealURL(ctx, in.Device, in.Role)
			return out, err
		})
}

func (s urls) roleRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "set-roles", Method: "PUT", Path: "/api/devices/{device}/roles",
		Summary: "Say what each stream is used as; no role gives the choice back to the rule"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				Roles map[string]string `json:"roles" doc:"role (main, sub or third) by the device's own name of the stream"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.SetRoles{Device: in.Device, Roles: in.Body.Roles})
		})
}

func (s urls) givenRoutes(api huma.API) {
	register(s, api, huma.Operation{OperationID: "take-away-stream", Method: "PUT", Path: "/api/devices/{device}/given",
		Summary: "Take a stream away that a person has given by its URL, or put it back"},
		func(ctx context.Context, in *struct {
			DevicePath
			Body struct {
				Token string `json:"token" maxLength:"4096"`
				Back  bool   `json:"back,omitempty" doc:"put it back"`
			}
		}) (*struct{}, error) {
			return s.keep(ctx, act.TakeAwayStream{Device: in.Device, Token: in.Body.Token, Back: in.Body.Back})
		})
}

func (s urls) revealURL(ctx context.Context, device uuid.UUID, role string) (string, error) {
	d, err := s.store.Devices.Get(ctx, device)
	if err != nil {
		return "", s.explain(err)
	}
	for _, st := range d.Status.Streams {
		if st.Role != role {
			continue
		}
		u, err := streamurl.Parse(st.URL)
		if err != nil {
			return "", s.explain(err)
		}
		key, _, user := d.Status.StreamSignIn()
		if _, err := s.do(ctx, act.RevealURL{Site: d.Site, Device: d.ID, Role: role, SignIn: key}); err != nil {
			return "", err
		}
		if key != uuid.Nil {
			in, err := s.store.SignIns.Decrypt(ctx, key)
			if err != nil {
				return "", s.explain(err)
			}
			u.SignIn = signin.SignIn{User: user, Secret: in.Secret}
		}
		return u.Reveal(), nil
	}
	return "", problem(404, "no_stream", "The device has no such stream.", "Open its latches again; its streams may have changed.")
}
