package jobs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"syscall"

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
func (o *deviceWork) signIn(ctx context.Context) error {
	if o.streamOnly() {
		return o.signInStream(ctx)
	}
	if o.d.Via != nil {
		return o.signInByRecorder(ctx)
	}
	log := o.newLog()
	found, err := o.try(ctx, uuid.Nil, signin.SignIn{}, nil, log)
	if err == nil {
		found.Open = true
		return o.signedIn(ctx, found, log)
	}
	if !refused(err) {
		return o.notSignedIn(ctx, evidence.SignedIn{}, err, "", log)
	}
	return o.tryKeys(ctx, store.DeviceService, log, func(key store.SignIn, in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
		return o.try(ctx, key.ID, in, leave, log)
	})
}

// candidates are the keys to try on the device for one purpose, in order. A device that has moved and is not known again gets none but
// those that have opened it before: it may be a stranger that collects hashes.
func (o *deviceWork) candidates(ctx context.Context, purpose store.Purpose) ([]store.SignIn, error) {
	list, err := o.env.store.Candidates(ctx, o.d.ID, o.d.Site, store.Known{Words: strings.Join([]string{o.d.Status.Device.Maker, o.d.Status.Device.Name, o.d.Status.Device.Hardware}, " "),
		Kind: o.d.Status.Device.Model()}, purpose, o.retry)
	if o.d.Status.Before.IsValid() {
		list = slices.DeleteFunc(list, func(k store.SignIn) bool { return k.Opened == nil && !slices.Contains(k.Devices, o.d.ID) })
	}
	return list, err
}

// An attempt signs in with one key, with leave to send it.
type attempt func(store.SignIn, signin.SignIn, signin.Leave) (evidence.SignedIn, error)

// tryKeys tries the keyring in its order until one opens the device or a refusal is not what comes back.
func (o *deviceWork) tryKeys(ctx context.Context, purpose store.Purpose, log *exchange.Log, try attempt) error {
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
func (o *deviceWork) signedIn(ctx context.Context, found evidence.SignedIn, log *exchange.Log) error {
	if err := o.record(ctx, store.Finding{Body: found, Exchange: log.String()}); err != nil {
		return err
	}
	return o.env.store.Keep(ctx, "a device's identity", func(ctx context.Context) error {
		return o.env.store.Identify(ctx, o.d.ID, found.Info.Serial, found.MAC)
	})
}

func (o *deviceWork) notSignedIn(ctx context.Context, out evidence.SignedIn, err error, user string, log *exchange.Log) error {
	asking := "the device service"
	if o.streamOnly() {
		asking = "the stream service"
	}
	diagnosis, err := explain(ctx, err, o.facts(o.d.Status.Device.XAddr, asking, user))
	if err != nil {
		return err
	}
	if len(out.Tried) == 0 && diagnosis.Cause == diagnose.NoSignIn {
		if before := o.d.Status.SignedIn; before != nil && len(before.Tried) > 0 {
			diagnosis.Summary = fmt.Sprintf("Every sign-in on the keyring was refused before (%s).", strings.Join(before.Tried, ", "))
			diagnosis.Fix = "Add the sign-in that is right for this device. What was refused is sent again only when you press Try again."
			out.Tried = before.Tried
		}
	}
	if len(out.Tried) > 1 && diagnosis.Cause == diagnose.WrongSignIn {
		diagnosis.Summary = fmt.Sprintf("The device service refuses all %d sign-ins of the keyring that may be tried (%s).", len(out.Tried), strings.Join(out.Tried, ", "))
	}
	if n, err := o.env.store.WrongTries(ctx, o.d.ID); err == nil && diagnosis.Cause == diagnose.WrongSignIn {
		diagnosis.Fix += fmt.Sprintf(" After you have mended it there, Try again sends them once more: %d of %d wrong tries in %d minutes are used.", n, signin.Budget, int(signin.Window.Minutes()))
	}
	out.Diagnosis = o.strangerUnless(diagnosis)
	if err := o.record(ctx, store.Finding{Body: out, Exchange: log.String()}); err != nil {
		return err
	}
	return o.wakeAt(ctx, diagnosis)
}

// tryKey sends one key once, counted by the guard before it is sent. after says that the device has refused another one just before.
func (o *deviceWork) tryKey(ctx context.Context, key store.SignIn, purpose store.Purpose, after bool, log *exchange.Log, try attempt) (found evidence.SignedIn, err error) {
	in, err := o.decrypt(ctx, key.ID)
	if err != nil {
		return found, &ownError{err}
	}
	reading := func(err error) error { return lockedAfterAll(key, err, after) }
	if o.d.Status.Before.IsValid() {
		reading = func(err error) error { return err } // a refusal of what opened it before says here that it is another device
	}
	log.Know(in)
	log.Note("trying %q: %s", key.Label, key.Why)
	found, err = try(key, in, o.leave(o.d, key.ID, purpose, reading))
	return found, reading(err)
}

// lockedAfterAll takes two answers for a lock that do not say so: the refusal of a sign-in that has opened the device before, the first
// time that it comes, and a connection that is dropped on a sign-in just after another was refused.
func lockedAfterAll(key store.SignIn, err error, after bool) error {
	switch {
	case key.Opened != nil && key.Last != store.Locked && refused(err):
		return &signin.LockedError{Wait: signin.DefaultWait, Seen: fmt.Sprintf("it refuses %q, which has opened it before; the password may have been changed, too", key.Label)}
	case after && (errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)):
		return &signin.LockedError{Wait: signin.DefaultWait, Seen: "it drops the connection since it has refused a sign-in"}
	}
	return err
}

// try asks the question that proves a sign-in, and what the device is.
func (o *deviceWork) try(ctx context.Context, key uuid.UUID, in signin.SignIn, leave signin.Leave, log *exchange.Log) (evidence.SignedIn, error) {
	out := evidence.SignedIn{SignIn: key}
	c := onvif.New(o.d.Status.Device.XAddr, onvif.Options{Dial: o.guard, SignIn: in, Leave: leave, Log: log})
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
