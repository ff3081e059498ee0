package fix

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that a change was accepted and not made.
func (e *NotKeptError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.NotKept} }
