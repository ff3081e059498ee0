package diagnose

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"syscall"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
)

// explainReachingTarget words why a target could not be asked. It names the target and where that answers: a camera's name or port has no
// place in it.
func explainReachingTarget(err error, f Facts) (Diagnosis, bool) {
	if d, ok := explainTargetGate(err, f); ok {
		return d, true
	}
	var (
		scope   *address.OutOfScopeError
		slow    *exchange.SlowError
		mute    *exchange.MuteError
		timeout net.Error
	)
	name := fmt.Sprintf("%s (%s)", Capital(f.Asking), f.at())
	switch {
	case errors.As(err, &scope):
		return Diagnosis{Cause: OutOfScope, Summary: fmt.Sprintf("%s is neither in this site's ranges (%s) nor the stated address of a target.",
			scope.Addr, scope.Ranges), Fix: "Correct the target's address."}, true
	case errors.As(err, &slow):
		return Diagnosis{Cause: TooSlow, Summary: fmt.Sprintf("%s answers so slowly that nothing can be done with it: %d bytes in %s.", name,
			slow.Bytes, slow.After), Fix: "The target may be overloaded, or the way to it bad. Other targets are not held up by it."}, true
	case errors.As(err, &mute):
		return Diagnosis{Cause: Silent, Summary: name + " takes the connection and says nothing.",
			Fix: "Restart what answers there, or correct its port."}, true
	case errors.Is(err, syscall.ECONNREFUSED):
		return Diagnosis{Cause: PortClosed, Summary: fmt.Sprintf("%s: the machine is there, and nothing listens on that port.", name),
			Fix: "Start what shall answer there, or correct the target's port."}, true
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return Diagnosis{Cause: NoAnswer, Summary: fmt.Sprintf("There is no way from this machine to %s.", name),
			Fix: "Check the cable, and that this machine has an address in that subnet."}, true
	case strings.Contains(err.Error(), "malformed HTTP"): // net/http has no type for it
		return Diagnosis{Cause: NotHTTP, Summary: name + " does not speak HTTP there.", Fix: "Correct the target's port."}, true
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return Diagnosis{Cause: NoAnswer, Summary: name + " does not answer.", Fix: "Check that it is switched on, and its address."}, true
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), strings.Contains(err.Error(), "EOF"):
		return Diagnosis{Cause: Dropped, Summary: name + " closed the connection in the middle.", Fix: "Look at it again in a moment."}, true
	}
	return Diagnosis{}, false
}

// explainTargetGate words why nothing was sent to a target.
func explainTargetGate(err error, f Facts) (Diagnosis, bool) {
	var (
		held   *signin.HeldBackError
		weaker *signin.WeakerError
		cert   *certificate.ChangedError
	)
	switch {
	case errors.As(err, &held):
		return Diagnosis{Cause: HeldBack, Until: &held.Until,
			Summary: fmt.Sprintf("%s has refused %d sign-ins, or left them unanswered. One more "+
				"could lock it.", Capital(f.Asking), held.Wrong), Fix: "Put the right sign-in in place first, and wait."}, true
	case errors.As(err, &weaker):
		return Diagnosis{Cause: SchemeWeaker, Wanted: &Wanted{Service: weaker.Service, Scheme: weaker.Now, Before: weaker.Before},
			Summary: fmt.Sprintf("%s now wants its sign-in as %s; it has always taken it as %s. Nothing was sent: a stranger in its "+
				"place would ask "+
				"like this.", Capital(f.Asking), weaker.Now, weaker.Before),
			Fix: "Find out who answers there. If the target was set up anew, agree for it on the target's page."}, true
	case errors.As(err, &cert):
		return Diagnosis{Cause: CertificateChanged, Summary: fmt.Sprintf("%s shows another certificate than before. Nothing was sent to it.",
			Capital(f.Asking)),
			Fix: "If the target was replaced or given a new certificate, take it on the target's page. If nobody did that, find out who " +
				"answers there.",
			Seen: fmt.Sprintf("SHA-256 %s, before %s", cert.Shown.SHA256, cert.Pinned)}, true
	}
	return Diagnosis{}, false
}
