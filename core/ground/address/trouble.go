package address

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that the address is outside the ranges.
func (e *OutOfScopeError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.OutOfScope, Facts: trouble.Facts{"addr": e.Addr, "ranges": e.Ranges}}
}
