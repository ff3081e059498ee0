package hub

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that the broker turns the sign-in down.
func (e *RefusedError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.WrongSignIn, Form: "broker"}
}

// Trouble says that no hub has said that it is there.
func (e *SilentError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.Silent, Form: "hub"}
}
