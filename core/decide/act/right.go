package act

import "slices"

// A Right is what an act needs of whoever acts.
type Right string

// The rights, from the least that they allow to the most.
const (
	Work       Right = "work"       // everything that is done to the devices and targets of a site
	Reveal     Right = "reveal"     // showing a secret, and handing out a list that holds secrets
	Arrange    Right = "arrange"    // sites, ranges, the keyring, books, presets and intakes
	Administer Right = "administer" // people, and the keys of the server
)

// A Role is a set of rights that a person has.
type Role string

// The roles.
const (
	Owner      Role = "owner"
	Engineer   Role = "engineer"
	Technician Role = "technician"
	Viewer     Role = "viewer"
	Customer   Role = "customer"
)

// rights is what each role may do.
var rights = map[Role][]Right{
	Owner:      {Work, Reveal, Arrange, Administer},
	Engineer:   {Work, Reveal, Arrange},
	Technician: {Work},
	Viewer:     {},
	Customer:   {},
}

// May reports whether a role has a right.
func (r Role) May(right Right) bool { return slices.Contains(rights[r], right) }
