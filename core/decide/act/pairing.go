package act

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/ground/pairing"
	"unlatch/core/ground/program"
	"unlatch/core/ground/wiretext"
)

// PairWorker makes a machine known to the server as a worker of some sites, by the key that it has shown. Whoever does it has typed the
// code that the machine shows.
type PairWorker struct {
	ID      uuid.UUID
	Request []byte // the SHA-256 by which the machine's request is found
	Key     pairing.Public
	// Recipient is what the data keys of its sites are wrapped for.
	Recipient string
	Name      string
	Machine   string
	Version   string
	Sites     []uuid.UUID
	Names     []string // of the sites, in their order
	// Shared says that it opens sign-ins that are for every site, too.
	Shared bool
}

// About implements Act.
func (a PairWorker) About() About { return About{Name: "pair-worker", Right: Administer} }

// Decide implements Act.
func (a PairWorker) Decide(Facts) (Outcome, error) {
	a.Name = wiretext.Line(strings.TrimSpace(a.Name), longestName)
	switch {
	case !a.Key.Valid():
		return Outcome{}, refuse("bad_key", "The machine has shown no key.", "Begin anew on it: unlatch worker pair")
	case !pairing.IsRecipient(a.Recipient):
		return Outcome{}, refuse("bad_key", "The machine has shown no key that the sign-ins of its sites can be encrypted for.",
			"Install the version of the server on it, and begin anew: unlatch worker pair")
	case a.Name == "":
		return Outcome{}, refuse("no_name", "The worker has no name.", "Name it by where it stands, such as Viaduct cabinet.")
	case len(a.Sites) == 0:
		return Outcome{}, refuse("no_site", "The worker is given no site.", "Choose the sites whose networks it reaches.")
	}
	after := fmt.Sprintf("%s, key %s, for %s", a.Machine, a.Key.Name(), strings.Join(a.Names, ", "))
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name, After: after}}, nil
}

// RevokeWorker ends that a paired worker is let in. Its connection ends at once, and its key is good for nothing any more.
type RevokeWorker struct {
	ID   uuid.UUID
	Name string
}

// About implements Act.
func (a RevokeWorker) About() About { return About{Name: "revoke-worker", Right: Administer} }

// Decide implements Act.
func (a RevokeWorker) Decide(Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name}}, nil
}

// GiveSites changes which sites a paired worker has, and whether it opens sign-ins that are for every site.
type GiveSites struct {
	ID     uuid.UUID
	Name   string
	Sites  []uuid.UUID
	Names  []string // of the sites, in their order
	Shared bool
}

// About implements Act.
func (a GiveSites) About() About { return About{Name: "give-sites", Right: Administer} }

// Decide implements Act.
func (a GiveSites) Decide(Facts) (Outcome, error) {
	if len(a.Sites) == 0 {
		return Outcome{}, refuse("no_site", "The worker is given no site.", "Choose the sites whose networks it reaches, or revoke it.")
	}
	after := strings.Join(a.Names, ", ")
	if a.Shared {
		after += ", and the sign-ins that are for every site"
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name, After: after}}, nil
}

// RotateSiteKey gives a site another data key, or, without a site, what is for every site, and encrypts with it what is encrypted there. It
// follows on the revoking of a worker: what that may have kept of the old key opens nothing that is written from now on.
type RotateSiteKey struct{ Site *uuid.UUID }

// About implements Act.
func (a RotateSiteKey) About() About {
	out := About{Name: "rotate-site-key", Right: Administer}
	if a.Site != nil {
		out.Site = *a.Site
	}
	return out
}

// Decide implements Act.
func (a RotateSiteKey) Decide(Facts) (Outcome, error) {
	if a.Site == nil {
		return Outcome{Keep: []any{a}, Line: Line{After: "of the sign-ins that are for every site"}}, nil
	}
	return Outcome{Keep: []any{a}, Line: Line{After: "of the site"}}, nil
}

// UpdateWorker tells a paired worker to take the program of another version, which was offered before. The worker itself sees whether it is
// signed by whom it trusts.
type UpdateWorker struct {
	ID      uuid.UUID
	Name    string
	Version string // that it runs
	To      string
	Offered []string // the versions that are offered
}

// About implements Act.
func (a UpdateWorker) About() About { return About{Name: "update-worker", Right: Administer} }

// Decide implements Act.
func (a UpdateWorker) Decide(Facts) (Outcome, error) {
	switch {
	case !slices.Contains(a.Offered, a.To):
		return Outcome{}, refuse("not_offered", "No program of version "+wiretext.Line(a.To, 20)+" is offered to workers.",
			"Offer it on the server: unlatch program offer FILE")
	case !program.Newer(a.To, a.Version):
		return Outcome{}, refuse("not_newer", fmt.Sprintf("%s runs version %s, and takes only newer ones.", a.Name, a.Version),
			"To go back, install the older package on the machine.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name, Before: a.Version, After: a.To}}, nil
}
