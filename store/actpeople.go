package store

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
)

// peopleFacts reads people and links as they are, and how many owners there are besides.
func (s Acts) peopleFacts(ctx context.Context, a act.About, f *act.Facts, had map[uuid.UUID]bool) error {
	if len(a.People)+len(a.Links) == 0 {
		return nil
	}
	f.People, f.Links = map[uuid.UUID]act.Person{}, map[uuid.UUID]string{}
	var rows []personRow
	if err := s.on(ctx).SelectContext(ctx, &rows, personQuery+" WHERE p.id = ANY($1)", a.People); err != nil {
		return err
	}
	for _, r := range rows {
		f.People[r.ID], had[r.ID] = r.person(), true
	}
	var links []struct {
		ID   uuid.UUID `db:"id"`
		Name string    `db:"name"`
	}
	if err := s.on(ctx).SelectContext(ctx, &links, "SELECT id, name FROM links WHERE id = ANY($1) AND used_at IS NULL", a.Links); err != nil {
		return err
	}
	for _, l := range links {
		f.Links[l.ID], had[l.ID] = l.Name, true
	}
	return s.on(ctx).GetContext(ctx, &f.OtherOwners, "SELECT count(*) FROM people WHERE role = 'owner' AND password_hash <> '' "+
		"AND NOT id = ANY($1)", notNil(a.People))
}

// keepPerson is Keep for acts on people.
func (s Acts) keepPerson(ctx context.Context, by act.Person, what any) error {
	switch x := what.(type) {
	case act.Invite:
		return s.People.invite(ctx, by, x)
	case act.ResetPerson:
		return s.People.reset(ctx, by, x)
	case act.WithdrawLink:
		return s.People.withdraw(ctx, x.Link)
	case act.ChangePerson:
		return s.People.change(ctx, x.Person, x.Standing)
	case act.RemovePerson:
		return s.People.remove(ctx, x.Person)
	case act.ChangePassword:
		return s.People.setPassword(ctx, by.ID, x.Hash, x.Session)
	case act.AddFactor:
		return s.addFactor(ctx, by, x)
	case act.RemoveFactor:
		return s.People.removeFactor(ctx, by, x.Factor)
	case act.DropFactors:
		return s.People.DropFactors(ctx, x.Person)
	case act.NewRecoveryCodes:
		return s.People.newRecoveryCodes(ctx, by, x.Hashes)
	case act.RequireFactors:
		return s.People.requireFactors(ctx, x.Roles)
	case act.MakeToken:
		return s.People.makeToken(ctx, by, x)
	case act.RevokeToken:
		return s.People.revokeToken(ctx, x.Token)
	case act.ConnectSignOn:
		return s.connect(ctx, by, x)
	case act.DisconnectSignOn:
		return s.People.disconnect(ctx, by)
	case act.EndSession:
		return s.People.endSession(ctx, by.ID, x.Session)
	}
	return fmt.Errorf("the store does not know how to keep a %T", what)
}
