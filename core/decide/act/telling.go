package act

import (
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/telling"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/wiretext"
)

// PutTellRule says who hears what of a site.
type PutTellRule struct {
	ID     uuid.UUID
	Site   uuid.UUID
	Rule   telling.Listener
	Secret signin.Secret // the password, or what a webhook's signature is made with; empty keeps what there is
}

// About implements Act.
func (a PutTellRule) About() About { return About{Name: "put-tell-rule", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a PutTellRule) Decide(f Facts) (Outcome, error) {
	a.Rule.Name = wiretext.Line(a.Rule.Name, longestName)
	var wrong *telling.ListenerError
	if err := a.Rule.Check(); errors.As(err, &wrong) {
		return Outcome{}, refuse("bad_rule", wrong.Problem, wrong.Fix)
	}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name, After: fmt.Sprintf("%s, by %s, from %s on", a.Rule.Name, a.Rule.Way,
		a.Rule.From)}}, nil
}

// DeleteTellRule removes a rule.
type DeleteTellRule struct {
	ID, Site uuid.UUID
	Name     string
}

// About implements Act.
func (a DeleteTellRule) About() About {
	return About{Name: "delete-tell-rule", Right: Work, Site: a.Site}
}

// Decide implements Act.
func (a DeleteTellRule) Decide(f Facts) (Outcome, error) {
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name, Before: a.Name}}, nil
}

// TestTelling sends a message that says only that telling works.
type TestTelling struct {
	ID, Site uuid.UUID
	Name     string
	Message  telling.Message // set by Decide
}

// About implements Act.
func (a TestTelling) About() About { return About{Name: "test-telling", Right: Work, Site: a.Site} }

// Decide implements Act.
func (a TestTelling) Decide(f Facts) (Outcome, error) {
	a.Message = telling.Message{Kind: telling.Test, Site: a.Site, SiteName: wiretext.Line(f.Site.Name, 200),
		At:       f.Now.UTC().Truncate(time.Second),
		Headline: "This is a test: messages of this site arrive here."}
	return Outcome{Keep: []any{a}, Line: Line{Subject: f.Site.Name, After: a.Name}}, nil
}
