package bringup

import (
	"context"
	"errors"
	"io"
	"net"
	"syscall"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/picture"
	"unlatch/core/wire/rtsp"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/hub"
)

// Leave is leave to send a sign-in of the keyring to the device under work.
func (w *Work) Leave(key uuid.UUID, purpose signin.Purpose) signin.Leave {
	return w.leave(w.d, key, purpose, nil)
}

// leave returns the one way by which a sign-in of the keyring goes out to a device: in a scheme that is not weaker than before, readable
// only where a person has agreed and has begun the work, and counted by the guard that keeps the device from locking. reading turns an
// error of the device into what it means for the count; it may be nil.
func (w *Work) leave(d *latch.Device, key uuid.UUID, purpose signin.Purpose, reading func(error) error) signin.Leave {
	if key == uuid.Nil {
		return nil
	}
	return func(ctx context.Context, s signin.Sending) (func(error), error) {
		w.schemes.Lock()
		err := d.Status.Policy(purpose, key, !w.Unattended).Check(s)
		w.schemes.Unlock()
		if err != nil {
			return nil, err
		}
		t := &sentTry{key: key, purpose: purpose, sending: s}
		t.id, err = leaveGate{w}.begin(ctx, d, key, purpose, s.Channel.Host())
		if err != nil {
			return nil, err
		}
		return func(err error) {
			if reading != nil {
				err = reading(err)
			}
			// The count must be right even when the work is cut short here.
			leaveGate{w}.end(context.WithoutCancel(ctx), d, t, err)
		}, nil
	}
}

// A leaveGate is asked before a sign-in goes out, and counts each try.
type leaveGate struct{ *Work }

// begin asks the guard for one try on a device. If the guard refuses, the error is a *signin.HeldBackError.
func (w leaveGate) begin(ctx context.Context, d *latch.Device, key uuid.UUID, purpose signin.Purpose, host string) (uuid.UUID, error) {
	return w.patiently(ctx, func() (uuid.UUID, error) { return w.Keyring.Begin(ctx, d, key, purpose, host) })
}

// patiently asks the guard for one try. It asks again if only the space between two tries is missing, or if the result of another try is
// not known yet.
func (w *Work) patiently(ctx context.Context, ask func() (uuid.UUID, error)) (uuid.UUID, error) {
	for {
		try, err := ask()
		held := new(signin.HeldBackError)
		switch {
		case errors.As(err, &held) && held.Spacing:
			if err := w.Clock.Sleep(ctx, max(0, held.Until.Sub(w.Clock.Now()))+5*time.Millisecond); err != nil {
				return try, err
			}
		case err != nil && !errors.As(err, &held) && !errors.As(err, new(*target.RefusedBeforeError)):
			return try, &OwnError{err}
		default:
			return try, err
		}
	}
}

// resultOf reads what came of a sign-in that went out. A device that has not answered may have judged it all the same.
func resultOf(err error) (signin.Result, time.Duration) {
	locked := new(signin.LockedError)
	switch {
	case err == nil:
		return signin.Opened, 0
	case errors.As(err, &locked):
		return signin.Shut, locked.Wait
	case refused(err):
		return signin.Refused, 0
	case unseen(err):
		return signin.Unseen, 0
	}
	return signin.NoAnswer, 0
}

// unseen reports whether no answer to a sign-in was seen: time ran out, the connection broke, or the work was cut short.
func unseen(err error) bool {
	var timeout net.Error
	return errors.As(err, &timeout) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) ||
		errors.As(err, new(*rtsp.SilentError))
}

// A sentTry is a sign-in that went out, with the guard's name of the try.
type sentTry struct {
	id      uuid.UUID
	key     uuid.UUID
	purpose signin.Purpose
	sending signin.Sending
}

// end keeps how a try ended. Where the device has taken the sign-in it keeps the scheme, if that is stronger than before, and the
// certificate whose holder has now read the password.
func (w leaveGate) end(ctx context.Context, d *latch.Device, t *sentTry, err error) {
	result, wait := resultOf(err)
	kerr := w.Keyring.End(ctx, t.id, result, wait)
	w.schemes.Lock()
	defer w.schemes.Unlock()
	scheme, service := t.sending.Scheme, string(t.purpose)
	if kerr == nil && result == signin.Opened && signin.Strength(scheme) > signin.Strength(d.Status.Schemes[service]) {
		kerr = w.add(ctx, d, Finding{Subject: service, Body: evidence.Scheme{Scheme: scheme}})
		d.Status.Schemes[service] = scheme
	}
	key, shown := t.key.String(), t.sending.Channel.Certificate
	if kerr == nil && result == signin.Opened && signin.Readable(scheme) && shown != "" && d.Status.OpenedUnder[key] != shown {
		kerr = w.add(ctx, d, Finding{Subject: key, Body: evidence.OpenedUnder{Certificate: shown}})
		d.Status.OpenedUnder[key] = shown
	}
	if kerr != nil { // the try stays pending, which counts as refused until somebody looks after its worker
		w.Report.Warn("how a try ended could not be kept", kerr)
	}
}

// refused reports whether a device has judged a sign-in and turned it down.
func refused(err error) bool {
	var service *onvif.RefusedError
	var stream *rtsp.AuthError
	var web *picture.RefusedError
	return errors.As(err, &service) || errors.As(err, &stream) || errors.As(err, &web) || errors.As(err, new(*bridge.RefusedError)) ||
		errors.As(err, new(*hub.RefusedError))
}

// heldBack reports whether a sign-in was not sent, or not judged, for a reason that holds for the next address too.
func heldBack(err error) bool {
	return errors.As(err, new(*signin.HeldBackError)) || errors.As(err, new(*signin.LockedError)) ||
		errors.As(err, new(*signin.ReadableError)) || errors.As(err, new(*signin.WeakerError))
}
