package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"syscall"
	"time"

	"github.com/google/uuid"

	"unlatch/core/diagnose"
	"unlatch/core/evidence"
	"unlatch/core/exchange"
	"unlatch/core/onvif"
	"unlatch/core/picture"
	"unlatch/core/rtsp"
	"unlatch/core/signin"
	"unlatch/store"
)

// signIn tries the person's keyring, the likeliest key first, under the guard that keeps the device from locking. The
// first question is asked without any sign-in: a device that lets anyone in says so by answering.
func (o *opening) signIn(ctx context.Context) error {
	if o.streamOnly() {
		return o.signInStream(ctx)
	}
	if o.d.Via != nil {
		return o.signInByRecorder(ctx)
	}
	log := exchange.NewLog(nil)
	found, err := o.try(ctx, uuid.Nil, signin.SignIn{}, log)
	if err == nil {
		found.Open = true
		return o.signedIn(ctx, found, log)
	}
	if !refused(err) {
		return o.notSignedIn(ctx, evidence.SignedIn{}, err, "", log)
	}
	return o.tryKeys(ctx, store.DeviceService, log, func(key store.SignIn, in signin.SignIn) (evidence.SignedIn, error) {
		return o.try(ctx, key.ID, in, log)
	})
}

// candidates are the keys to try on the device for one purpose, in order.
func (o *opening) candidates(ctx context.Context, purpose store.Purpose) ([]store.SignIn, error) {
	return o.env.store.Candidates(ctx, o.d.ID, o.d.Site, store.Known{Words: strings.Join([]string{o.d.Status.Device.Maker, o.d.Status.Device.Name, o.d.Status.Device.Hardware}, " "), Kind: o.kind()}, purpose)
}

// kind is what the device has in common with others of its kind: its model, and where it tells none its name.
func (o *opening) kind() string {
	dev := o.d.Status.Device
	return strings.TrimSpace(dev.Maker + " " + cmp.Or(dev.Hardware, dev.Name))
}

// tryKeys tries the keyring in its order until one opens the device or a refusal is not what comes back.
func (o *opening) tryKeys(ctx context.Context, purpose store.Purpose, log *exchange.Log, try func(store.SignIn, signin.SignIn) (evidence.SignedIn, error)) error {
	keys, err := o.candidates(ctx, purpose)
	if err != nil {
		return err
	}
	out := evidence.SignedIn{StreamOnly: o.streamOnly()}
	last, user := error(&onvif.RefusedError{NoSignIn: true}), ""
	for _, key := range keys {
		user = key.User
		var found evidence.SignedIn
		found, last = o.tryKey(ctx, key, purpose, len(out.Tried) > 0, log, try)
		if last == nil {
			found.SignIn, found.Label, found.User, found.Factory = key.ID, key.Label, key.User, key.Factory
			return o.signedIn(ctx, found, log)
		}
		out.Tried = append(out.Tried, key.Label)
		if !refused(last) {
			break
		}
	}
	return o.notSignedIn(ctx, out, last, user, log)
}

// refused reports whether a device has judged a sign-in and turned it down.
func refused(err error) bool {
	var service *onvif.RefusedError
	var stream *rtsp.AuthError
	var web *picture.RefusedError
	return errors.As(err, &service) || errors.As(err, &stream) || errors.As(err, &web)
}

// signedIn records what opened the device, and what it told of itself.
func (o *opening) signedIn(ctx context.Context, found evidence.SignedIn, log *exchange.Log) error {
	if err := o.record(ctx, store.Finding{Kind: evidence.KindSignedIn, Body: found, Exchange: log.String()}); err != nil {
		return err
	}
	return o.env.store.Keep(ctx, "a device's identity", func(ctx context.Context) error {
		return o.env.store.Identify(ctx, o.d.ID, found.Info.Serial, found.MAC)
	})
}

func (o *opening) notSignedIn(ctx context.Context, out evidence.SignedIn, err error, user string, log *exchange.Log) error {
	diagnosis, err := explain(ctx, err, o.facts(o.d.Status.Device.XAddr, "the device service", user))
	if err != nil {
		return err
	}
	if len(out.Tried) == 0 && diagnosis.Cause == diagnose.NoSignIn {
		if before := o.d.Status.SignedIn; before != nil && len(before.Tried) > 0 {
			diagnosis.Summary = fmt.Sprintf("Every sign-in on the keyring was refused before (%s).", strings.Join(before.Tried, ", "))
			diagnosis.Fix = "Add the sign-in that is right for this device. What was refused is not sent again."
			out.Tried = before.Tried
		}
	}
	if len(out.Tried) > 1 && diagnosis.Cause == diagnose.WrongSignIn {
		diagnosis.Summary = fmt.Sprintf("The device service refuses all %d sign-ins of the keyring that may be tried (%s).", len(out.Tried), strings.Join(out.Tried, ", "))
	}
	out.Diagnosis = diagnosis
	if err := o.record(ctx, store.Finding{Kind: evidence.KindSignedIn, Body: out, Exchange: log.String()}); err != nil {
		return err
	}
	return o.wakeAt(ctx, diagnosis)
}

// tryKey sends one key once, counted by the guard before it is sent. after says that the device has refused another one just before.
func (o *opening) tryKey(ctx context.Context, key store.SignIn, purpose store.Purpose, after bool, log *exchange.Log, attempt func(store.SignIn, signin.SignIn) (evidence.SignedIn, error)) (found evidence.SignedIn, err error) {
	in, err := o.env.store.Unseal(ctx, key.ID)
	if err != nil {
		return found, &ownError{err}
	}
	err = o.counted(ctx, key.ID, purpose, func() (err error) {
		log.Note("trying %q: %s", key.Label, key.Why)
		found, err = attempt(key, in)
		return lockedAfterAll(key, err, after)
	})
	return found, err
}

// lockedAfterAll takes two answers for a lock that do not say so: the refusal of a sign-in that has opened the device before, the first time that
// it comes, and a connection that is dropped on a sign-in just after another was refused.
func lockedAfterAll(key store.SignIn, err error, after bool) error {
	switch {
	case key.Opened != nil && key.Last != store.Locked && refused(err):
		return &signin.LockedError{Wait: signin.DefaultWait, Seen: fmt.Sprintf("it refuses %q, which has opened it before; the password may have been changed, too", key.Label)}
	case after && (errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)):
		return &signin.LockedError{Wait: signin.DefaultWait, Seen: "it drops the connection since it has refused a sign-in"}
	}
	return err
}

// counted makes one try of a sign-in under the guard that keeps the device from locking, and keeps how it ended. A *signin.HeldBackError is
// the guard's no.
func (o *opening) counted(ctx context.Context, key uuid.UUID, purpose store.Purpose, attempt func() error) error {
	try, err := o.env.store.BeginTry(ctx, o.d.ID, key, purpose, o.kind())
	held := new(signin.HeldBackError)
	for errors.As(err, &held) && held.Spacing {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Until(held.Until) + 5*time.Millisecond):
		}
		try, err = o.env.store.BeginTry(ctx, o.d.ID, key, purpose, o.kind())
	}
	if err != nil && !errors.As(err, &held) {
		err = &ownError{err}
	}
	if err != nil {
		return err
	}
	err = attempt()
	result, locked := store.NoAnswer, new(signin.LockedError)
	switch {
	case errors.As(err, &locked):
		result = store.Locked
	case err == nil:
		result = store.Opened
	case refused(err):
		result = store.Refused
	}
	// The count must be right even when the work is cut short here.
	if kerr := o.env.store.Keep(context.WithoutCancel(ctx), "a try", func(ctx context.Context) error { return o.env.store.EndTry(ctx, try, result, locked.Wait) }); kerr != nil {
		return &ownError{kerr}
	}
	return err
}

// try asks the question that proves a sign-in, and what the device is.
func (o *opening) try(ctx context.Context, key uuid.UUID, in signin.SignIn, log *exchange.Log) (evidence.SignedIn, error) {
	out := evidence.SignedIn{SignIn: key}
	c := onvif.New(o.d.Status.Device.XAddr, onvif.Options{Dial: o.guard, SignIn: in, Log: log})
	defer c.Close()
	if _, err := c.Clock(ctx); err != nil {
		return out, err
	}
	info, err := c.Info(ctx)
	if err != nil {
		return out, err
	}
	out.Info, out.Scheme = info, c.Scheme()
	services, err := c.Services(ctx)
	if err != nil {
		return out, err
	}
	out.Recorder = services[onvif.NSRecording] != "" && services[onvif.NSReceiver] != ""
	// A device that does not tell its users is signed in to all the same, and its level stays unknown.
	if users, err := c.Users(ctx); err == nil {
		for _, u := range users {
			if u.Name == in.User {
				out.Level = u.Level
			}
		}
	}
	// Ports and hardware address are read, not guessed. A device that does not tell them is signed in to all the same.
	if protocols, err := c.Protocols(ctx); err == nil {
		out.Protocols = protocols
	}
	if ifaces, err := c.Interfaces(ctx); err == nil {
		for _, i := range ifaces {
			if i.Addr == o.d.Status.Device.Addr || len(ifaces) == 1 {
				out.MAC = i.MAC
			}
		}
	}
	return out, ctx.Err()
}
