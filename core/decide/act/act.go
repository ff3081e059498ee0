// Package act is everything that can be done here, one typed value each, one file a concern.
//
// An act says who may do it, what it is on, what must hold first, what it wants kept, what work it begins, and its line in the record. It
// decides that from facts alone and changes nothing itself: whoever carries acts out writes all of an outcome in one transaction, or
// nothing of it. A page, a program, the command line and a schedule all go this way, and there is no other way to change anything.
package act

import (
	"cmp"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target"
)

// An Act is one thing that a person or a program does here.
type Act interface {
	// About says what the act is and what it is on.
	About() About
	// Decide says what follows from the act as things stand. Its error is a *Refusal.
	Decide(Facts) (Outcome, error)
}

// About is what is known of an act before any fact is asked for.
type About struct {
	Name  Name      // as the record has it
	Right Right     // that the act needs
	Site  uuid.UUID // the nil UUID for that of the first device or run, and for acts on no site
	// What the act is on. All of it has to belong to the site, or nothing is done. A sign-in, a book and a person belong to no site.
	Devices, Targets, Plans, Runs []uuid.UUID
	SignIns, Books, People, Links []uuid.UUID
	Tokens, SitePlans             []uuid.UUID
	// InPerson says that no program may do it with an API token: what keeps an account safe is for its person alone.
	InPerson bool
	// AnySite are devices that may be of any site, as those that a sign-in of the keyring is for.
	AnySite []uuid.UUID
	// WithStates asks for the states of the devices, which costs more than to know that they are there.
	WithStates bool
	AllTargets bool
	// Doing is the name of a command, and asks which of the devices one of that name is for that is still to be done; "" asks nothing.
	Doing string
	// WithSweep asks for the sweep that is under way.
	WithSweep bool
	// WithIntakes asks for the names of all intakes.
	WithIntakes bool
	// WithWanted asks which slots of the targets are wanted for cameras.
	WithWanted bool
	// WithServing asks for the workers that serve streams of the site on.
	WithServing bool
}

// Distinct returns IDs once each, in the order in which they first stand.
func Distinct(ids []uuid.UUID) []uuid.UUID {
	out := make([]uuid.UUID, 0, len(ids))
	known := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		if !known[id] {
			known[id] = true
			out = append(out, id)
		}
	}
	return out
}

// A Name is an act's name in the record and in the API.
type Name string

// Facts are what an act is decided by. Only what About names is in it.
type Facts struct {
	Now     time.Time
	By      Person
	Site    Site
	Devices map[uuid.UUID]*latch.Device
	Order   []uuid.UUID // of Devices, by address
	Targets map[uuid.UUID]Target
	// TargetOrder are the targets, the oldest first.
	TargetOrder []uuid.UUID
	Intakes     []string // the names of what targets accept
	Wanted      Wishes   // for slots of the targets by name; asked for with WithWanted
	SignIns     map[uuid.UUID]SignIn
	Plans       map[uuid.UUID]PlanName
	Runs        map[uuid.UUID]string // their titles
	Books       map[uuid.UUID]string // their names
	SitePlans   map[uuid.UUID]string // their names
	Links       map[uuid.UUID]string // whom one-time links are for, by name
	People      map[uuid.UUID]Person
	Tokens      map[uuid.UUID]Token
	OtherOwners int // who have a password and are not among People; asked for with People
	// Busy says by device in which run the command that About.Doing names waits or is carried out.
	Busy map[uuid.UUID]Busy
	// Sweep is the sweep that is under way; the nil UUID for none.
	Sweep uuid.UUID
	// Serving are the workers that serve streams of the site on.
	Serving []Serving
}

// A PlanName is whose a plan is, and what that is called.
type PlanName struct {
	Owner tuning.Owner
	Name  string // of a model or a selection
}

// String returns the plan's name in the record.
func (p PlanName) String() string {
	if p.Owner == tuning.Site {
		return "of the site"
	}
	return fmt.Sprintf("of the %s %s", p.Owner, p.Name)
}

// Busy is a run that has a device under work.
type Busy struct {
	Run   string // its title
	By    string // who began it
	Since time.Time
}

// A Site is the site that an act is on.
type Site struct {
	ID      uuid.UUID
	Name    string
	Ranges  address.Ranges
	Network address.Network
}

// A Target is a target that an act is on.
type Target struct {
	latch.Target
	Site   uuid.UUID
	Shared bool // other sites may use it
	Device *uuid.UUID
	Closed bool           // a recorder whose device service is not signed in to yet
	Layout *target.Layout // nil where nobody has looked at it
	Pin    string         // SHA-256 in hex of the certificate that it is known by; "" for none
	About  *target.About  // what it last said of itself; nil for nothing
}

// A SignIn is a sign-in on the keyring, without its secret.
type SignIn struct {
	ID    uuid.UUID
	Label string
	User  string
	Site  uuid.UUID // the one site that it is for; zero for any
}

// An Outcome is what follows from an act.
type Outcome struct {
	// Keep is what the act wants kept, in this order. The values are of the types in keep.go, or acts that say it all themselves.
	Keep []any
	// Work is the run that it begins; nil for none.
	Work *command.Work
	// Join is a run that is under way and does already what the act would begin; the nil UUID for none.
	Join uuid.UUID
	// Left are the devices that it leaves out.
	Left []Left
	// Slots are those that cameras are planned into.
	Slots []PlannedSlot
	// Names are those that it gives.
	Names []Named
	// Line is its line in the record.
	Line Line
}

// A Left is a device that an act leaves out, because something that must hold does not hold of it.
type Left struct {
	Device uuid.UUID `json:"device"`
	Name   string    `json:"name"`
	Cause  string    `json:"cause" doc:"for programs"`
	Reason string    `json:"reason"`
	Fix    string    `json:"fix"`
}

// A Line is what the record says of an act, besides the act's name, the person and the time.
type Line struct {
	Subject string    // what was acted on, by name
	Site    uuid.UUID // of an act that makes one; the act's own otherwise
	Devices []uuid.UUID
	Target  uuid.UUID

	// Before and After are what was changed, in short; "" for what has none. Never a secret.
	Before, After string
	// What the site, the single device and the target are called. Facts.Name fills them in.
	SiteName, DeviceName, TargetName string
}

// Name returns a line with the names of what it is about, as they are before the act.
func (f Facts) Name(l Line) Line {
	if l.SiteName = f.Site.Name; l.Site != uuid.Nil { // the act makes the site
		l.SiteName = l.Subject
	}
	if len(l.Devices) == 1 {
		if d := f.Devices[l.Devices[0]]; d != nil && d.Name != "" {
			l.DeviceName = d.Name + " at " + d.Addr
		} else if d != nil {
			l.DeviceName = d.Addr
		}
	}
	l.TargetName = f.Targets[l.Target].Name
	return l
}

// A Refusal is why an act is not carried out.
type Refusal struct {
	Cause  string // for programs
	Detail string // what is in the way
	Fix    string // what to do
	// Count is how many addresses there are that have to be confirmed; 0 for acts that need no confirmation.
	Count uint64
}

func (r *Refusal) Error() string { return r.Detail }

// ErrForbidden means that a person's role lacks the right that an act needs.
var ErrForbidden = errors.New("this account may not do that")

// InPersonOnly refuses what no program may do for a person.
func InPersonOnly() *Refusal {
	return refuse("in_person", "An API token may not do that.", "Do it signed in with your own password.")
}

// A ChangedError means that somebody else has changed what an act would change, since its person last saw it. Nothing was done.
type ChangedError struct {
	By  string // who; "" where that is not known any more
	At  time.Time
	Now map[string]string // what it is now, by field
}

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%s has changed this meanwhile", cmp.Or(e.By, "somebody"))
}

// A MissingError names what an act is on that its site does not have: it is another site's, or is gone. Nothing was done.
type MissingError struct{ IDs []uuid.UUID }

func (e *MissingError) Error() string {
	if len(e.IDs) == 1 {
		return fmt.Sprintf("%s is not on this site, or not any more; nothing was done", e.IDs[0])
	}
	return fmt.Sprintf("%d of what was named are not on this site, or not any more; nothing was done. The first is %s", len(e.IDs), e.IDs[0])
}

func refuse(cause, detail, fix string) *Refusal {
	return &Refusal{Cause: cause, Detail: detail, Fix: fix}
}

// HasTargets refuses an act on something that takes no cameras.
func (f Facts) HasTargets(ids []uuid.UUID) error {
	for _, id := range ids {
		if _, ok := f.Targets[id]; !ok {
			return refuse("no_target", "This site has no such target.", "Choose one that takes cameras.")
		}
	}
	return nil
}

// sift splits the devices of an act into those that it goes on with and those that it leaves out. why returns nil for a device that the
// act can be carried out on. With strict, or where all would be left out, the first reason is a refusal of the whole act.
func sift(f Facts, ids []uuid.UUID, strict bool, why func(*latch.Device) *Refusal) (fit []*latch.Device, left []Left, err error) {
	for _, id := range ids {
		d := f.Devices[id]
		if d == nil {
			continue
		}
		r := why(d)
		if r == nil {
			fit = append(fit, d)
			continue
		}
		if strict {
			return nil, nil, r
		}
		left = append(left, Left{Device: id, Name: d.Title, Cause: r.Cause, Reason: r.Detail, Fix: r.Fix})
	}
	if len(fit) == 0 && len(left) > 0 {
		first := left[0]
		detail := first.Reason
		if len(left) > 1 {
			detail = fmt.Sprintf("None of the %s can be taken. %s", command.Cameras(len(left)), first.Reason)
		}
		return nil, nil, refuse(first.Cause, detail, first.Fix)
	}
	return fit, left, nil
}

// ids returns the IDs of devices.
func ids(list []*latch.Device) []uuid.UUID {
	out := make([]uuid.UUID, len(list))
	for i, d := range list {
		out[i] = d.ID
	}
	return out
}

// names returns how a line of the record names devices: by the one's title, else by their number.
func (f Facts) names(ids []uuid.UUID) string {
	if len(ids) == 1 && f.Devices[ids[0]] != nil {
		return f.Devices[ids[0]].Title
	}
	return command.Cameras(len(ids))
}
