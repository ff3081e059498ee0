package player

import (
	"fmt"
	"time"

	"unlatch/core/ground/trouble"
)

// A NoTransportError means that no picture has come in datagrams within the time, and says what came instead.
type NoTransportError struct {
	At        string // where it was listened
	After     time.Duration
	Packets   int // of a transport stream, that came
	Scrambled int // of those
	Tables    bool
	Others    int // datagrams that hold something else: RTP of another payload
}

func (e *NoTransportError) Error() string {
	switch {
	case e.Packets == 0 && e.Others > 0:
		return fmt.Sprintf("%d datagrams that came to %s hold RTP and no transport stream", e.Others, e.At)
	case e.Packets == 0:
		return fmt.Sprintf("nothing has come to %s within %s", e.At, e.After)
	case e.Scrambled > 0:
		return fmt.Sprintf("%d of %d packets that came to %s are scrambled", e.Scrambled, e.Packets, e.At)
	case !e.Tables:
		return fmt.Sprintf("%d packets have come to %s within %s, and no table that says what they hold", e.Packets, e.At, e.After)
	}
	return fmt.Sprintf("%d packets have come to %s within %s, and no picture", e.Packets, e.At, e.After)
}

// Trouble implements trouble.Troubled.
func (e *NoTransportError) Trouble() trouble.Trouble {
	t := trouble.Trouble{Cause: trouble.NothingSent, Facts: trouble.Facts{"at": e.At}}
	switch {
	case e.Packets == 0 && e.Others > 0:
		t.Form = "bare"
	case e.Packets == 0:
	case e.Scrambled > 0:
		t.Form = "scrambled"
	case !e.Tables:
		t.Form = "no tables"
	default:
		t.Form = "no picture"
	}
	return t
}

// An UnreadError means that the stream's picture is of a codec that is not read.
type UnreadError struct{ Codec string }

func (e *UnreadError) Error() string {
	return "the stream's picture is " + e.Codec + ", which is not read"
}
