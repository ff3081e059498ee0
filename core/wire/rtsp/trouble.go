package rtsp

import (
	"strings"

	"unlatch/core/ground/exchange"
	"unlatch/core/ground/trouble"
)

// Trouble says whether there was no sign-in to try or the one that was tried is refused.
func (e *AuthError) Trouble() trouble.Trouble {
	if !e.Tried {
		return trouble.Trouble{Cause: trouble.NoSignIn, Form: "stream", Facts: trouble.Facts{"offered": strings.Join(e.Offered, ", ")}}
	}
	return trouble.Trouble{Cause: trouble.WrongSignIn, Form: "stream", Facts: trouble.Facts{"scheme": e.Scheme}}
}

// causes of the statuses that say why (RFC 2326 §11).
var causes = map[int]trouble.Cause{403: trouble.LevelTooLow, 404: trouble.PathUnknown, 453: trouble.SessionLimit,
	461: trouble.TransportRefused, 503: trouble.Busy}

// Trouble says what the status means.
func (e *StatusError) Trouble() trouble.Trouble {
	cause, ok := causes[e.Status]
	if !ok {
		cause = trouble.StreamStatus
	}
	return trouble.Trouble{Cause: cause, Form: "stream"}
}

// Trouble tells apart a device that says nothing from one that says something else than was asked.
func (e *SilentError) Trouble() trouble.Trouble {
	switch {
	case e.Requests > 0:
		return trouble.Trouble{Cause: trouble.OwnRequests, Facts: trouble.Facts{"requests": e.Requests}}
	case e.Others > 0:
		return trouble.Trouble{Cause: trouble.Broken, Form: "other answers"}
	case e.Frames > 0:
		return trouble.Trouble{Cause: trouble.Broken, Form: "packets", Facts: trouble.Facts{"packets": e.Frames}}
	case e.Bytes > 0:
		return exchange.TooSlow(e.Bytes, e.After)
	case e.Playing:
		return trouble.Trouble{Cause: trouble.NoPackets, Form: "at all"}
	}
	return trouble.Trouble{Cause: trouble.Silent, Form: "stream"}
}

// Trouble says that the answer has no end.
func (e *LimitError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.Unbounded, Form: "stream", Facts: trouble.Facts{"what": e.What, "limit": e.Limit}}
}

// Trouble says that the port speaks something else.
func (e *WrongProtocolError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.NotRTSP, Facts: trouble.Facts{"spoken": e.Spoken}}
}

// Trouble says that the answer cannot be read.
func (e *ProtocolError) Trouble() trouble.Trouble { return trouble.Trouble{Cause: trouble.Broken} }

// Trouble says that a web port carries no RTSP.
func (e *NoTunnelError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.NotRTSP, Form: "no tunnel"}
}

// Trouble says that a redirect was not followed.
func (e *DowngradeError) Trouble() trouble.Trouble {
	return trouble.Trouble{Cause: trouble.RedirectLost, Form: "out of TLS"}
}
