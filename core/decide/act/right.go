package act

import (
	"slices"

	"github.com/google/uuid"
)

// A Right is what an act, or reading something, needs of whoever asks.
type Right string

// The rights, from the least that they allow to the most.
const (
	Look       Right = "look"       // the line-up in plain words, live pictures and handover papers
	See        Right = "see"        // all that is known of a site, but secrets and conversations with devices
	Inspect    Right = "inspect"    // conversations with devices, and the keyring without its secrets
	Work       Right = "work"       // everything that is done to the devices and targets of a site
	Reveal     Right = "reveal"     // showing a secret, and handing out a list that holds secrets
	Arrange    Right = "arrange"    // sites, ranges, the keyring, books, presets and intakes
	Administer Right = "administer" // people, and the keys of the server
)

// Rights are all rights in the order of the table that docs/people.md shows.
var Rights = []Right{Look, See, Inspect, Work, Reveal, Arrange, Administer}

// A Role is a set of rights that a person has. A role but an owner's counts on the sites that the person is given; other sites do not
// exist for them.
type Role string

// The roles.
const (
	Owner      Role = "owner"
	Engineer   Role = "engineer"
	Technician Role = "technician"
	Viewer     Role = "viewer"
	Customer   Role = "customer"
)

// Roles are all roles, from the most that they may do to the least.
var Roles = []Role{Owner, Engineer, Technician, Viewer, Customer}

// rights is the table of what each role may do.
var rights = map[Role][]Right{
	Owner:      {Look, See, Inspect, Work, Reveal, Arrange, Administer},
	Engineer:   {Look, See, Inspect, Work, Reveal, Arrange},
	Technician: {Look, See, Inspect, Work},
	Viewer:     {Look, See},
	Customer:   {Look},
}

// May reports whether a role has a right.
func (r Role) May(right Right) bool { return slices.Contains(rights[r], right) }

// Rights returns what the role may do, from the least to the most.
func (r Role) Rights() []Right { return slices.Clone(rights[r]) }

// Valid reports whether r is one of Roles.
func (r Role) Valid() bool { return slices.Contains(Roles, r) }

// Narrower returns the one of two roles that may do less. Each role may do all that those after it may.
func (r Role) Narrower(other Role) Role {
	return Roles[max(slices.Index(Roles, r), slices.Index(Roles, other))]
}

// A Person is who acts.
type Person struct {
	ID   uuid.UUID
	Name string
	Role Role
	// Sites are the sites that the person is given. An owner has all sites, whatever stands here.
	Sites []uuid.UUID
	// Password says that the person has a password here.
	Password bool
	// Connected says that the person may sign in by single sign-on.
	Connected bool
	// Bare says that the role must have a second factor and the person has none: nothing may be done but to add one.
	Bare bool
	// All gives every site to what is narrower than an owner: an API token that an owner has made for all sites.
	All bool
	// Token is the name of the API token by which a program acts for the person; empty for a browser.
	Token string
	// TokenID is that token; the nil UUID for a browser.
	TokenID uuid.UUID
}

// Given reports whether a site exists for the person.
func (p Person) Given(site uuid.UUID) bool { return p.EverySite() || slices.Contains(p.Sites, site) }

// EverySite reports whether all sites exist for the person, also those that are made later.
func (p Person) EverySite() bool { return p.Role == Owner || p.All }
