package media

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that the description names nothing that can be played.
func (e *SDPError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.BadDescription} }

// Trouble says that a header describes a picture that cannot be.
func (e *HeaderError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.BadParameterSet}
}
