package act

import (
	"fmt"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
)

// AddSignIn puts a sign-in on the keyring.
type AddSignIn struct{ New signin.New }

// termsAbout is about a sign-in with its terms: the site and the devices that it is for have to be there.
func termsAbout(name Name, t signin.Terms, keys ...uuid.UUID) About {
	out := About{Name: name, Right: Arrange, SignIns: keys, AnySite: t.Devices}
	if t.Site != nil {
		out.Site = *t.Site
	}
	return out
}

// About implements Act.
func (a AddSignIn) About() About { return termsAbout("add-sign-in", a.New.Terms) }

// Decide implements Act.
func (a AddSignIn) Decide(Facts) (Outcome, error) {
	n := a.New
	n.User = strings.TrimSpace(n.User)
	if n.User == "" {
		return Outcome{}, refuse("no_user", "The sign-in has no user name.", "Type the user name.")
	}
	if n.Label = wiretext.Line(n.Label, 120); n.Label == "" {
		n.Label = n.User
	}
	return Outcome{Keep: []any{NewSignIns{n}}, Line: Line{Subject: n.Label}}, nil
}

// ChangeSignIn changes where a sign-in may be tried, and what it is called.
type ChangeSignIn struct {
	ID    uuid.UUID
	Label string
	Terms signin.Terms
}

// About implements Act.
func (a ChangeSignIn) About() About { return termsAbout("change-sign-in", a.Terms, a.ID) }

// Decide implements Act.
func (a ChangeSignIn) Decide(f Facts) (Outcome, error) {
	if a.Label = wiretext.Line(a.Label, 120); a.Label == "" {
		a.Label = f.SignIns[a.ID].Label
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Label, Before: f.SignIns[a.ID].Label, After: termsLine(a.Terms)}}, nil
}

// termsLine returns where a sign-in may be tried, in a line of the record.
func termsLine(t signin.Terms) string {
	var out []string
	if t.Site != nil {
		out = append(out, "one site")
	}
	if t.Maker != "" {
		out = append(out, t.Maker)
	}
	if t.Purpose != "" {
		out = append(out, string(t.Purpose))
	}
	if t.Bound || len(t.Devices) > 0 {
		out = append(out, fmt.Sprintf("%d devices", len(t.Devices)))
	}
	if len(out) == 0 {
		return "everywhere"
	}
	return strings.Join(out, ", ")
}

// OrderSignIns sets the order in which sign-ins of equal standing are tried. Those that are not named come after.
type OrderSignIns struct{ IDs []uuid.UUID }

// About implements Act.
func (a OrderSignIns) About() About { return About{Name: "order-sign-ins", Right: Arrange} }

// Decide implements Act.
func (a OrderSignIns) Decide(Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{After: fmt.Sprintf("%d sign-ins", len(a.IDs))}}, nil
}

// DeleteSignIn takes a sign-in off the keyring.
type DeleteSignIn struct{ ID uuid.UUID }

// About implements Act.
func (a DeleteSignIn) About() About {
	return About{Name: "delete-sign-in", Right: Arrange, SignIns: []uuid.UUID{a.ID}}
}

// Decide implements Act.
func (a DeleteSignIn) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.SignIns[a.ID].Label}}, nil
}

// ImportSignIns puts the sign-ins of a list on the keyring.
type ImportSignIns struct {
	Site *uuid.UUID // tried on this site only; nil for all
	New  NewSignIns // that are not on the keyring yet
}

// About implements Act.
func (a ImportSignIns) About() About {
	return termsAbout("import-sign-ins", signin.Terms{Site: a.Site})
}

// Decide implements Act.
func (a ImportSignIns) Decide(Facts) (Outcome, error) {
	return Outcome{Keep: []any{a.New}, Line: Line{After: fmt.Sprintf("%d new", len(a.New))}}, nil
}

// RevealSignIn shows the secret of a sign-in to a person.
type RevealSignIn struct{ ID uuid.UUID }

// About implements Act.
func (a RevealSignIn) About() About {
	return About{Name: "reveal-sign-in", Right: Reveal, SignIns: []uuid.UUID{a.ID}}
}

// Decide implements Act.
func (a RevealSignIn) Decide(f Facts) (Outcome, error) {
	return Outcome{Line: Line{Subject: f.SignIns[a.ID].Label}}, nil
}

// RevealURL shows the URL of a stream with its sign-in to a person.
type RevealURL struct {
	Site, Device uuid.UUID
	Role         string
	SignIn       uuid.UUID // of the URL
}

// About implements Act.
func (a RevealURL) About() About {
	out := About{Name: "reveal-url", Right: Reveal, Site: a.Site, Devices: []uuid.UUID{a.Device}}
	if a.SignIn != uuid.Nil {
		out.SignIns = []uuid.UUID{a.SignIn}
	}
	return out
}

// Decide implements Act.
func (a RevealURL) Decide(f Facts) (Outcome, error) {
	return Outcome{Line: Line{Subject: f.names([]uuid.UUID{a.Device}) + ", " + a.Role, Devices: []uuid.UUID{a.Device},
		After: f.SignIns[a.SignIn].Label}}, nil
}
