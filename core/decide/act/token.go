package act

import (
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/ground/wiretext"
)

// longestToken is how long an API token may be good.
const longestToken = 400 * 24 * time.Hour

// A Token is an API token as acts are decided by it.
type Token struct {
	Name   string
	Person uuid.UUID // who made it, and for whom it acts
	Of     string    // that person's name
}

// MakeToken makes an API token, by which a program acts for whoever makes it. It may never do more than its maker, also when the maker is
// given another role or other sites later.
type MakeToken struct {
	ID    uuid.UUID
	Hash  []byte // SHA-256 of the token
	Start string // its first characters, by which it is recognised
	Name  string
	Role  Role
	Sites []uuid.UUID // nil for all that its maker is given, now and later
	Until time.Time
}

// About implements Act.
func (a MakeToken) About() About { return About{Name: "make-token", Right: Look, InPerson: true} }

// Decide implements Act.
func (a MakeToken) Decide(f Facts) (Outcome, error) {
	if a.Name = wiretext.Line(strings.TrimSpace(a.Name), longestName); a.Name == "" {
		return Outcome{}, refuse("no_name", "The token has no name.", "Type what it is for.")
	}
	switch {
	case !a.Role.Valid():
		return Outcome{}, refuse("no_role", "The token has no role.", "Choose one that is no wider than your own.")
	case f.By.Role.Narrower(a.Role) != a.Role:
		return Outcome{}, refuse("too_wide", "A token may not do more than whoever makes it.", "Choose your own role or a narrower one.")
	case a.Role == Owner && a.Sites != nil:
		return Outcome{}, refuse("owner_sites", "An owner has every site, so that a token for some sites cannot be an owner's.",
			"Choose engineer or less, or all sites.")
	case a.Sites != nil && len(a.Sites) == 0:
		return Outcome{}, refuse("no_sites", "No site is given, so there would be nothing to do.", "Choose at least one site, or all.")
	case slices.ContainsFunc(a.Sites, func(id uuid.UUID) bool { return !f.By.Given(id) }):
		return Outcome{}, refuse("unknown_site", "One of the sites is not there.", "Choose among your own.")
	case !a.Until.After(f.Now) || a.Until.Sub(f.Now) > longestToken:
		return Outcome{}, refuse("bad_end", "A token ends between tomorrow and 400 days from now.", "Choose an earlier or a later day.")
	}
	after := Standing{a.Role, a.Sites}.String()
	if a.Sites == nil && a.Role != Owner {
		after = string(a.Role) + ", all sites of " + f.By.Name
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name, After: after + ", until " + a.Until.UTC().Format(time.DateOnly)}}, nil
}

// RevokeToken ends an API token at once: one's own, or anybody's for whoever looks after people.
type RevokeToken struct{ Token uuid.UUID }

// About implements Act.
func (a RevokeToken) About() About {
	return About{Name: "revoke-token", Right: Look, Tokens: []uuid.UUID{a.Token}}
}

// Decide implements Act.
func (a RevokeToken) Decide(f Facts) (Outcome, error) {
	t := f.Tokens[a.Token]
	if t.Person != f.By.ID && !f.By.Role.May(Administer) {
		return Outcome{}, &MissingError{IDs: []uuid.UUID{a.Token}} // it does not exist for this person
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: t.Name, Before: "of " + t.Of}}, nil
}
