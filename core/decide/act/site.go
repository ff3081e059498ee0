package act

import (
	"encoding/json"
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/address"
	"unlatch/core/ground/wiretext"
)

// A SiteForm is a site as a person describes it.
type SiteForm struct {
	Name      string
	Customer  string // whose site it is; may be empty
	Ranges    address.Ranges
	Confirmed bool // the number of addresses was shown to the person
	LinkMbps  int  // how much may flow at once while streams are measured, Mbit/s; 0 for a share of what the interface carries
}

func (s SiteForm) check() (SiteForm, error) {
	if s.Name = wiretext.Line(s.Name, longestName); s.Name == "" {
		return s, refuse("no_name", "The site has no name.", "Type a name.")
	}
	s.Customer = wiretext.Line(s.Customer, longestName)
	if s.Ranges.Empty() {
		return s, refuse("bad_range", "The site has no range.", "Type a range such as 192.0.2.0/24.")
	}
	return s, confirmSize(s.Ranges, s.Confirmed)
}

// CreateSite makes a site.
type CreateSite struct {
	ID uuid.UUID // of the new site
	SiteForm
}

// About implements Act.
func (a CreateSite) About() About { return About{Name: "create-site", Right: Arrange} }

// Decide implements Act.
func (a CreateSite) Decide(Facts) (out Outcome, err error) {
	if a.SiteForm, err = a.check(); err != nil {
		return out, err
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name, Site: a.ID, After: a.Ranges.String()}}, nil
}

// ChangeSite gives a site another name and other ranges.
type ChangeSite struct {
	Site uuid.UUID
	SiteForm
	Was *SiteForm // the site as the person saw it; nil changes whatever it is
}

// About implements Act.
func (a ChangeSite) About() About { return About{Name: "change-site", Right: Arrange, Site: a.Site} }

// Decide implements Act.
func (a ChangeSite) Decide(f Facts) (out Outcome, err error) {
	if a.SiteForm, err = a.check(); err != nil {
		return out, err
	}
	line := Line{Subject: a.Name, Before: f.Site.Ranges.String(), After: a.Ranges.String()}
	if f.Site.Name != a.Name {
		line.Before, line.After = f.Site.Name+", "+line.Before, a.Name+", "+line.After
	}
	out = Outcome{Keep: []any{a}, Line: line}
	if a.Was != nil {
		out.Keep = []any{Unchanged{Was: a.Was.Fields(), Then: a.Fields()}, a}
	}
	return out, nil
}

// DeleteSite removes a site with all that it holds. Its jobs leave the queue.
type DeleteSite struct{ Site uuid.UUID }

// About implements Act.
func (a DeleteSite) About() About { return About{Name: "delete-site", Right: Arrange, Site: a.Site} }

// Decide implements Act.
func (a DeleteSite) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name, Before: f.Site.Ranges.String()}}, nil
}

// WatchSite listens between sweeps for what devices announce, or stops that.
type WatchSite struct {
	Site uuid.UUID
	On   bool
}

// About implements Act.
func (a WatchSite) About() About { return About{Name: "watch-site", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a WatchSite) Decide(f Facts) (Outcome, error) {
	after := "off"
	if a.On {
		after = "on"
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name, After: after}}, nil
}

// EndStorms sets the storms of announcements of a site aside.
type EndStorms struct{ Site uuid.UUID }

// About implements Act.
func (a EndStorms) About() About { return About{Name: "end-storms", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a EndStorms) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name}}, nil
}

// PutCosts keeps how a site is recorded, as the form has it.
type PutCosts struct {
	Site uuid.UUID
	Form json.RawMessage
}

// About implements Act.
func (a PutCosts) About() About { return About{Name: "put-costs", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a PutCosts) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name}}, nil
}

// A BookKind is a kind of book that people bring.
type BookKind string

// The kinds of book.
const (
	PathBooks   BookKind = "paths"
	PresetBooks BookKind = "presets"
	IntakeBooks BookKind = "intakes"
)

// BringBook brings a book in place of the one of its name; a path book of the same name is added to.
type BringBook struct {
	Kind BookKind
	Name string
	YAML string
	// Operation is the operation that it came by.
	Operation Name
}

// About implements Act.
func (a BringBook) About() About { return About{Name: a.Operation, Right: Arrange} }

// Decide implements Act. The YAML was read before: what cannot be read is refused with its line and column.
func (a BringBook) Decide(Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name, After: fmt.Sprintf("%d bytes of %s", len(a.YAML), a.Kind)}}, nil
}

// DeleteBook removes a book that somebody has brought.
type DeleteBook struct {
	Kind BookKind
	ID   uuid.UUID
	// Operation is the operation that it came by.
	Operation Name
}

// About implements Act.
func (a DeleteBook) About() About {
	return About{Name: a.Operation, Right: Arrange, Books: []uuid.UUID{a.ID}}
}

// Decide implements Act.
func (a DeleteBook) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Books[a.ID]}}, nil
}

// sentence makes a sentence of an error's text.
func sentence(text string) string { return diagnose.Capital(text) + "." }
