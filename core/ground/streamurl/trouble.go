package streamurl

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that the URL cannot be read, and how it can be put right.
func (e *SyntaxError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.BadURL, Facts: trouble.Facts{"fix": e.Fix}}
}
