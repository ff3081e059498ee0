package command

import (
	"net/netip"

	"github.com/google/uuid"

	"unlatch/core/wire/target"
)

// A Target is what to do with one target. Exactly one field is set.
type Target struct {
	Look   *Look         `json:"look,omitempty"`
	Change *TargetChange `json:"change,omitempty"`
}

// Looks reports whether a command changes nothing on the target.
func (t Target) Looks() bool { return t.Change == nil }

// Look asks a target what it is and how its slots stand, and for the picture of each camera on it.
type Look struct {
	Retry bool `json:"retry,omitempty"` // send again a sign-in that it has refused
	Again int  `json:"again,omitempty"` // the nth time by Unlatch itself, for what waits there alone; 0 for a look that somebody wants
}

// TargetChange is one thing to do on a target that is about no single camera. One of Free, Schedule and Order is set.
type TargetChange struct {
	Free     string           `json:"free,omitempty"`  // the slot whose block shall be given up
	Order    []string         `json:"order,omitempty"` // its slots, the first at a glance first
	Slot     string           `json:"slot,omitempty"`  // whose schedule is set
	Schedule *target.Schedule `json:"schedule,omitempty"`
}

// An OnSite is what to do on a site. Exactly one field is set.
type OnSite struct {
	Sweep  *Sweep  `json:"sweep,omitempty"`
	Paste  *Paste  `json:"paste,omitempty"`
	Spread *Spread `json:"spread,omitempty"`
	// Outside is for workers elsewhere alone.
	Outside *Outside `json:"outside,omitempty"`
	// Pack needs no network: any worker does it.
	Pack *Pack `json:"pack,omitempty"`
}

// Pack makes a version of the site's handover pack.
type Pack struct {
	Version uuid.UUID `json:"version"`
}

// Outside plays what is led outside, by the site's outside addresses.
type Outside struct{}

// Spread queues the commands of a run that has too many to queue while a person waits for an answer.
type Spread struct {
	Devices []OnDevices `json:"devices"`
}

// Sweep is one discovery run over the site's ranges.
type Sweep struct {
	// Open has the latches opened afterwards of all devices that were heard.
	Open bool `json:"open,omitempty"`
}

// Paste takes one pasted URL and the recipe that explains it, and looks which of its siblings are there.
type Paste struct {
	URL      string    `json:"url"` // without its sign-in
	Shape    string    `json:"shape"`
	Recipe   string    `json:"recipe"`
	Channels int       `json:"channels"`
	SignIn   uuid.UUID `json:"sign_in"` // on the keyring; the nil UUID for none
	Save     bool      `json:"save"`    // keep the recipe once it has found streams
	// Readable says that this person has agreed to send the sign-in so that it can be read, should the device want that.
	Readable uuid.UUID `json:"readable"`
}

// A Question is a short one about the network of a site, which a worker that reaches it answers at once.
type Question struct {
	Site  uuid.UUID    `json:"site"`            // the nil UUID for any machine
	Addrs []netip.Addr `json:"addrs,omitempty"` // to look at; none asks for the network interfaces
	// Shows are the places of one host, one of which is asked for its certificate, in place of all else; Host is what it is called.
	Shows []netip.AddrPort `json:"shows,omitempty"`
	Host  string           `json:"host,omitempty"`
	// Name is looked up, in place of all else; "" for none.
	Name string `json:"name,omitempty"`
}
