package bringup

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"unlatch/core/evidence"
	"unlatch/core/onvif"
	"unlatch/core/picture"
	"unlatch/core/rtsp"
	"unlatch/core/signin"
)

// Leave is leave to send a sign-in of the keyring to the device under work.
func (w *Work) Leave(key uuid.UUID, purpose signin.Purpose) signin.Leave {
	return w.leave(w.d, key, purpose, nil)
}

// leave is the one way by which a sign-in of the keyring goes out to a device: in a scheme that is not weaker than before, readable only
// where a person has agreed and has begun the work, and counted by the guard that keeps the device from locking. reading turns an error
// of the device into what it means for the count; it may be nil.
func (w *Work) leave(d *Device, key uuid.UUID, purpose signin.Purpose, reading func(error) error) signin.Leave {
	if key == uuid.Nil {
		return nil
	}
	return func(ctx context.Context, s signin.Sending) (func(error), error) {
		w.schemes.Lock()
		err := d.Status.Policy(string(purpose), !w.Unattended).Check(s)
		w.schemes.Unlock()
		if err != nil {
			return nil, err
		}
		try, err := w.begin(ctx, d, key, purpose)
		if err != nil {
			return nil, err
		}
		return func(err error) {
			if reading != nil {
				err = reading(err)
			}
			// The count must be right even when the work is cut short here.
			w.end(context.WithoutCancel(ctx), d, try, purpose, s.Scheme, err)
		}, nil
	}
}

// begin asks the guard for one try and waits where only the space between two tries is missing. A *signin.HeldBackError is its no.
func (w *Work) begin(ctx context.Context, d *Device, key uuid.UUID, purpose signin.Purpose) (uuid.UUID, error) {
	for {
		try, err := w.Keyring.Begin(ctx, d, key, purpose)
		held := new(signin.HeldBackError)
		switch {
		case errors.As(err, &held) && held.Spacing:
			if err := w.Clock.Sleep(ctx, held.Until.Sub(w.Clock.Now())+5*time.Millisecond); err != nil {
				return try, err
			}
		case err != nil && !errors.As(err, &held):
			return try, &OwnError{err}
		default:
			return try, err
		}
	}
}

// end keeps how a try ended, and the scheme in which the device took the sign-in where that is stronger than before.
func (w *Work) end(ctx context.Context, d *Device, try uuid.UUID, purpose signin.Purpose, scheme string, err error) {
	result, locked := signin.NoAnswer, new(signin.LockedError)
	switch {
	case errors.As(err, &locked):
		result = signin.Shut
	case err == nil:
		result = signin.Opened
	case refused(err):
		result = signin.Refused
	}
	kerr := w.Keyring.End(ctx, try, result, locked.Wait)
	w.schemes.Lock()
	defer w.schemes.Unlock()
	if kerr == nil && result == signin.Opened && signin.Strength(scheme) > signin.Strength(d.Status.Schemes[string(purpose)]) {
		kerr = w.Record.Add(ctx, d, Finding{Subject: string(purpose), Body: evidence.Scheme{Scheme: scheme}})
		d.Status.Schemes[string(purpose)] = scheme
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
	return errors.As(err, &service) || errors.As(err, &stream) || errors.As(err, &web)
}

// heldBack reports whether a sign-in was not sent, or not judged, for a reason that holds for the next address too.
func heldBack(err error) bool {
	return errors.As(err, new(*signin.HeldBackError)) || errors.As(err, new(*signin.LockedError)) ||
		errors.As(err, new(*signin.ReadableError)) || errors.As(err, new(*signin.WeakerError))
}
