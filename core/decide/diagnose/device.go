package diagnose

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"syscall"
	"unicode"
	"unicode/utf8"

	"unlatch/core/ground/exchange"
	"unlatch/core/wire/fix"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/picture"
)

// A PictureError says that a stream plays and still gives no picture.
type PictureError struct {
	Cause  Cause // NoVideo, NoPackets, NoKeyframe, NotDecodable, CodecNotMeasured, NoProfiles
	Detail string
}

func (e *PictureError) Error() string { return e.diagnosis().Summary }

func (e *PictureError) diagnosis() Diagnosis {
	d := Diagnosis{Cause: e.Cause, Seen: e.Detail}
	switch e.Cause {
	case NoVideo:
		d.Summary, d.Fix = "The stream has no video track.", "This may be an audio or metadata stream: check the path or the profile."
	case NoPackets:
		d.Summary = "The device accepted PLAY and then sent no packets of the picture."
		d.Fix = "Check on its own page that this stream is switched on; restart the device if it is."
	case NoKeyframe:
		d.Summary = "Packets come, but no whole key frame. " + e.Detail
		d.Fix = "Shorten the key-frame interval on the device (one to two seconds is usual), or look for packet loss on the way."
	case NotDecodable:
		d.Summary, d.Fix = "A key frame came and does not decode to a picture.", "A maker's own compression or "+
			"encryption may be on: switch it off on the device, and set a plain codec (H.264, H.265, MJPEG or MPEG-4)."
	case CodecNotMeasured:
		d.Summary = "The stream plays as " + e.Detail + ", of which no picture can be proven."
		d.Fix = "Set the stream to H.264 on the device, which every target takes; H.265, MJPEG and MPEG-4 are proven too."
	case NoProfiles:
		d.Summary, d.Fix = "The device names no media profile with a picture.", "Restore its media profiles on its own page."
	}
	return d
}

// explainPicture reads what a web port says to a request for a picture or page.
func explainPicture(err error, f Facts) (Diagnosis, bool) {
	var (
		refused *picture.RefusedError
		status  *picture.StatusError
		not     *picture.NotPictureError
		lost    *picture.RedirectError
	)
	switch {
	case errors.As(err, &refused) && !refused.Tried:
		return Diagnosis{Cause: NoSignIn, Summary: Capital(f.Asking) + " wants a sign-in and there is none to try.",
			Fix: "Add the sign-in for it to the keyring."}, true
	case errors.As(err, &refused):
		return Diagnosis{Cause: WrongSignIn, Summary: fmt.Sprintf("%s refuses the sign-in of %q (%s).", Capital(f.Asking), f.User,
			refused.Scheme),
			Fix: "The device keeps users of their own for its web side: add the right sign-in to the keyring, for web pages only."}, true
	case errors.As(err, &status) && status.Status == 403:
		return Diagnosis{Cause: LevelTooLow, Summary: fmt.Sprintf("%s is not for this user: %s.", Capital(f.Asking), status),
			Fix: "Give the user a higher level on the device's own page, or use another sign-in."}, true
	case errors.As(err, &status):
		return Diagnosis{Cause: PathUnknown, Summary: fmt.Sprintf("%s is not there: %s.", Capital(f.Asking), status),
			Fix: "The device may not serve it, or it is switched off on its own page."}, true
	case errors.As(err, &not):
		return Diagnosis{Cause: NotPicture, Summary: Capital(not.Error()) + ".", Fix: "Check the path: this may be a web page."}, true
	case errors.As(err, &lost):
		return Diagnosis{Cause: RedirectLost, Summary: fmt.Sprintf("%s redirects and leads nowhere: %s.", Capital(f.Asking), lost.To),
			Fix: "Read the right address on the device's own page; it may want HTTPS."}, true
	}
	return Diagnosis{}, false
}

func explainDevice(err error, f Facts) (Diagnosis, bool) {
	var (
		fault   *onvif.Fault
		not     *onvif.NotSOAPError
		refused *onvif.RefusedError
		limit   *onvif.LimitError
		shut    *TargetShutError
		kept    *fix.NotKeptError
		unfit   *UnfitSignInError
		still   *onvif.NoPTZError
		mark    *NoMarkError
		stands  *StandsError
	)
	switch {
	case errors.As(err, &still):
		return Diagnosis{Cause: NoMark, Summary: Capital(still.Error()) + ".", Fix: "Have it draw a label instead."}, true
	case errors.As(err, &mark):
		return Diagnosis{Cause: NoMark, Summary: Capital(mark.Error()) + ".",
			Fix: "Use the other way of telling it apart (nudge or label), or hold a hand before the lens and look at its picture."}, true
	case errors.As(err, &stands):
		return Diagnosis{Cause: MarkStands, Summary: Capital(stands.Error()) + ".",
			Fix: "Put it back once more; if that does not help either, do it on the camera's own page."}, true
	case errors.As(err, &shut):
		return Diagnosis{Cause: NoSignIn, Summary: Capital(shut.Error()) + ".", Seen: "no sign-in is known to open it",
			Fix: "Open the recorder's own latches first: select it in the line-up."}, true
	case errors.As(err, &unfit):
		why := "the password is longer than many targets take"
		if unfit.Encoded {
			why = "the user name or password holds characters that have to be percent-encoded in a URL, which some targets cannot read"
		}
		return Diagnosis{Cause: UnfitSignIn, Summary: fmt.Sprintf("%s turns the stream URL down. Most likely reason: %s.",
			Capital(f.Asking), why),
			Fix: "Make a stream user on the camera: its password is short enough for every target and made of letters, digits and dashes."}, true
	case errors.As(err, &kept):
		return Diagnosis{Cause: NotKept, Summary: Capital(kept.Error()) + ".",
			Fix: "Change it on the device's own page; a lock there or old firmware may be in the way."}, true
	case errors.As(err, &refused) && refused.NoSignIn:
		return Diagnosis{Cause: NoSignIn, Summary: Capital(f.Asking) + " wants a sign-in and the keyring has none to try.",
			Fix: "Add the sign-in for this device to the keyring."}, true
	case errors.As(err, &refused):
		return Diagnosis{Cause: WrongSignIn, Summary: fmt.Sprintf("%s refuses the sign-in of %q.", Capital(f.Asking), f.User),
			Fix: "Add the sign-in that is right for this device to the keyring. A separate ONVIF user list on the device is a common reason."}, true
	case errors.As(err, &limit):
		return Diagnosis{Cause: Unbounded, Summary: fmt.Sprintf("%s at %s sends an answer that no honest device sends (%s).",
			Capital(f.Asking), f.at(), limit.What),
			Fix: "Check what is really listening on that port."}, true
	case errors.As(err, &not):
		return Diagnosis{Cause: NotONVIF, Summary: fmt.Sprintf("%s answers, but not as a device service: %s.", f.at(), not.Problem),
			Fix: "Switch ONVIF on in the device's network settings, or check the port."}, true
	case errors.As(err, &fault) && fault.HasCode("NotAuthorized"), errors.As(err, &fault) && fault.HasCode("OperationProhibited"):
		return Diagnosis{Cause: LevelTooLow, Summary: fmt.Sprintf("%s knows this user and does not allow what was asked: %s.",
			Capital(f.Asking), fault.Reason),
			Fix: "Give the user a higher level (Operator or Administrator) or use another sign-in."}, true
	case errors.As(err, &fault):
		return Diagnosis{Cause: Unfit, Summary: fmt.Sprintf("%s turns the request down: %s.", Capital(f.Asking), fault.Reason),
			Fix: "Look at the exchange below; a restart or new firmware may mend it."}, true
	}
	return Diagnosis{}, false
}

// A NoMarkError says why a camera cannot show which one it is in the way that was asked for. Nothing was changed.
type NoMarkError struct{ Why string }

func (e *NoMarkError) Error() string { return e.Why }

// A StandsError says that what a camera was made to do to show which one it is was not taken back.
type StandsError struct{ What string }

func (e *StandsError) Error() string { return e.What }

// An UnfitSignInError says that a target turns a stream URL down, most likely for the sign-in in it.
type UnfitSignInError struct {
	Encoded bool   // user or password hold characters that have to be percent-encoded
	Long    bool   // the password is longer than many targets take
	Answer  string // the target's own reason
}

func (e *UnfitSignInError) Error() string {
	return "the target turns the stream URL down, most likely for its sign-in: " + e.Answer
}

// A TargetShutError says that no sign-in is known to open a target.
type TargetShutError struct{ Name string }

func (e *TargetShutError) Error() string { return e.Name + " has not been signed in to yet" }

func explainNetwork(err error, f Facts) (Diagnosis, bool) {
	var (
		netErr net.Error
		slow   *exchange.SlowError
		mute   *exchange.MuteError
	)
	switch {
	case errors.As(err, &slow):
		return tooSlow(f, slow.Bytes, slow.After), true
	case errors.As(err, &mute):
		return Diagnosis{Cause: Silent, Summary: fmt.Sprintf("%s takes the connection and says nothing.", f.at()),
			Fix: "Restart the device, or check the port."}, true
	case errors.Is(err, syscall.ECONNREFUSED):
		return Diagnosis{Cause: PortClosed, Summary: fmt.Sprintf("%s is there, but port %d is closed.", f.Host, f.Port),
			Fix: "The service is switched off or on another port. Switch it on at the device's own page, or sweep again to find its port."}, true
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return Diagnosis{Cause: NoAnswer, Summary: fmt.Sprintf("There is no way from this machine to %s.", f.Host),
			Fix: "Check the cable, and that this machine has an address in that subnet."}, true
	case strings.Contains(err.Error(), "malformed HTTP"): // net/http has no type for it
		return Diagnosis{Cause: NotHTTP, Summary: fmt.Sprintf("%s does not speak HTTP: this is not the web port.", f.at()),
			Fix: "Use the web port, usually 80 or 8080. The stream port does not take this."}, true
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &netErr) && netErr.Timeout():
		return Diagnosis{Cause: NoAnswer, Summary: fmt.Sprintf("Nothing answers at %s.", f.at()),
			Fix: "Check power and cable; the address may have changed: sweep again."}, true
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), strings.Contains(err.Error(), "EOF"):
		return Diagnosis{Cause: Dropped, Summary: fmt.Sprintf("%s closed the connection in the middle.", f.at()),
			Fix: "Try again; if it stays, the device may be overloaded or locked: wait a few minutes."}, true
	}
	return Diagnosis{}, false
}

// Capital begins a sentence with s.
func Capital(s string) string {
	if s == "" {
		return s
	}
	first, size := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(first)) + s[size:]
}
