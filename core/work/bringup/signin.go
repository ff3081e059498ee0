package bringup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"syscall"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/onvif"
)

// A signInStep signs in to a device, with what the keyring holds for it.
type signInStep struct{ *Work }

// signIn tries the person's keyring, the likeliest entry first, under the guard that keeps the device from locking. The first question is
// asked without any sign-in: a device that lets anyone in says so by answering.
func (w signInStep) signIn(ctx context.Context) error {
	if u, given := byHandStep(w).stream(); given && w.streamOnly() && w.d.Status.Reached.StreamServer == nil {
		return byHandStep(w).signIn(ctx, u)
	}
	if w.streamOnly() {
		return pathSearch(w).signInStream(ctx)
	}
	if w.d.Via != nil {
		return w.signInByRecorder(ctx)
	}
	found, err := w.try(ctx, uuid.Nil, signin.SignIn{}, nil)
	if err == nil {
		found.Open = true
		return w.signedIn(ctx, found)
	}
	if !refused(err) {
		return w.notSignedIn(ctx, evidence.SignedIn{}, err, "")
	}
	return w.tryKeys(ctx, signin.DeviceService, func(k Key, in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
		return w.try(ctx, k.ID, in, leave)
	})
}

// signInByRecorder takes the sign-in that opened the recorder: its channels know no other.
func (w signInStep) signInByRecorder(ctx context.Context) error {
	rec, err := w.Record.Device(ctx, *w.d.Via)
	if err != nil {
		return err
	}
	body := evidence.SignedIn{}
	if s := rec.Status.SignedIn; s != nil && rec.Status.Latch(latch.SignedIn).State == latch.Open {
		body.SignIn, body.Label, body.User, body.Scheme = s.SignIn, s.Label, s.User, s.Scheme
	} else {
		body.Diagnosis = &diagnose.Diagnosis{Cause: trouble.RecorderShut,
			Summary: fmt.Sprintf("%s is not signed in to, and this camera is reached through it only.", rec.Title),
			Fix:     "Open the recorder's own latches first.", Seen: "no sign-in is known to open the recorder"}
	}
	return w.Keep(ctx, Finding{Body: body})
}

// signInOf returns the sign-in that opened a device; the anonymous one where it lets anyone in or none is known.
func (w *Work) signInOf(ctx context.Context, d *latch.Device) (signin.SignIn, error) {
	s := d.Status.SignedIn
	if s == nil || s.SignIn == uuid.Nil {
		return signin.SignIn{}, nil
	}
	in, err := w.Decrypt(ctx, s.SignIn)
	if errors.Is(err, ErrGone) {
		return signin.SignIn{}, nil // the device will say that it wants one
	}
	if err != nil {
		return in, &OwnError{err}
	}
	return in, nil
}

// candidates returns the entries to try on the device for one purpose, in order. A device that has moved and is not known again gets none
// but those that have opened it before: it may be a stranger that collects hashes.
func (w signInStep) candidates(ctx context.Context, purpose signin.Purpose) ([]Key, error) {
	list, err := w.Keyring.Candidates(ctx, w.d, purpose, w.Retry)
	if err != nil {
		return nil, &OwnError{err}
	}
	if w.OnlyKnown {
		list = slices.DeleteFunc(list, func(k Key) bool { return !k.Opened })
	}
	if w.d.Status.Before.IsValid() {
		list = slices.DeleteFunc(list, func(k Key) bool { return !k.Opened && !k.Bound })
	}
	return list, nil
}

// An attempt signs in with one entry, with leave to send it.
type attempt func(Key, signin.SignIn, signin.Leave) (evidence.SignedIn, error)

// tryKeys tries the keyring in its order until one entry opens the device or a refusal is not what comes back.
func (w signInStep) tryKeys(ctx context.Context, purpose signin.Purpose, try attempt) error {
	keys, err := w.candidates(ctx, purpose)
	if err != nil {
		return err
	}
	out := evidence.SignedIn{StreamOnly: w.streamOnly()}
	last, user := error(&onvif.RefusedError{NoSignIn: true}), ""
	for _, key := range keys {
		user = key.User
		var found evidence.SignedIn
		found, last = w.tryKey(ctx, key, purpose, len(out.Tried) > 0, try)
		if last == nil {
			found.SignIn, found.Label, found.User, found.Factory = key.ID, key.Label, key.User, key.Factory
			return w.signedIn(ctx, found)
		}
		out.Tried = append(out.Tried, key.Label)
		if !refused(last) {
			break
		}
	}
	return w.notSignedIn(ctx, out, last, user)
}

// tryKey sends one entry once, counted by the guard before it is sent. after says that the device has refused another one just before.
func (w signInStep) tryKey(ctx context.Context, key Key, purpose signin.Purpose, after bool, try attempt) (
	found evidence.SignedIn, err error) {
	in, err := w.Decrypt(ctx, key.ID)
	if err != nil {
		return found, &OwnError{err}
	}
	reading := func(err error) error { return lockedAfterAll(key, err, after) }
	if w.d.Status.Before.IsValid() {
		reading = func(err error) error { return err } // a refusal of what opened it before says here that it is another device
	}
	w.log.Note("trying %q: %s", key.Label, key.Why)
	found, err = try(key, in, w.leave(w.d, key.ID, purpose, reading))
	return found, reading(err)
}

// lockedAfterAll reports whether the device has locked the user without saying so. Two answers count: the first refusal of a sign-in that
// opened the device before, and a connection dropped right after a refusal.
func lockedAfterAll(key Key, err error, after bool) error {
	dropped := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err,
		syscall.EPIPE)
	switch {
	case key.Opened && !key.Shut && refused(err):
		return &signin.LockedError{Wait: signin.DefaultWait,
			Seen: fmt.Sprintf("it refuses %q, which has opened it before; the password may have been changed, too", key.Label)}
	case after && dropped:
		return &signin.LockedError{Wait: signin.DefaultWait, Seen: "it drops the connection since it has refused a sign-in"}
	}
	return err
}

// try asks the question that proves a sign-in, and what the device is. What it does not tell of its users, ports and hardware address
// stays unknown: it is signed in to all the same.
func (w signInStep) try(ctx context.Context, id uuid.UUID, in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
	out := evidence.SignedIn{SignIn: id}
	c, err := w.service(ctx)
	if err != nil {
		return out, err
	}
	c.SignInAs(in, leave)
	c.as, c.signs = id, true
	info, err := c.Info(ctx)
	if err != nil {
		c.signs = false
		return out, err
	}
	out.Info, out.Scheme = info, c.Scheme()
	services, err := c.Services(ctx)
	if err != nil {
		return out, err
	}
	out.Recorder = services[onvif.NSRecording] != "" && services[onvif.NSReceiver] != ""
	if users, err := c.Users(ctx); err == nil {
		for _, u := range users {
			if u.Name == in.User {
				out.Level = u.Level
			}
		}
	}
	if protocols, err := c.Protocols(ctx); err == nil {
		out.Protocols = protocols
	}
	if ifaces, err := c.Interfaces(ctx); err == nil {
		for _, i := range ifaces {
			if i.Addr == w.d.Status.Device.Addr || len(ifaces) == 1 {
				out.MAC = i.MAC
			}
		}
	}
	return out, ctx.Err()
}

// signedIn records what opened the device, and what it told of itself.
func (w signInStep) signedIn(ctx context.Context, found evidence.SignedIn) error {
	if err := w.Keep(ctx, Finding{Body: found}); err != nil {
		return err
	}
	return w.Record.Identify(ctx, w.d.ID, found.Info.Serial, found.MAC)
}

func (w signInStep) notSignedIn(ctx context.Context, out evidence.SignedIn, err error, user string) error {
	diagnosis, err := Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, w.asking(), user))
	if err != nil {
		return err
	}
	if len(out.Tried) == 0 && diagnosis.Cause == trouble.NoSignIn {
		if before := w.d.Status.SignedIn; before != nil && len(before.Tried) > 0 {
			diagnosis.Summary = fmt.Sprintf("Every sign-in on the keyring was refused before (%s).", strings.Join(before.Tried, ", "))
			diagnosis.Fix = "Add the sign-in that is right for this device. What was refused is sent again only when you press Try again."
			out.Tried = before.Tried
		}
	}
	if diagnosis.Cause == trouble.WrongSignIn {
		if len(out.Tried) > 1 {
			diagnosis.Summary = fmt.Sprintf("The device service refuses all %d sign-ins of the keyring that may be tried (%s).",
				len(out.Tried), strings.Join(out.Tried, ", "))
		}
		if n, err := w.Keyring.WrongTries(ctx, w.d.ID); err == nil {
			diagnosis.Fix += fmt.Sprintf(
				" After you have mended it there, Try again sends them once more: %d of %d wrong tries in %d minutes are used.",
				n, signin.Budget, int(signin.Window.Minutes()))
		}
	}
	out.Diagnosis = strangerUnless(&w.d.Status, diagnosis)
	if err := w.Keep(ctx, Finding{Body: out}); err != nil {
		return err
	}
	return w.wakeAt(ctx, diagnosis)
}

// strangerUnless adds to the diagnosis of a failed sign-in that the device has moved and was not known again, if that is so.
func strangerUnless(st *latch.Status, d *diagnose.Diagnosis) *diagnose.Diagnosis {
	if d == nil || !st.Before.IsValid() {
		return d
	}
	switch d.Cause {
	case trouble.WrongSignIn, trouble.NoSignIn:
		out := diagnose.NotKnownAgain(st.Before, st.Device.Addr, *d)
		return &out
	case trouble.Readable:
		d.Summary += fmt.Sprintf(" It was at %s before, and nothing says yet that it is the same device.", st.Before)
	}
	return d
}

// wakeAt sees to it that a device is tried again when the wait that a diagnosis speaks of has ended.
func (w signInStep) wakeAt(ctx context.Context, d *diagnose.Diagnosis) error {
	if d == nil || d.Until == nil {
		return nil
	}
	return w.Report.Wake(ctx, w.d.ID, *d.Until)
}
