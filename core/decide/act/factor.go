package act

import (
	"strings"

	"github.com/google/uuid"

	"unlatch/core/ground/wiretext"
)

// A FactorKind is what a second factor is.
type FactorKind string

// The kinds of second factor.
const (
	OneTimeCode FactorKind = "code"    // of an app that makes one every 30 s (RFC 6238)
	Passkey     FactorKind = "passkey" // a key that a phone, a computer or a stick holds (WebAuthn)
)

// AddFactor gives whoever acts a second factor, whose first answer was judged already.
type AddFactor struct {
	ID      uuid.UUID
	Kind    FactorKind
	Name    string
	Secret  string // the key of a code in base32, or the credential of a passkey as JSON; kept encrypted
	Passkey []byte // the ID of the credential; nil for a code
	Step    int64  // of a code: the time step of its first answer
	// Ceremony is the hash of the token of the ceremony that this ends: what was begun once adds one factor.
	Ceremony []byte
	// Recovery are the hashes of new recovery codes, which come with the first factor; nil for none.
	Recovery [][]byte
}

// About implements Act.
func (a AddFactor) About() About { return About{Name: "add-factor", Right: Look, InPerson: true} }

// Decide implements Act.
func (a AddFactor) Decide(f Facts) (Outcome, error) {
	if a.Name = wiretext.Line(strings.TrimSpace(a.Name), longestName); a.Name == "" {
		a.Name = map[FactorKind]string{OneTimeCode: "Codes from an app", Passkey: "Passkey"}[a.Kind]
	}
	out := Outcome{Keep: []any{a}, Line: Line{Subject: f.By.Name, After: a.Name}}
	if a.Recovery != nil {
		out.Keep = append(out.Keep, NewRecoveryCodes{Hashes: a.Recovery})
	}
	return out, nil
}

// RemoveFactor takes a second factor of whoever acts away.
type RemoveFactor struct{ Factor uuid.UUID }

// About implements Act.
func (a RemoveFactor) About() About { return About{Name: "remove-factor", Right: Look, InPerson: true} }

// Decide implements Act.
func (a RemoveFactor) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.By.Name}}, nil
}

// NewRecoveryCodes gives whoever acts new recovery codes; those of before end.
type NewRecoveryCodes struct{ Hashes [][]byte }

// About implements Act.
func (a NewRecoveryCodes) About() About {
	return About{Name: "new-recovery-codes", Right: Look, InPerson: true}
}

// Decide implements Act.
func (a NewRecoveryCodes) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.By.Name}}, nil
}

// DropFactors takes all second factors of a person away, who has lost them.
type DropFactors struct{ Person uuid.UUID }

// About implements Act.
func (a DropFactors) About() About {
	return About{Name: "drop-factors", Right: Administer, InPerson: true, People: []uuid.UUID{a.Person}}
}

// Decide implements Act.
func (a DropFactors) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.People[a.Person].Name}}, nil
}

// RequireFactors says which roles must have a second factor. Whoever has none can do nothing but add one.
type RequireFactors struct{ Roles []Role }

// About implements Act.
func (a RequireFactors) About() About {
	return About{Name: "require-factors", Right: Administer, InPerson: true}
}

// Decide implements Act.
func (a RequireFactors) Decide(Facts) (Outcome, error) {
	var names []string
	for _, r := range a.Roles {
		if !r.Valid() {
			return Outcome{}, refuse("no_role", "One of the roles does not exist.", "Choose among owner, engineer, technician, viewer and customer.")
		}
		names = append(names, string(r))
	}
	after := "nobody"
	if len(names) > 0 {
		after = strings.Join(names, ", ")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: "roles", After: after}}, nil
}
