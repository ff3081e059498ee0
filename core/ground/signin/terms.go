package signin

import "github.com/google/uuid"

// Terms say where a sign-in may be tried.
type Terms struct {
	Factory bool       `json:"factory" doc:"it is one that devices have from the factory: a device that it opens is a finding"`
	Note    string     `json:"note"`
	Site    *uuid.UUID `json:"site,omitempty" doc:"tried on this site only; on all where it is missing"`
	Maker   string     `json:"maker" doc:"tried on this maker's devices only; on all where it is empty"`
	Purpose Purpose    `json:"purpose" enum:",device,stream,web,target" doc:"what it is for; everything where it is empty"`
	// Devices are the only ones that it is tried on, where it is bound to some.
	Bound   bool        `json:"bound" doc:"tried on these devices only; a bound sign-in whose devices are gone is tried nowhere"`
	Devices []uuid.UUID `json:"devices,omitempty"`
}

// For returns terms that bind a sign-in to devices.
func For(purpose Purpose, devices ...uuid.UUID) Terms {
	return Terms{Purpose: purpose, Bound: true, Devices: devices}
}

// A New is a sign-in to put on the keyring, with its terms: there is no moment at which it may be tried elsewhere.
type New struct {
	ID     uuid.UUID // the nil UUID for one made by the keyring
	Label  string
	User   string
	Secret Secret
	Terms
}
