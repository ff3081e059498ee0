package httpauth

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that the challenge cannot be answered, or is too long to be one.
func (e *UnknownSchemeError) Trouble() trouble.Trouble {
	if e.TooLong {
		return trouble.Trouble{Cause: trouble.Unbounded, Form: "challenge", Facts: trouble.Facts{"kilobytes": MaxLine >> 10}}
	}
	return trouble.Trouble{Cause: trouble.SchemeUnknown}
}
