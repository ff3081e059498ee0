package act

import (
	"errors"
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/siteplan"
	"unlatch/core/ground/wiretext"
)

// AddSitePlan keeps a picture of the building, or of one floor of it, on which cameras can be marked.
type AddSitePlan struct {
	Site, ID uuid.UUID // ID is that of the new plan
	Name     string
	Raw      []byte // the picture as it was brought
	Picture  *siteplan.Picture
}

// About implements Act.
func (a AddSitePlan) About() About { return About{Name: "add-site-plan", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a AddSitePlan) Decide(f Facts) (Outcome, error) {
	a.Name = wiretext.Line(a.Name, longestName)
	if a.Name == "" {
		return Outcome{}, refuse("no_name", "The plan has no name.", "Call it by the building or the floor.")
	}
	picture, err := siteplan.Read(a.Raw)
	if no := new(siteplan.BadPictureError); errors.As(err, &no) {
		return Outcome{}, refuse("bad_picture", sentence(no.Problem), no.Fix)
	} else if err != nil {
		return Outcome{}, err
	}
	a.Picture, a.Raw = picture, nil
	return Outcome{Keep: []any{a}, Line: Line{Subject: a.Name, After: fmt.Sprintf("%d×%d pixels", picture.Width, picture.Height)}}, nil
}

// RenameSitePlan gives a site plan another name.
type RenameSitePlan struct {
	Site, Plan uuid.UUID
	Name       string
}

// About implements Act.
func (a RenameSitePlan) About() About {
	return About{Name: "rename-site-plan", Right: Work, Site: a.Site, SitePlans: []uuid.UUID{a.Plan}}
}

// Decide implements Act.
func (a RenameSitePlan) Decide(f Facts) (Outcome, error) {
	if a.Name = wiretext.Line(a.Name, longestName); a.Name == "" {
		return Outcome{}, refuse("no_name", "The plan has no name.", "Call it by the building or the floor.")
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.SitePlans[a.Plan], After: a.Name}}, nil
}

// RemoveSitePlan removes a site plan with its marks.
type RemoveSitePlan struct{ Site, Plan uuid.UUID }

// About implements Act.
func (a RemoveSitePlan) About() About {
	return About{Name: "remove-site-plan", Right: Work, Site: a.Site, SitePlans: []uuid.UUID{a.Plan}}
}

// Decide implements Act.
func (a RemoveSitePlan) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.SitePlans[a.Plan]}}, nil
}

// MarkOnSitePlan puts cameras onto a site plan, or moves them there.
type MarkOnSitePlan struct {
	Site, Plan uuid.UUID
	Marks      []siteplan.Mark
}

// About implements Act.
func (a MarkOnSitePlan) About() About {
	out := About{Name: "mark-on-site-plan", Right: Work, Site: a.Site, SitePlans: []uuid.UUID{a.Plan}}
	for _, m := range a.Marks {
		out.Devices = append(out.Devices, m.Device)
	}
	return out
}

// Decide implements Act.
func (a MarkOnSitePlan) Decide(f Facts) (Outcome, error) {
	kept := MarkOnSitePlan{Site: a.Site, Plan: a.Plan}
	for _, m := range a.Marks {
		m, err := m.Check()
		if err != nil {
			return Outcome{}, refuse("bad_mark", sentence(err.Error()), "Put it onto the picture.")
		}
		kept.Marks = append(kept.Marks, m)
	}
	devices := a.About().Devices
	return Outcome{Keep: []any{kept}, Line: Line{Subject: f.names(devices), Devices: devices, After: "on " + f.SitePlans[a.Plan]}}, nil
}

// TakeOffSitePlan takes cameras off a site plan.
type TakeOffSitePlan struct {
	Site, Plan uuid.UUID
	Devices    []uuid.UUID
}

// About implements Act.
func (a TakeOffSitePlan) About() About {
	return About{Name: "take-off-site-plan", Right: Work, Site: a.Site, SitePlans: []uuid.UUID{a.Plan}, Devices: a.Devices}
}

// Decide implements Act.
func (a TakeOffSitePlan) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.names(a.Devices), Devices: a.Devices, Before: "on " + f.SitePlans[a.Plan]}}, nil
}
