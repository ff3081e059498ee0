package demo

import (
	"context"
	"crypto/rand"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/jobs"
	"unlatch/store"
)

// Crew are the people of the railway beside the owner, one a role. All have the demo's password.
var Crew = []struct {
	Name string
	Role act.Role
}{
	{"edda", act.Engineer}, {"tom", act.Technician}, {"vera", act.Viewer}, {"carl", act.Customer},
}

// Invite makes accounts for the crew on the first site, as an owner does it, and one invitation that nobody has taken yet.
func Invite(ctx context.Context, desk jobs.Desk, by act.Person, hash string) error {
	sites, err := desk.Store.Sites.List(ctx)
	if err != nil || len(sites) == 0 {
		return err
	}
	invite := func(name string, role act.Role) (token string, err error) {
		token = rand.Text() + rand.Text()
		_, err = desk.Do(ctx, by, act.Invite{ID: uuid.Must(uuid.NewV7()), Hash: store.HashOfToken(token), Name: name,
			Standing: act.Standing{Role: role, Sites: []uuid.UUID{sites[0].ID}}})
		return token, err
	}
	for _, x := range Crew {
		token, err := invite(x.Name, x.Role)
		if err != nil {
			return err
		}
		if _, err := desk.Store.People.TakeLink(ctx, token, store.Taking{PasswordHash: hash}); err != nil {
			return err
		}
	}
	_, err = invite("nell", act.Technician)
	return err
}
