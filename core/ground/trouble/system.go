package trouble

import (
	"context"
	"errors"
	"net"
	"os"
	"strings"
	"syscall"
)

// stopped reports whether a person has stopped the work. Whatever else went wrong then is a consequence.
func stopped(err error) bool { return errors.Is(err, context.Canceled) }

// ofSystem reads errors of the operating system, of net and of context.
func ofSystem(err error) Trouble {
	var timeout net.Error
	switch {
	case stopped(err):
		return Trouble{Cause: Stopped}
	case errors.Is(err, syscall.ECONNREFUSED):
		return Trouble{Cause: PortClosed}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return Trouble{Cause: NoAnswer, Form: "no route"}
	case strings.Contains(err.Error(), "malformed HTTP"): // net/http has no type for it
		return Trouble{Cause: NotHTTP}
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return Trouble{Cause: NoAnswer}
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), strings.Contains(err.Error(), "EOF"):
		return Trouble{Cause: Dropped}
	}
	return Trouble{Cause: Unknown}
}
