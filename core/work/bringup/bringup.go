// Package bringup brings a device up from "heard" to "confirmed": it opens one latch after the other, records what each step found, and
// decides what comes next from that record. It knows no queue and no database: what it needs of them are the small interfaces of
// seams.go.
//
// A step ends in evidence, also where it fails: a latch that is stuck is a finding and no error. An error means that the work itself could
// not go on, and that it shall be begun again from where it was.
package bringup

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"strconv"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/linkbudget"
	"unlatch/core/ground/redact"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/target"
)

// A Config holds what work on a device needs. Every field must be set unless its comment says what its zero value means.
type Config struct {
	Record  Record
	Keyring Keyring
	Report  Reporter
	Targets map[target.Kind]target.Driver
	// Guard is the way out: to the site's ranges, to the strays that somebody has consented to and to its targets, and to nothing else.
	Guard *address.Guard

	// Link bounds what flows at once while streams are measured; nil has no bound.
	Link *linkbudget.Budget
	// Lists are the slots that targets have told other works of this process too; nil for this work alone.
	Lists *Lists
	// Unattended work was begun by nobody: it sends no sign-in so that it can be read.
	Unattended bool
	// OnlyNews records a picture on a target only where it is otherwise than it was confirmed before.
	OnlyNews bool
	// OnlyKnown tries no sign-in that has not opened the device before.
	OnlyKnown bool
	// Views is the memory of what cameras show; nil judges no picture.
	Views Views
	// Retry sends again what the device has refused: a person has mended something on it.
	Retry bool
	Clock Clock // nil for the system's
	// Budgets are the times that steps get; a step that is not in it has the usual one.
	Budgets map[latch.Name]time.Duration
	// OnlyLook opens no latch by changing something: a device that is to be placed stays where it is.
	OnlyLook bool
	// OnlyChange makes a change and opens no latch that follows from it.
	OnlyChange bool
	// Watch is told before each thing that is sent, after each answer and around each record; nil for nobody. With it the work waits until
	// each finding is kept.
	Watch func()
}

// Work is one device under work. Each step records what it found and the status is read again: what a killed job had found is there when
// the next one begins, and only what is missing is done again. It is not safe for concurrent use. Close ends it.
type Work struct {
	Config
	d   *latch.Device
	log *exchange.Log
	// secrets are those in use, which stand in nothing that is recorded.
	secrets *redact.Redactor
	client  client
	targets map[uuid.UUID]*connected
	// put holds the targets that this work has put the device onto already, with or without success.
	put map[uuid.UUID]bool
	// next is the stream that may be played beside the one that is about to be, and beside the one that was.
	next   *camera.Stream
	beside *companion
	// schemes guards the schemes of the device's status: two streams that play at once may both ask for leave.
	schemes sync.Mutex
	// recorded counts the findings of this work.
	recorded int
	// later keeps findings while the work goes on, where goesOn says that it does: nothing that it does then changes the device.
	later  behind
	goesOn bool
	// opened are the sign-ins that were taken off the keyring, for use on the device while goesOn.
	opened sync.Map
	// askedHTTP says that what the device shows over HTTP was asked for in this work.
	askedHTTP bool
	// askedOffers says that the device was asked what its streams can be set to.
	askedOffers bool
	// foundPath is what looking for a path that wants a sign-in has found already; nil where nothing has.
	foundPath *foundPath
}

// Start begins work on a device. Nothing is sent.
func Start(d *latch.Device, c Config) *Work {
	if c.Clock == nil {
		c.Clock = system{}
	}
	if c.Lists == nil {
		c.Lists = new(Lists)
	}
	w := &Work{Config: c, d: d, log: exchange.NewLog(nil), secrets: &redact.Redactor{}, targets: map[uuid.UUID]*connected{},
		put: map[uuid.UUID]bool{}}
	if c.Watch != nil {
		w.log.Watch(c.Watch)
	}
	return w
}

// Device returns the device as it was last read.
func (w *Work) Device() *latch.Device { return w.d }

// Log returns the conversation with the device since the last finding.
func (w *Work) Log() *exchange.Log { return w.log }

// Close gives connections back.
func (w *Work) Close() {
	w.client.close()
	for _, t := range w.targets {
		t.session.Close()
	}
}

// steps are the functions that open latches. A latch that is not listed is opened by no work on a device.
var steps = map[latch.Name]struct {
	doing string
	open  func(context.Context, *Work) error
}{
	latch.Reachable: {"reaching it", func(ctx context.Context, w *Work) error { return reachStep{w}.reach(ctx) }},
	latch.SignedIn:  {"signing in", func(ctx context.Context, w *Work) error { return signInStep{w}.signIn(ctx) }},
	latch.Located:   {"asking for its stream URLs", func(ctx context.Context, w *Work) error { return locateStep{w}.locate(ctx) }},
	latch.Proven:    {"playing its streams", func(ctx context.Context, w *Work) error { return proveStep{w}.prove(ctx) }},
	latch.Placed:    {"placing it", func(ctx context.Context, w *Work) error { return placeStep{w}.place(ctx) }},
	latch.Confirmed: {"waiting for the target's picture", func(ctx context.Context, w *Work) error { return placeStep{w}.confirm(ctx) }},
}

// mostRounds bounds how often one latch is worked on in one go: new evidence can send the work back to a latch.
const mostRounds = 3

// Open opens latches until one stays shut. A latch is worked on again when what other steps found since has made it the next again, as
// new stream settings do with a proof; one that is stuck after it was worked on ends the work.
//
// What is found is kept while the work goes on: where it is killed, what was not kept yet is found again.
func (w *Work) Open(ctx context.Context) error {
	w.goesOn = true
	err := w.open(ctx)
	w.goesOn = false
	rest, kept := w.later.rest()
	if kept == nil && len(rest) > 0 {
		limited, done := context.WithTimeout(context.WithoutCancel(ctx), keepWithin)
		defer done()
		kept = w.Record.AddLater(limited, w.d, rest...)
	}
	if err == nil {
		err = kept
	}
	return err
}

func (w *Work) open(ctx context.Context) error {
	rounds := map[latch.Name]int{}
	recorded := map[latch.Name]int{}
	for {
		if err := w.Read(ctx); err != nil {
			return err
		}
		if (pictureStep{w}).unseen() { // what follows the last proof was cut off
			if err := (pictureStep{w}).askHTTP(ctx); err != nil {
				return err
			}
		}
		if (tuneChange{w}).unknownOffers() {
			if err := (tuneChange{w}).askOffers(ctx); err != nil {
				return err
			}
			continue
		}
		at := w.d.Status.At()
		step, ok := steps[at]
		if !ok || !w.d.Status.InScope() || w.OnlyLook && at == latch.Placed {
			return nil
		}
		if w.d.Status.Device.Kind == sighting.Recorder && at == latch.Located {
			if w.streamOnly() {
				return nil // it has nothing to ask for its channels: they are known by a recipe
			}
			// A recorder is a target: it has been signed in to, and tells of what hangs on it and what it takes.
			if err := (locateStep{w}).channels(ctx); err != nil {
				return err
			}
			w.goesOn = false
			return w.LookAt(ctx, w.d.ID)
		}
		if n := rounds[at]; n > 0 && !worthAnotherTry(w.d.Status.Latch(at).State, n, w.recorded > recorded[at]) {
			return nil
		}
		rounds[at]++
		recorded[at] = w.recorded
		w.Report.Doing(fmt.Sprintf("%s: %s", w.d.Title, step.doing))
		limited, done := within(ctx, w.stepBudget(at))
		w.goesOn = at != latch.Placed && at != latch.Confirmed // those change targets
		err := step.open(limited, w)
		w.goesOn = true
		done()
		if err != nil {
			return err
		}
	}
}

// stepBudget returns the time that a whole step gets; 0 means no limit. Steps that ask targets have no limit: each target has its own.
func (w *Work) stepBudget(step latch.Name) time.Duration {
	if step == latch.Placed || step == latch.Confirmed {
		return 0
	}
	return w.budget(step)
}

// budget returns the time that a step gets; 0 means no limit. For Placed and Confirmed it is the time that one target gets.
func (w *Work) budget(step latch.Name) time.Duration {
	if d, ok := w.Budgets[step]; ok {
		return d
	}
	return budgets[step]
}

// worthAnotherTry reports whether a latch that was worked on n times is worked on once more:
// new evidence has come, and it has left it neither stuck nor waiting.
func worthAnotherTry(state latch.State, n int, newEvidence bool) bool {
	return newEvidence && state != latch.Stuck && state != latch.Waiting && n < mostRounds
}

// ProveAgain plays streams that are proven already, and asks again for what the device says of them and shows besides: somebody may have
// changed a setting since.
func (w *Work) ProveAgain(ctx context.Context) error {
	if l := w.d.Status.Latch(latch.Located); l.State == latch.Open && !w.streamOnly() {
		if err := (locateStep{w}).claimsAnew(ctx); err != nil {
			return err
		}
	}
	w.d.Status.Proofs, w.d.Status.Pictures, w.d.Status.Web = nil, nil, nil // what is found next replaces them
	return proveStep{w}.prove(ctx)
}

// Read reads the device's status anew.
func (w *Work) Read(ctx context.Context) error {
	found, err := w.later.rest()
	if err != nil {
		return err
	}
	fresh, err := w.Record.AddAndRead(ctx, w.d, found...)
	if err != nil {
		return err
	}
	*w.d = *fresh
	return nil
}

// Keep records a finding. If the finding brings no conversation of its own, it gets the one since the last finding. A device may repeat a
// secret anywhere in its answers, so every secret in use is first taken out of the body.
func (w *Work) Keep(ctx context.Context, f Finding) error {
	if f.Exchange == "" {
		f.Exchange = w.log.Take()
	}
	return w.keep(ctx, f)
}

// keep records a finding that comes in the middle of a conversation; the conversation is kept with the next finding.
func (w *Work) keep(ctx context.Context, f Finding) error {
	ctx, done := keeping(ctx)
	defer done()
	body, err := evidence.Rewrite(f.Body, w.secrets.JSON)
	if err != nil {
		return err
	}
	f.Body = body
	if w.Watch != nil {
		w.Watch()
		defer w.Watch()
	}
	w.recorded++
	return w.add(ctx, w.d, f)
}

// add records a finding of a device, and waits until it is kept where it must not be lost.
func (w *Work) add(ctx context.Context, d *latch.Device, f Finding) error {
	if !w.goesOn || d != w.d || w.Watch != nil {
		return w.Record.Add(ctx, d, f)
	}
	w.later.put(ctx, w.Record, d, f)
	return nil
}

// Decrypt takes a sign-in off the keyring for use on a device. From then on its secret is kept out of all that is recorded. Where nothing
// is changed one is taken once: before it goes out, the guard that counts tries looks whether it is still what the keyring has.
func (w *Work) Decrypt(ctx context.Context, id uuid.UUID) (signin.SignIn, error) {
	if in, ok := w.opened.Load(id); ok && w.goesOn {
		return in.(signin.SignIn), nil
	}
	in, err := w.Keyring.Decrypt(ctx, id)
	if err == nil {
		w.opened.Store(id, in)
	}
	w.secrets.Know(in)
	w.log.Know(in)
	return in, err
}

// facts returns what a diagnosis may say of the service that was asked.
func (w *Work) facts(at, asking, user string) diagnose.Facts {
	f := diagnose.Facts{Host: w.d.Addr, Asking: asking, User: user}
	if u, err := url.Parse(at); err == nil {
		if f.Port, err = strconv.Atoi(u.Port()); err != nil {
			f.Port = cmp.Or(streamurl.DefaultPort(u.Scheme), 80)
		}
	}
	return f
}

// streamOnly reports whether the device has a stream service but no device service.
func (w *Work) streamOnly() bool { r := w.d.Status.Reached; return r != nil && r.Stream != "" }

// client holds the one client of the device service in this work, so that the device is asked for its clock and services only once.
type client struct {
	*onvif.Client
	at      string    // address of the service
	clocked bool      // its clock was read
	as      uuid.UUID // the keyring entry that it signs in with
	signs   bool      // it has been given a sign-in
}

func (c *client) close() {
	if c.Client != nil {
		c.Client.Close()
		*c = client{}
	}
}

// service returns the client of the device service after its clock was read. The caller chooses the sign-in.
func (w *Work) service(ctx context.Context) (*client, error) {
	at := w.d.Status.Device.XAddr
	if w.client.at != at {
		w.client.close()
	}
	if w.client.Client == nil {
		w.client = client{at: at, Client: onvif.New(at, onvif.Options{Dial: w.Guard, InScope: w.Guard.Allowed.Contains, Log: w.log,
			Pin: w.pin()})}
	}
	if !w.client.clocked {
		if _, err := w.client.Clock(ctx); err != nil {
			return &w.client, err
		}
		w.client.clocked = true
	}
	return &w.client, nil
}

// signedClient returns the client of the device service with the sign-in that opened the device.
func (w *Work) signedClient(ctx context.Context) (*client, signin.SignIn, error) {
	in, err := w.signInOf(ctx, w.d)
	if err != nil {
		return nil, in, err
	}
	c, err := w.service(ctx)
	if err != nil {
		return c, in, err
	}
	id := uuid.Nil
	if s := w.d.Status.SignedIn; s != nil {
		id = s.SignIn
	}
	if !c.signs || c.as != id {
		c.SignInAs(in, w.leave(w.d, id, signin.DeviceService, nil))
		c.as, c.signs = id, true
	}
	return c, in, nil
}

// asking names for people what is asked, as in "the recorder".
func (w *Work) asking() string {
	if w.streamOnly() {
		return "the stream service"
	}
	return "the device service"
}

// now returns the time for sightings, in UTC.
func (w *Work) now() time.Time { return w.Clock.Now().UTC() }

// roles returns the roles of the device's streams by token.
func (w *Work) roles() map[string]string { return camera.RolesOf(w.d.Status.Streams) }
