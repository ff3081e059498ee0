// Package diagnose turns what went wrong into the most likely cause, said in the user's terms, with what to do. It knows
// the typed errors of core; a caller adds the facts that no error carries.
package diagnose

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/media"
	"unlatch/core/wire/netconfig"
	"unlatch/core/wire/rtsp"
)

// A Cause names a diagnosis for programs; the set is closed and documented here.
type Cause string

const (
	NoMark             Cause = "no_mark"             // a camera cannot be nudged, or draws no label
	MarkStands         Cause = "mark_stands"         // a nudge or a label was not taken back
	OutOfScope         Cause = "out_of_scope"        // the address is outside the authorised ranges
	AddressConflict    Cause = "address_conflict"    // two devices claim one address
	AddressTaken       Cause = "address_taken"       // something answers at the new address
	AddressRefused     Cause = "address_not_kept"    // the device came back at its old address
	DeviceLost         Cause = "device_lost"         // the device did not come back
	RecorderShut       Cause = "recorder_shut"       // the recorder that it is reached through is not signed in to
	NoPath             Cause = "no_path"             // no likely path is there
	NoAnswer           Cause = "no_answer"           // nothing answers at the address
	PortClosed         Cause = "port_closed"         // the address answers, the port refuses
	StreamsOff         Cause = "streams_off"         // the stream service is switched off, by the device's own word
	WrongPort          Cause = "wrong_port"          // another of the device's ports was given
	Silent             Cause = "silent"              // the port takes the connection and says nothing
	NotRTSP            Cause = "not_rtsp"            // the port speaks something else, mostly HTTP
	NotHTTP            Cause = "not_http"            // the port was taken for the web port
	NotONVIF           Cause = "not_onvif"           // HTTP, but no device service
	Unbounded          Cause = "unbounded"           // an answer without end
	Broken             Cause = "broken_answer"       // an answer that cannot be read
	Dropped            Cause = "dropped"             // the device closed the connection
	FactoryFresh       Cause = "factory_fresh"       // the device has no account yet and lets anyone in
	NoSignIn           Cause = "no_sign_in"          // the device wants one and the keyring has none for it
	WrongSignIn        Cause = "wrong_sign_in"       // every sign-in that may be tried was refused
	StreamRefuses      Cause = "stream_refuses"      // the device service takes the sign-in, the stream does not
	HeldBack           Cause = "held_back"           // another wrong try could lock the device
	CertificateChanged Cause = "certificate_changed" // TLS with another certificate than before
	UnfitSignIn        Cause = "unfit_sign_in"       // a target cannot take the sign-in in the URL
	NotKept            Cause = "not_kept"            // a change was accepted and not made
	NotPicture         Cause = "not_picture"         // an HTTP answer that is no picture
	RedirectLost       Cause = "redirect_lost"       // a redirect that leads nowhere
	Locked             Cause = "locked"              // the device judges no sign-in for a while
	Readable           Cause = "readable_only"       // the sign-in would go out so that it can be read, and nobody agreed
	HandingUnagreed    Cause = "handing_unagreed"    // a secret would be handed to a target so that it can be read, and nobody agreed
	ReadableWaits      Cause = "readable_waits"      // somebody agreed, and nobody has begun the work
	SchemeWeaker       Cause = "scheme_weaker"       // a weaker scheme than the device has taken before
	Stranger           Cause = "not_known_again"     // it has moved, and nothing says yet that it is the same device
	Impostor           Cause = "impostor"            // another device says that it is this one
	TooSlow            Cause = "too_slow"            // it answers, and not in time
	OwnRequests        Cause = "own_requests"        // it sends requests of its own and answers none
	SchemeUnknown      Cause = "scheme_unknown"      // no sign-in scheme that can be answered
	LevelTooLow        Cause = "level_too_low"       // signed in, but not allowed
	PathUnknown        Cause = "path_unknown"        // 404
	SessionLimit       Cause = "session_limit"       // 453
	Busy               Cause = "busy"                // 503
	TransportRefused   Cause = "transport_refused"   // 461
	StreamStatus       Cause = "stream_status"       // any other status
	NoVideo            Cause = "no_video"            // a description without a video track
	BadDescription     Cause = "bad_description"     // an SDP that names no media
	NoPackets          Cause = "no_packets"          // PLAY accepted, nothing sent
	NoKeyframe         Cause = "no_keyframe"         // packets, but no whole key frame
	BadParameterSet    Cause = "bad_parameter_set"   // a picture size that cannot be
	NotDecodable       Cause = "not_decodable"       // the key frame decodes to nothing
	CodecNotMeasured   Cause = "codec_not_measured"  // a codec or a form of it of which no picture is proven
	NoProfiles         Cause = "no_profiles"         // the device names no media profile with a picture
	BadURL             Cause = "bad_url"             // a URL that cannot be read
	NotTuned           Cause = "not_tuned"           // its streams are not what they were set to
	WantsRestart       Cause = "wants_restart"       // it has taken settings and goes on as before
	IntakeUnmet        Cause = "intake_unmet"        // a target takes none of its streams
	TargetFull         Cause = "target_full"         // no free slot
	SlotBlocked        Cause = "slot_blocked"        // a slot is blocked by what could be given up
	SlotTaken          Cause = "slot_taken"          // another camera is in the slot
	SlotLocked         Cause = "slot_locked"         // a slot that may not be changed from here
	SlotGone           Cause = "slot_gone"           // the slot no longer holds the camera
	Misfit             Cause = "misfit"              // a target turns a camera down for one of its fields
	BridgeBroken       Cause = "bridge_broken"       // a bridge breaks the contract
	NotOnRecorder      Cause = "not_on_recorder"     // a target takes channels of a recorder, and the camera is on none
	WrongPicture       Cause = "wrong_picture"       // a slot shows another camera
	TargetWaiting      Cause = "target_not_showing"  // the target does not report the picture
	Unfit              Cause = "device_answer"       // a fault of the device's own
	UnreadableRecord   Cause = "unreadable_record"   // what was recorded of it cannot be read
	Stopped            Cause = "stopped"             // stopped by the person
	Unknown            Cause = "unknown"
)

// A Diagnosis is the most likely cause, what was seen, and what to do.
type Diagnosis struct {
	Cause   Cause  `json:"cause"`
	Summary string `json:"summary" doc:"what happened and why, in one or two sentences"`
	Fix     string `json:"fix" doc:"what to do next"`
	Seen    string `json:"seen,omitempty" doc:"the observation that proves it"`
	// Until is when the wait that the diagnosis speaks of ends.
	Until *time.Time `json:"until,omitempty" doc:"when the device may be tried again"`
	// Wanted is how a sign-in was wanted that was not sent; nil where the diagnosis is about something else.
	Wanted *Wanted `json:"wanted,omitempty" doc:"how a sign-in was wanted that was not sent"`
}

// A Wanted is how a device or target wants a sign-in, where a person has to agree to that first.
type Wanted struct {
	Service     signin.Purpose `json:"service,omitempty" doc:"what was signed in to"`
	Target      uuid.UUID      `json:"target,omitzero" doc:"the target that a person has to agree for"`
	Secret      string         `json:"secret,omitempty" doc:"of a target: what would go to it"`
	Scheme      string         `json:"scheme,omitempty" doc:"basic, digest MD5 …"`
	Before      string         `json:"before,omitempty" doc:"the stronger one in which it was taken before"`
	At          string         `json:"at,omitempty" doc:"scheme, host and port"`
	Certificate string         `json:"certificate,omitempty" doc:"SHA-256 of the one that was shown there; missing without TLS"`
}

// wantedReadable is what a sign-in that would have been readable was wanted as.
func wantedReadable(e *signin.ReadableError) *Wanted {
	w := &Wanted{Service: e.Service, Scheme: e.Scheme, Certificate: e.Channel.Certificate}
	if e.Channel.At != "" {
		w.At = e.Channel.String()
	}
	return w
}

// Facts are what the caller knows besides the error.
type Facts struct {
	Host   string // address of the device
	Port   int    // the port that was asked; 0 where there was none
	Asking string // "the stream", "the device service", "the recorder"
	User   string // the user name that was tried
	Target bool   // a target was asked, and no camera
}

func (f Facts) at() string {
	if f.Port == 0 {
		return f.Host
	}
	return net.JoinHostPort(f.Host, fmt.Sprint(f.Port))
}

// Explain finds the cause of err. It never returns an empty diagnosis.
func Explain(err error, f Facts) Diagnosis {
	if f.Asking == "" {
		f.Asking = "the device"
	}
	d := explain(err, f)
	if d.Seen == "" {
		d.Seen = err.Error()
	}
	return d
}

func explain(err error, f Facts) Diagnosis {
	var (
		scope  *address.OutOfScopeError
		syntax *streamurl.SyntaxError
	)
	if f.Target && !errors.Is(err, context.Canceled) {
		for _, try := range []func(error, Facts) (Diagnosis, bool){explainTarget, explainReachingTarget} {
			if d, ok := try(err, f); ok {
				return d
			}
		}
	}
	switch {
	case errors.Is(err, context.Canceled):
		return Diagnosis{Cause: Stopped, Summary: "Stopped before it was finished.", Fix: "Start it again when you want it to go on."}
	case errors.As(err, &scope):
		return Diagnosis{Cause: OutOfScope,
			Summary: fmt.Sprintf("%s is outside this site's ranges (%s), so Unlatch does not connect to it.", scope.Addr, scope.Ranges),
			Fix:     "Add its range to the site if it belongs there, or give the device an address inside the ranges."}
	case errors.As(err, &syntax):
		return Diagnosis{Cause: BadURL, Summary: Capital(syntax.Error()) + ".", Fix: Capital(syntax.Fix) + "."}
	}
	for _, try := range []func(error, Facts) (Diagnosis, bool){explainSending, explainAddress, explainStream, explainMedia, explainPicture,
		explainTarget, explainDevice, explainNetwork} {
		if d, ok := try(err, f); ok {
			return d
		}
	}
	return Diagnosis{Cause: Unknown, Summary: Capital(err.Error()) + ".",
		Fix: "Look at the exchange below; it holds every byte that was said."}
}

// explainSending explains why a sign-in was not sent, or was not judged.
func explainSending(err error, f Facts) (Diagnosis, bool) {
	var (
		held     *signin.HeldBackError
		locked   *signin.LockedError
		readable *signin.ReadableError
		weaker   *signin.WeakerError
		unknown  *httpauth.UnknownSchemeError
	)
	switch {
	case errors.As(err, &locked):
		until := time.Now().Add(locked.Wait).Round(time.Second)
		d := Diagnosis{Cause: Locked, Until: &until,
			Summary: "The device is locked: it judges no sign-in at the moment, neither a wrong one nor the right one.",
			Fix: "Wait: Unlatch leaves it alone and tries again by itself. Find out who sends it wrong passwords, an old recorder " +
				"perhaps.", Seen: locked.Seen}
		if !locked.Hinted {
			d.Fix = fmt.Sprintf("It does not say for how long; Unlatch leaves it alone for %d minutes and tries again by itself. Restarting "+
				"the device often ends a lock.", int(locked.Wait.Minutes()))
		}
		return d, true
	case errors.As(err, &held) && held.Locked:
		return Diagnosis{Cause: Locked, Until: &held.Until,
			Summary: "The device is locked: it has said so. Nothing is sent to it until that ends.",
			Fix:     "Wait: Unlatch tries again by itself."}, true
	case errors.As(err, &unknown) && unknown.TooLong:
		return Diagnosis{Cause: Unbounded,
			Summary: fmt.Sprintf("The challenge (WWW-Authenticate) of %s is over %d kB long, which no camera "+
				"sends.", f.Asking, httpauth.MaxLine>>10),
			Fix: "Check what is really listening on that port."}, true
	case errors.As(err, &unknown):
		return Diagnosis{Cause: SchemeUnknown, Summary: "The device refuses without offering a sign-in scheme that can be answered.",
			Fix: "Switch the device to digest sign-in on its own page."}, true
	case errors.As(err, &readable) && readable.Agreed:
		return Diagnosis{Cause: ReadableWaits, Wanted: wantedReadable(readable),
			Summary: fmt.Sprintf("%s takes a sign-in only as %s, in which the password can be read. That goes out only in work that a person "+
				"begins, and this began by itself.", Capital(f.Asking), readable.Scheme),
			Fix: "Open its latches."}, true
	case errors.As(err, &readable) && readable.Channel.TLS():
		return Diagnosis{Cause: Readable, Wanted: wantedReadable(readable),
			Summary: fmt.Sprintf("%s takes a sign-in only as %s, over TLS: whoever holds the certificate at %s can read the password, and "+
				"nobody has said yet that it is the device's own. Nothing was sent.", Capital(f.Asking), readable.Scheme, readable.Channel.At),
			Fix: "Compare the certificate with the one on the device's own page and take it; or agree to send the password to whoever answers " +
				"there; or switch the device to digest sign-in."}, true
	case errors.As(err, &readable):
		return Diagnosis{Cause: Readable, Wanted: wantedReadable(readable),
			Summary: fmt.Sprintf("%s takes a sign-in only as %s: whoever answers or listens on this network can read the password. Nothing was "+
				"sent.", Capital(f.Asking), readable.Scheme),
			Fix: "Agree to it for this device, its model or the site, if you trust this network; or switch the device to digest sign-in on " +
				"its own page."}, true
	case errors.As(err, &weaker):
		return Diagnosis{Cause: SchemeWeaker, Wanted: &Wanted{Service: weaker.Service, Scheme: weaker.Now, Before: weaker.Before},
			Summary: fmt.Sprintf("%s now wants the sign-in as %s; it has always taken it as %s. Nothing was sent: a stranger in its place "+
				"would ask like this.", Capital(f.Asking), weaker.Now, weaker.Before),
			Fix: "Find out who answers at this address. If the device was reset or its sign-in scheme was changed, agree to the weaker one."}, true
	case errors.As(err, &held):
		return Diagnosis{Cause: HeldBack, Until: &held.Until,
			Summary: fmt.Sprintf("%d sign-ins were refused or left unanswered. One more could lock the device.", held.Wrong),
			Fix: "Wait: Unlatch goes on by itself with the rest of the keyring. A sign-in that is added for this device is tried " +
				"first then."}, true
	}
	return Diagnosis{}, false
}

func explainAddress(err error, _ Facts) (Diagnosis, bool) {
	var (
		occupied *netconfig.OccupiedError
		stayed   *netconfig.StayedError
		lost     *netconfig.LostError
		impostor *netconfig.ImpostorError
	)
	switch {
	case errors.As(err, &occupied):
		return Diagnosis{Cause: AddressTaken, Summary: fmt.Sprintf("%s is taken: something answers there on port %d. Nothing was sent.",
			occupied.Addr, occupied.Port),
			Fix: "Sweep again to see what it is, and plan another address."}, true
	case errors.As(err, &impostor):
		return Diagnosis{Cause: AddressTaken, Summary: fmt.Sprintf("Another device answers at %s, and this one was not heard since.",
			impostor.Addr),
			Fix: "Two devices may have the address now. Unplug one, sweep again, and give one another address."}, true
	case errors.As(err, &stayed):
		return Diagnosis{Cause: AddressRefused, Summary: fmt.Sprintf("The device accepted %s and came back at %s.", stayed.New, stayed.Old),
			Fix: "Restart it by hand and sweep again; some devices lock their address on their own page."}, true
	case errors.As(err, &lost):
		return Diagnosis{Cause: DeviceLost, Summary: fmt.Sprintf("The device was sent to a new address and did not come back within %s.",
				lost.Wait),
				Fix: "Check mask and gateway, wait for a slow restart, then sweep again: it is known by its identity wherever it answers."},
			true
	}
	return Diagnosis{}, false
}

func explainStream(err error, f Facts) (Diagnosis, bool) {
	var (
		auth    *rtsp.AuthError
		status  *rtsp.StatusError
		silent  *rtsp.SilentError
		limit   *rtsp.LimitError
		wrong   *rtsp.WrongProtocolError
		protoco *rtsp.ProtocolError
		cert    *certificate.ChangedError
		tunnel  *rtsp.NoTunnelError
		down    *rtsp.DowngradeError
	)
	switch {
	case errors.As(err, &cert):
		return Diagnosis{Cause: CertificateChanged,
				Summary: fmt.Sprintf("%s shows another certificate than before. No sign-in was sent to "+
					"it.", f.at()),
				Fix: "If the device was reset, replaced or given a new certificate, take the new one. If nobody did that, find out who answers at " +
					"this address.",
				Seen: fmt.Sprintf("SHA-256 %s, until %s; before %s", cert.Shown.SHA256, cert.Shown.Until.Format("2006-01-02"), cert.Pinned)},
			true
	case errors.As(err, &tunnel):
		return Diagnosis{Cause: NotRTSP, Summary: fmt.Sprintf("%s is a web port: %s.", f.at(), tunnel),
			Fix: "Use the stream port, usually 554. The device service names it."}, true
	case errors.As(err, &auth):
		return explainAuth(auth, f), true
	case errors.As(err, &status):
		return explainStatus(status, f), true
	case errors.As(err, &down):
		return Diagnosis{Cause: RedirectLost, Summary: Capital(down.Error()) + ".",
			Fix: "Take the plain URL by hand if you trust this network, or find out who sends the redirect."}, true
	case errors.As(err, &silent) && silent.Requests > 0:
		return Diagnosis{Cause: OwnRequests, Summary: fmt.Sprintf("%s sends requests of its own (%d of them) and answers none.", f.at(),
			silent.Requests),
			Fix: "It may expect a server at this end. Check that the port is its stream port."}, true
	case errors.As(err, &silent) && silent.Others > 0:
		return Diagnosis{Cause: Broken, Summary: fmt.Sprintf("%s answers, but not what was asked: the sequence numbers (CSeq) of its "+
			"answers are others.", f.at()),
			Fix: "Check the port; if it is right, the firmware is broken: keep the exchange for the maker's support."}, true
	case errors.As(err, &silent) && silent.Frames > 0:
		return Diagnosis{Cause: Broken, Summary: fmt.Sprintf("%s sends packets (%d of them) in place of an answer.", f.at(), silent.Frames),
			Fix: "Check the port; if it is right, restart the device, and keep the exchange for the maker's support."}, true
	case errors.As(err, &silent) && silent.Bytes > 0:
		return tooSlow(f, silent.Bytes, silent.After), true
	case errors.As(err, &silent) && strings.Contains(silent.Waiting, "packets"):
		return Diagnosis{Cause: NoPackets, Summary: "The device accepted PLAY and then sent no packets.",
			Fix: "Check on its own page that this stream is switched on; restart the device if it is."}, true
	case errors.As(err, &silent):
		return Diagnosis{Cause: Silent, Summary: fmt.Sprintf("%s takes the connection and says nothing.", f.at()),
			Fix: "The service behind the port hangs, or it is not RTSP. Restart the device, or read its stream port from the device service."}, true
	case errors.As(err, &limit):
		return Diagnosis{Cause: Unbounded, Summary: fmt.Sprintf("%s sends an answer without end (%s over %d), which no camera does.",
			f.at(), limit.What, limit.Limit),
			Fix: "Check what is really listening on that port."}, true
	case errors.As(err, &wrong):
		return Diagnosis{Cause: NotRTSP, Summary: fmt.Sprintf("%s speaks %s, not RTSP: this is a web port.", f.at(), wrong.Spoken),
			Fix: "Use the stream port, usually 554. The device service names it."}, true
	case errors.As(err, &protoco):
		return Diagnosis{Cause: Broken, Summary: fmt.Sprintf("What %s answers cannot be read as RTSP.", f.at()),
			Fix: "Check the port; if it is right, the firmware may be broken: keep the exchange for the maker's support."}, true
	}
	return Diagnosis{}, false
}

// tooSlow says that a device answers and does not finish in time.
func tooSlow(f Facts, bytes int64, after time.Duration) Diagnosis {
	return Diagnosis{Cause: TooSlow, Summary: fmt.Sprintf("%s answers, but too slowly: %d bytes in %s and no end.", f.at(), bytes,
		after.Round(100*time.Millisecond)),
		Fix:  "The device may be overloaded, or the way to it bad: close other viewers, restart it, and try again.",
		Seen: fmt.Sprintf("%d bytes came within %s", bytes, after.Round(100*time.Millisecond))}
}

func explainAuth(auth *rtsp.AuthError, f Facts) Diagnosis {
	offered := strings.Join(auth.Offered, ", ")
	if !auth.Tried {
		return Diagnosis{Cause: NoSignIn, Summary: fmt.Sprintf("The stream wants a sign-in (%s) and there is none to try.", offered),
			Fix: "Add the sign-in for this device to the keyring."}
	}
	return Diagnosis{Cause: WrongSignIn, Summary: fmt.Sprintf("The device refuses the sign-in of %q for its streams (%s).", f.User,
		auth.Scheme),
		Fix: "Check the password. Many devices keep a user list of their own for streams: the user may be missing there."}
}

func explainStatus(s *rtsp.StatusError, f Facts) Diagnosis {
	said := fmt.Sprintf("%s was answered with %d %s.", s.Method, s.Status, s.Reason)
	switch s.Status {
	case 403:
		return Diagnosis{Cause: LevelTooLow, Summary: "The device knows this user and does not allow it to see the stream. " + said,
			Fix: "Give the user the right to live pictures on the device's own page, or use another sign-in."}
	case 404:
		return Diagnosis{Cause: PathUnknown, Summary: "The device does not know this path. " + said,
			Fix: "Ask the device itself for its stream URLs; look at upper and lower case and at the channel number."}
	case 503:
		return Diagnosis{Cause: Busy, Summary: "The device cannot serve this stream at the moment. " + said,
			Fix: "It may serve all the viewers it can, or its encoder has stopped: close other viewers, restart the device, try again."}
	case 453:
		return Diagnosis{Cause: SessionLimit, Summary: "The device serves all the viewers it can. " + said,
			Fix: "Close other viewers of this camera (recorders, players, wall panels) or raise its session limit, then try again."}
	case 461:
		return Diagnosis{Cause: TransportRefused, Summary: "The device does not send this stream over TCP. " + said,
			Fix: "Switch on RTP over RTSP (TCP) on the device's own page."}
	}
	return Diagnosis{Cause: StreamStatus, Summary: "The device turns the stream down. " + said,
		Fix: "Look at the exchange below; restart the device if its answer makes no sense."}
}

func explainMedia(err error, _ Facts) (Diagnosis, bool) {
	var (
		sdp *media.SDPError
		sps *media.HeaderError
		pic *PictureError
	)
	switch {
	case errors.As(err, &sdp):
		return Diagnosis{Cause: BadDescription, Summary: Capital(sdp.Error()) + ".",
			Fix: "Check the path: some devices answer any path with an empty description."}, true
	case errors.As(err, &sps):
		return Diagnosis{Cause: BadParameterSet, Summary: Capital(sps.Error()) + ".",
			Fix: "Set the resolution again on the device, or restart it; no player can decode this."}, true
	case errors.As(err, &pic):
		return pic.diagnosis(), true
	}
	return Diagnosis{}, false
}

// OutOfTime says that a device answers, and took longer for a step than any step gets. got is what was found until then.
func OutOfTime(after time.Duration, got string) Diagnosis {
	d := Diagnosis{Cause: TooSlow, Summary: fmt.Sprintf("The device answers so slowly that this was not done within %s.",
		after.Round(time.Second)),
		Fix:  "Try again: it goes on from where it was. Close other viewers or restart the device if it stays like this.",
		Seen: fmt.Sprintf("stopped after %s", after.Round(time.Second))}
	if got != "" {
		d.Summary += " Found until then: " + got + "."
	}
	return d
}

// ClaimedBy says that something at another address claims to be a device which still answers at its own.
func ClaimedBy(at, still netip.Addr, method string) Diagnosis {
	return Diagnosis{Cause: Impostor, Summary: fmt.Sprintf("Something at %s says that it is this device, which still answers at %s. "+
		"Nothing was sent there.", at, still),
		Fix:  "Find out what answers there. If the device itself was moved, switch off what is still at its old address and sweep again.",
		Seen: fmt.Sprintf("heard by %s from %s while %s answered", method, at, still)}
}

// NotKnownAgain says that a device has moved, as far as it says, and that nothing which a stranger lacks confirms it. why is what
// went wrong with the sign-in that opened it before.
func NotKnownAgain(before, now netip.Addr, why Diagnosis) Diagnosis {
	return Diagnosis{Cause: Stranger, Summary: fmt.Sprintf("What answers at %s says that it is the device that was at %s, and does not "+
		"prove it. Only the sign-in that opened it there was tried.", now, before),
		Fix:  "Look at the device. If it is the same one, add its sign-in for this device, or forget it and let it be found anew.",
		Seen: why.Summary, Until: why.Until}
}
