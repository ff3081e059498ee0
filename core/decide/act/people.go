package act

import (
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/ground/wiretext"
)

// LinkLife is how long a one-time link is good.
const LinkLife = 72 * time.Hour

// A Standing is what a person is here: a role, and the sites that it counts on.
type Standing struct {
	Role  Role
	Sites []uuid.UUID // of an owner they mean nothing
}

func (s Standing) check() error {
	if !s.Role.Valid() {
		return refuse("no_role", "The person has no role.", "Choose owner, engineer, technician, viewer or customer.")
	}
	if s.Role != Owner && len(s.Sites) == 0 {
		return refuse("no_sites", "No site is given, so there would be nothing to see.", "Choose at least one site.")
	}
	return nil
}

// String returns the standing as the record has it: "technician, 2 sites".
func (s Standing) String() string {
	switch {
	case s.Role == Owner:
		return string(Owner)
	case len(s.Sites) == 1:
		return string(s.Role) + ", 1 site"
	}
	return fmt.Sprintf("%s, %d sites", s.Role, len(s.Sites))
}

// Invite makes a one-time link by which somebody makes an account of their own.
type Invite struct {
	ID    uuid.UUID // of the link
	Hash  []byte    // SHA-256 of its token
	Name  string
	Until time.Time
	Standing
}

// About implements Act.
func (a Invite) About() About { return About{Name: "invite-person", Right: Administer} }

// Decide implements Act.
func (a Invite) Decide(f Facts) (Outcome, error) {
	if a.Name = wiretext.Line(strings.TrimSpace(a.Name), longestName); a.Name == "" {
		return Outcome{}, refuse("no_name", "The person has no name.", "Type the name that the person signs in with.")
	}
	if err := a.Standing.check(); err != nil {
		return Outcome{}, err
	}
	a.Until = f.Now.Add(LinkLife)
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name, After: a.Standing.String()}}, nil
}

// WithdrawLink ends a one-time link that nobody has used.
type WithdrawLink struct{ Link uuid.UUID }

// About implements Act.
func (a WithdrawLink) About() About {
	return About{Name: "withdraw-link", Right: Administer, Links: []uuid.UUID{a.Link}}
}

// Decide implements Act.
func (a WithdrawLink) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Links[a.Link]}}, nil
}

// ChangePerson gives a person another role or other sites. It counts from the next thing that the person asks for; work that the person has
// begun goes on.
type ChangePerson struct {
	Person uuid.UUID
	Standing
}

// About implements Act.
func (a ChangePerson) About() About {
	return About{Name: "change-person", Right: Administer, People: []uuid.UUID{a.Person}}
}

// Decide implements Act.
func (a ChangePerson) Decide(f Facts) (Outcome, error) {
	if err := a.Standing.check(); err != nil {
		return Outcome{}, err
	}
	was := f.People[a.Person]
	if was.Role == Owner && a.Role != Owner {
		if err := f.otherOwner(); err != nil {
			return Outcome{}, err
		}
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: was.Name, Before: Standing{was.Role, was.Sites}.String(),
		After: a.Standing.String()}}, nil
}

// RemovePerson ends an account with its sessions. The record keeps the name.
type RemovePerson struct{ Person uuid.UUID }

// About implements Act.
func (a RemovePerson) About() About {
	return About{Name: "remove-person", Right: Administer, People: []uuid.UUID{a.Person}}
}

// Decide implements Act.
func (a RemovePerson) Decide(f Facts) (Outcome, error) {
	was := f.People[a.Person]
	if was.Role == Owner {
		if err := f.otherOwner(); err != nil {
			return Outcome{}, err
		}
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: was.Name, Before: Standing{was.Role, was.Sites}.String()}}, nil
}

// otherOwner refuses what would leave nobody who may do everything.
func (f Facts) otherOwner() error {
	if f.OtherOwners > 0 {
		return nil
	}
	return LastOwner()
}

// LastOwner refuses what would leave nobody who may look after people. An owner who comes by single sign-on alone does not count: the
// provider may be down when somebody is needed.
func LastOwner() *Refusal {
	return refuse("last_owner", "This is the last owner who has a password here: nobody could look after people any more.",
		"Make somebody else with a password an owner first.")
}

// ResetPerson makes a one-time link by which a person sets a new password. The old one counts until the link is used.
type ResetPerson struct {
	Person uuid.UUID
	ID     uuid.UUID // of the link
	Hash   []byte    // SHA-256 of its token
	Name   string
	Until  time.Time
}

// About implements Act.
func (a ResetPerson) About() About {
	return About{Name: "reset-person", Right: Administer, People: []uuid.UUID{a.Person}}
}

// Decide implements Act.
func (a ResetPerson) Decide(f Facts) (Outcome, error) {
	a.Name, a.Until = f.People[a.Person].Name, f.Now.Add(LinkLife)
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name}}, nil
}

// ChangePassword gives whoever acts another password and ends their other sessions.
type ChangePassword struct {
	Hash    string // of the new password
	Session []byte // SHA-256 of the token of the session that stays
}

// About implements Act.
func (a ChangePassword) About() About {
	return About{Name: "change-password", Right: Look, InPerson: true}
}

// Decide implements Act.
func (a ChangePassword) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.By.Name}}, nil
}

// EndSession signs whoever acts out in another browser.
type EndSession struct{ Session uuid.UUID }

// About implements Act.
func (a EndSession) About() About { return About{Name: "end-session", Right: Look, InPerson: true} }

// Decide implements Act.
func (a EndSession) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.By.Name}}, nil
}
