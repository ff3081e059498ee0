package live

import (
	"unlatch/core/ground/trouble"
)

// Trouble says that the platform turns the stream key down.
func (e *KeyError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.WrongSignIn, Form: "stream key"}
}
