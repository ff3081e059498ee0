package evidence

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/picturematch"
)

// View is what keeps a camera from showing the view that it is known by, or that it shows it again.
type View struct {
	Obstacle picturematch.Obstacle `json:"obstacle,omitempty" doc:"missing where it shows its view"`
	Still    *uuid.UUID            `json:"still,omitempty" doc:"the picture that was judged"`
	// Shows is the camera of the site whose view it shows instead; the nil UUID where it is none's.
	Shows uuid.UUID `json:"shows,omitzero"`
	// Agreed says that a person has taken what it shows now for its view.
	Agreed bool `json:"agreed,omitempty"`
}

func (View) kind() Kind { return KindView }

func (View) failure() *diagnose.Diagnosis { return nil }

func (b View) sum(string) string {
	switch {
	case b.Agreed:
		return "What it shows now is its view from here on"
	case b.Obstacle == "":
		return "It shows its view again"
	}
	return fmt.Sprintf("Its picture is not the view that it is known by: %s", b.Obstacle)
}
