package baseline

import (
	"github.com/google/uuid"

	"unlatch/core/wire/target"
)

// A Target is what was known of one target.
type Target struct {
	ID    uuid.UUID `json:"id"`
	Name  string    `json:"name"`
	Facts []Fact    `json:"facts"`
}

// TargetOf returns the state of a target: whether it answers, and what it says of itself. pin is the certificate that it is known by.
func TargetOf(id uuid.UUID, name string, silent bool, about *target.About, pin string) Target {
	var out list
	out.add(Fact{Field: Answers, Value: yes(!silent)})
	if about != nil {
		out.add(Fact{Field: Maker, Value: about.Maker})
		out.add(Fact{Field: Model, Value: about.Model})
		out.add(Fact{Field: Serial, Value: about.Serial})
	}
	out.add(Fact{Field: Certificate, Value: pin})
	return Target{ID: id, Name: name, Facts: out}
}

// CompareTargets returns the fields of a target that differ.
func CompareTargets(was, is Target) []FieldChange { return compareFacts(was.Facts, is.Facts) }
