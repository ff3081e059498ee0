package bringup

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/picturematch"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/target"
)

// ErrGone is for a keyring entry that is not there any more.
var ErrGone = errors.New("it is not on the keyring any more")

// A Finding is one piece of evidence to keep.
type Finding struct {
	Subject  string
	Body     evidence.Body
	Exchange string // redacted
	Still    []byte // a JPEG to keep, under StillID
	StillID  uuid.UUID
}

// A Record is the memory of a site. Its calls wait through a time in which they cannot be kept; an error is trouble of our own and is
// never recorded as the device's.
type Record interface {
	Device(ctx context.Context, id uuid.UUID) (*latch.Device, error)
	// LongestWait is how long a target has taken at most, of late, for a picture that came.
	LongestWait(ctx context.Context, target uuid.UUID) (time.Duration, error)
	// Neighbours are all devices of the site.
	Neighbours(ctx context.Context) ([]latch.Device, error)
	Target(ctx context.Context, id uuid.UUID) (*Target, error)
	// Saw keeps what a target has said of itself.
	Saw(ctx context.Context, id uuid.UUID, s TargetSeen) error
	// Bind binds what a person has agreed to for a target, before anybody had answered there, to who has answered now.
	Bind(ctx context.Context, id uuid.UUID, s target.Secret, to target.Identity) error
	// Handed are the entries of the keyring that a target has been given for its cameras.
	Handed(ctx context.Context, id uuid.UUID) ([]uuid.UUID, error)
	// Still is the latest picture of a device, of the main stream where there is one; nil for none.
	Still(ctx context.Context, device uuid.UUID) ([]byte, error)
	// Alike are the latest pictures of the devices of the site whose pictures look most like one: a few of those that are wanted on a target,
	// and a few of the others.
	Alike(ctx context.Context, shown picturematch.Print, target uuid.UUID) (map[uuid.UUID][]byte, error)
	// Add keeps a finding of a device: it is not lost even where the record's machine fails right after. What will be changed on a device is
	// kept so before it is sent.
	Add(ctx context.Context, d *latch.Device, f Finding) error
	// AddLater keeps findings of a device, in order, all of them or none. Where the record's machine fails they may be lost, though not
	// without what was kept after them: they are found again. AddAndRead reads the device with that, as it stands then.
	AddLater(ctx context.Context, d *latch.Device, f ...Finding) error
	AddAndRead(ctx context.Context, d *latch.Device, f ...Finding) (*latch.Device, error)
	// Mine reports whether the newest record of a kind and subject was made in the run that this work belongs to: by the work itself before it
	// was killed.
	Mine(ctx context.Context, d *latch.Device, kind evidence.Kind, subject string) (bool, error)
	// Identify keeps what a device told of itself when it was signed in to.
	Identify(ctx context.Context, id uuid.UUID, serial, mac string) error
	// Sight files a sighting and returns the device that it belongs to.
	Sight(ctx context.Context, x sighting.Sighting) (uuid.UUID, error)
	Books(ctx context.Context) ([]*recipe.Book, error)
	// Alone runs fn while no other work runs under the same name. Its context ends when that is so no longer.
	Alone(ctx context.Context, name uuid.UUID, fn func(context.Context) error) error
}

// A Key is an entry of the keyring, with why it stands where it does among those to try on a device.
type Key struct {
	ID      uuid.UUID
	Label   string
	User    string
	Factory bool // devices have it from the factory
	Why     string
	// Opened says that it has opened this device before, Shut that the device said it was locked when it was last tried, Bound that it is
	// for this device alone.
	Opened, Shut, Bound bool
}

// A Keyring is the person's own sign-ins, with the guard that counts tries.
type Keyring interface {
	Key(ctx context.Context, id uuid.UUID) (Key, error)
	// Decrypt may return ErrGone.
	Decrypt(ctx context.Context, id uuid.UUID) (signin.SignIn, error)
	// OfRelay is the sign-in that opens a stream that is served on. It may return ErrGone.
	OfRelay(ctx context.Context, relay uuid.UUID) (signin.SignIn, error)
	// Candidates are the sign-ins to try on a device for a purpose, the likeliest first. What it has refused is left out, unless again says
	// that a person wants it tried once more.
	Candidates(ctx context.Context, d *latch.Device, purpose signin.Purpose, again bool) ([]Key, error)
	// Begin asks leave for one try on a device, which is sent to host, and counts it on both: a device may name another one's address for
	// its own. If the try is refused the error is a *signin.HeldBackError. An entry that has changed since Decrypt returned it is not sent.
	Begin(ctx context.Context, d *latch.Device, key uuid.UUID, purpose signin.Purpose, host string) (try uuid.UUID, err error)
	// BeginOn is Begin for the sign-in of a target that is no device. One try is under way at a time: the others wait for what comes of it. A
	// sign-in that the target has refused since the work began is a *target.RefusedBeforeError.
	BeginOn(ctx context.Context, t *Target, key uuid.UUID, host string) (try uuid.UUID, err error)
	End(ctx context.Context, try uuid.UUID, r signin.Result, wait time.Duration) error
	// WrongTries is how many tries on a device count against the guard's budget now.
	WrongTries(ctx context.Context, device uuid.UUID) (int, error)
}

// Views is the memory of the views that cameras are known by.
type Views interface {
	// Of returns those of a camera; All those of every camera of the site.
	Of(ctx context.Context, device uuid.UUID) (picturematch.Views, error)
	All(ctx context.Context) (map[uuid.UUID]picturematch.Views, error)
	// Learn keeps the view of the part of the day that an hour, from 0 to 23, lies in.
	Learn(ctx context.Context, device uuid.UUID, hour int, v picturematch.View) error
}

// A Reporter tells people how the work goes.
type Reporter interface {
	Doing(text string)
	Problem(ctx context.Context, text string) error
	// Wake has the device tried again at a time.
	Wake(ctx context.Context, device uuid.UUID, at time.Time) error
	// Warn is for what only whoever runs the program can mend.
	Warn(text string, err error)
}

// A Clock is the time. Tests turn one of their own.
type Clock interface {
	Now() time.Time
	// Sleep returns the error of ctx where that ends first.
	Sleep(ctx context.Context, d time.Duration) error
}

type system struct{}

func (system) Now() time.Time { return time.Now() }

func (system) Sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// A Target is where a camera is wanted.
type Target struct {
	ID       uuid.UUID
	Kind     target.Kind
	Name     string
	Address  string        // as its kind writes it
	Device   *latch.Device // of a target that was found by a sweep
	SignIn   uuid.UUID
	Settings map[string]string
	Via      uuid.UUID // the target that it is reached by way of; the nil UUID for none
	Trust    target.Trust
	Takes    string // the scheme in which it has taken its sign-in last; "" where that is not known
	Pin      string
	Refused  uuid.UUID // the keyring entry that it has refused; the nil UUID for none
	About    target.About
	Silent   bool // it could not be asked when it was looked at last
}

// A TargetSeen is what a target has said of itself, or why it did not.
type TargetSeen struct {
	About   *target.About
	Layout  *target.Layout
	What    string // in one line: what was asked of it
	Refused uuid.UUID
	Pin     string // SHA-256 of the certificate that it showed, in hex; "" without TLS
	Takes   string // the scheme in which it has taken its sign-in; "" where nothing went out
	// OpenedUnder is the certificate under which the sign-in SignIn has opened it in a scheme that shows the password.
	OpenedUnder string
	SignIn      uuid.UUID
	Diagnosis   *diagnose.Diagnosis
	Exchange    string
	Silent      bool // it was looked at, and could not be asked
}

// An OwnError is trouble of our own, with the database for one: it is never recorded as the device's.
type OwnError struct{ Err error }

func (e *OwnError) Error() string { return e.Err.Error() }

// Unwrap returns what the trouble is.
func (e *OwnError) Unwrap() error { return e.Err }

// Explain returns the diagnosis of err, or nil where there is none to record because the work was cut short.
func Explain(ctx context.Context, err error, f diagnose.Facts) (*diagnose.Diagnosis, error) {
	if err == nil {
		return nil, nil
	}
	if d := outOfTime(ctx, ""); d != nil {
		return d, nil
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if own := new(OwnError); errors.As(err, &own) {
		return nil, own
	}
	d := diagnose.Explain(err, f)
	return &d, nil
}
