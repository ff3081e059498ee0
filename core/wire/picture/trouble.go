package picture

import (
	"unlatch/core/ground/trouble"
)

// Trouble says whether there was no sign-in to try or the one that was tried is refused.
func (e *RefusedError) Trouble() trouble.Trouble {
	if !e.Tried {
		return trouble.Trouble{Cause: trouble.NoSignIn, Form: "web"}
	}
	return trouble.Trouble{Cause: trouble.WrongSignIn, Form: "web", Facts: trouble.Facts{"scheme": e.Scheme}}
}

// Trouble says that the path is not there, or not for this user.
func (e *StatusError) Trouble() trouble.Trouble {
	if e.Status == 403 {
		return trouble.Trouble{Cause: trouble.LevelTooLow, Form: "web"}
	}
	return trouble.Trouble{Cause: trouble.PathUnknown, Form: "web"}
}

// Trouble says that what came is no picture.
func (e *NotPictureError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.NotPicture}
}

// Trouble says that the stream has ended.
func (e *EndedError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.Broken, Form: "ended"}
}

// Trouble says that a redirect leads nowhere.
func (e *RedirectError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.RedirectLost, Facts: trouble.Facts{"to": e.To}}
}
