package bringup

import (
	"context"

	"github.com/google/uuid"

	"unlatch/core/decide/evidence"
	"unlatch/core/ground/signin"
	"unlatch/core/wire/onvif"
)

// Claim makes the first account and then signs in with it: a device is claimed when it takes the sign-in, not when it said yes. A
// device that is not open any more is left alone; what is on the keyring is tried on it in the usual way.
func (w *Work) Claim(ctx context.Context, key uuid.UUID) error {
	w.Report.Doing(w.d.Title + ": claiming it")
	in, err := w.Decrypt(ctx, key)
	if err != nil {
		return err
	}
	s := w.d.Status.SignedIn
	if s == nil || !s.Open && !s.Factory {
		if w.OnlyChange {
			return nil
		}
		return w.Open(ctx)
	}
	// A claim that was cut off may have given the device its account already: then it takes the new one, and nothing is sent again.
	if s.Open {
		if _, err := (signInStep{w}).try(ctx, uuid.Nil, signin.SignIn{}, nil); refused(err) {
			return claimChange{w}.openWith(ctx, key, in)
		}
	}
	c, old, err := w.signedClient(ctx)
	switch {
	case err != nil:
	case s.Open:
		err = c.CreateUser(ctx, in.User, in.Secret, "Administrator")
	case in.User != old.User:
		return w.Open(ctx) // the account that it had from the factory has gone since
	case refusedBefore(ctx, c.Client):
		return claimChange{w}.openWith(ctx, key, in)
	default:
		err = c.SetUser(ctx, in.User, in.Secret, "Administrator")
	}
	if diagnosis, err := Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the device", in.User)); err != nil || diagnosis != nil {
		if err != nil {
			return err
		}
		body := evidence.SignedIn{Open: s.Open, Factory: s.Factory, SignIn: s.SignIn, Label: s.Label, User: s.User, Info: s.Info}
		body.Diagnosis = diagnosis
		return w.Keep(ctx, Finding{Body: body})
	}
	return claimChange{w}.openWith(ctx, key, in)
}

// refusedBefore reports whether the device refuses the account that it had from the factory: an attempt that was cut off has changed
// its password.
func refusedBefore(ctx context.Context, c *onvif.Client) bool {
	_, err := c.Info(ctx)
	return refused(err)
}

// A claimChange gives a device its first account.
type claimChange struct{ *Work }

// openWith signs in with the account that was just made, before any other key of the ring is tried, and opens what follows.
func (w claimChange) openWith(ctx context.Context, key uuid.UUID, in signin.SignIn) error {
	k, err := w.Keyring.Key(ctx, key)
	if err != nil {
		return err
	}
	try := func(k Key, in signin.SignIn, leave signin.Leave) (evidence.SignedIn, error) {
		return signInStep(w).try(ctx, k.ID, in, leave)
	}
	found, err := signInStep(w).tryKey(ctx, k, signin.DeviceService, false, try)
	if err != nil {
		return signInStep(w).notSignedIn(ctx, evidence.SignedIn{Tried: []string{k.Label}}, err, in.User)
	}
	found.SignIn, found.Label, found.User = key, k.Label, in.User
	if err := signInStep(w).signedIn(ctx, found); err != nil || w.OnlyChange {
		return err
	}
	return w.Open(ctx)
}
