package diagnose

import "unlatch/core/ground/trouble"

// A PictureError says that a stream plays and still gives no picture.
type PictureError struct {
	Cause  trouble.Cause // NoVideo, NoPackets, NoKeyframe, NotDecodable, CodecNotMeasured, NoProfiles
	Detail string
}

func (e *PictureError) Error() string { return word(e.Trouble(), "", Facts{}).Summary }

// Trouble says why there is no picture.
func (e *PictureError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: e.Cause, Facts: trouble.Facts{"detail": e.Detail}, Seen: e.Detail}
}

// A NoMarkError says why a camera cannot show which one it is in the way that was asked for. Nothing was changed.
type NoMarkError struct{ Why string }

func (e *NoMarkError) Error() string { return e.Why }

// Trouble says that the camera draws no label or cannot be moved.
func (e *NoMarkError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.NoMark} }

// A StandsError says that what a camera was made to do to show which one it is was not taken back.
type StandsError struct{ What string }

func (e *StandsError) Error() string { return e.What }

// Trouble says that the mark still stands.
func (e *StandsError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.MarkStands} }

// An UnfitSignInError says that a target turns a stream URL down, most likely for the sign-in in it.
type UnfitSignInError struct {
	Encoded bool   // user or password hold characters that have to be percent-encoded
	Long    bool   // the password is longer than many targets take
	Answer  string // the target's own reason
}

func (e *UnfitSignInError) Error() string {
	return "the target turns the stream URL down, most likely for its sign-in: " + e.Answer
}

// Trouble says what of the sign-in is most likely in the way.
func (e *UnfitSignInError) Trouble() trouble.Trouble {
	t := trouble.Trouble{Cause: trouble.UnfitSignIn}
	if e.Encoded {
		t.Form = "encoded"
	}
	return t
}

// A TargetShutError says that no sign-in is known to open a target.
type TargetShutError struct{ Name string }

func (e *TargetShutError) Error() string { return e.Name + " has not been signed in to yet" }

// Trouble says that the target's own sign-in is missing.
func (e *TargetShutError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.NoSignIn, Form: "recorder", Seen: "no sign-in is known to open it"}
}
