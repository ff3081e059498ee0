package jobs

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"
	"github.com/riverqueue/river"

	"unlatch/core/address"
	"unlatch/core/diagnose"
	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/exchange"
	"unlatch/core/latch"
	"unlatch/core/onvif"
	"unlatch/core/redact"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/core/target"
	"unlatch/store"
)

// OpenArgs opens the latches of one device as far as they go.
type OpenArgs struct {
	Run    uuid.UUID `json:"run"`
	Device uuid.UUID `json:"device"`
	Again  bool      `json:"again"` // play streams again that are proven already
	// Unattended work was begun by nobody: it goes on by itself after a wait, and sends no sign-in so that it can be read.
	Unattended bool `json:"unattended,omitempty"`
	// Retry sends again what the device has refused: a person has mended something on it.
	Retry bool `json:"retry,omitempty"`
}

// Kind implements river.JobArgs.
func (OpenArgs) Kind() string { return "open" }

// Open begins a run that opens the latches of devices, one job each.
func (q *Queue) Open(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID, again bool) (store.Run, error) {
	return q.open(ctx, site, title, devices, OpenArgs{Again: again})
}

// Retry is Open for devices on which a person has mended something: what they refused before is sent once more, within the guard's bound.
func (q *Queue) Retry(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID) (store.Run, error) {
	return q.open(ctx, site, title, devices, OpenArgs{Retry: true})
}

func (q *Queue) open(ctx context.Context, site uuid.UUID, title string, devices []uuid.UUID, how OpenArgs) (store.Run, error) {
	return begin(ctx, q, site, "open", title, int64(len(devices)), devices, func(run uuid.UUID, d uuid.UUID) river.JobArgs {
		how.Run, how.Device = run, d
		return how
	})
}

type openWorker struct {
	river.WorkerDefaults[OpenArgs]
	env *env
}

func (w *openWorker) Work(ctx context.Context, job *river.Job[OpenArgs]) error {
	return w.env.onDevice(ctx, job.Args.Run, job.Args.Device, func(o *deviceWork) error {
		o.attended, o.retry = !job.Args.Unattended, job.Args.Retry
		if job.Args.Again {
			o.d.Status.Proofs, o.d.Status.Pictures, o.d.Status.Web = nil, nil, nil // what is found next replaces them
			if err := o.prove(ctx); err != nil {
				return err
			}
		}
		return o.open(ctx)
	})
}

// onDevice runs one job's work on one device and counts it as a step of its run.
func (e *env) onDevice(ctx context.Context, run, device uuid.UUID, work func(*deviceWork) error) error {
	d, err := e.store.Device(ctx, device)
	if err != nil {
		return e.finish(ctx, run, err)
	}
	defer e.announce(d.Site, run)
	site, err := e.store.Site(ctx, d.Site)
	if err != nil {
		return e.finish(ctx, run, err)
	}
	consented, err := e.store.Consented(ctx, d.Site)
	if err == nil {
		err = work(&deviceWork{env: e, d: d, site: site, run: run, attended: true, secrets: &redact.Redactor{}, guard: &address.Guard{Allowed: site.Ranges, Consented: consented}})
	}
	if err != nil {
		return e.finish(ctx, run, err)
	}
	return e.store.Keep(ctx, "the progress of a run", func(ctx context.Context) error { return e.store.StepDone(ctx, run) })
}

// deviceWork is one device under work. Each step records what it found and reads the status again: what a killed job had
// found is there when the next one begins, and only what is missing is done again.
type deviceWork struct {
	env  *env
	d    *store.Device
	site store.Site
	run  uuid.UUID
	// attended says that a person has begun the work.
	attended bool
	// retry says that the person wants what was refused sent again.
	retry bool
	// asked says that what the device shows besides its streams was asked for in this job.
	asked bool
	// secrets are those in use, which stand in nothing that is recorded.
	secrets *redact.Redactor
	// guard is the way out: to the site's ranges and the strays that somebody has consented to, and to nothing else.
	guard *address.Guard
	// foundPath is what looking for a path that wants a sign-in has found already; nil where nothing has.
	foundPath *foundPath
}

// open opens latches until one stays shut. An error means that the work itself could not go on; that a latch is stuck is
// evidence and no error.
func (o *deviceWork) open(ctx context.Context) error {
	steps := map[latch.Name]func(context.Context) error{
		latch.Reachable: o.reach, latch.SignedIn: o.signIn, latch.Located: o.locate,
		latch.Proven: o.prove, latch.Placed: o.place, latch.Confirmed: o.confirm,
	}
	tried := map[latch.Name]bool{}
	for {
		fresh, err := o.env.store.Device(ctx, o.d.ID)
		if err != nil {
			return err
		}
		*o.d = *fresh
		at := o.d.Status.At()
		step := steps[at]
		if o.unseen() { // what follows the last proof was cut off
			if err := o.besides(ctx); err != nil {
				return err
			}
		}
		if step == nil || tried[at] || !o.d.Status.InScope() {
			return nil
		}
		if o.recorder() && at == latch.Located && o.streamOnly() {
			return nil // it has nothing to ask for its channels: they are known by a recipe
		}
		if o.recorder() && at == latch.Located {
			return o.channels(ctx) // a recorder is a target: it has been signed in to, and tells of what hangs on it
		}
		tried[at] = true
		o.env.store.Progress(ctx, o.run, fmt.Sprintf("%s: %s", o.d.Title(), doing[at]), -1)
		limited, done := within(ctx, budgets[at])
		err = step(limited)
		done()
		if err != nil {
			return err
		}
	}
}

var doing = map[latch.Name]string{
	latch.Reachable: "reaching it", latch.SignedIn: "signing in", latch.Located: "asking for its stream URLs",
	latch.Proven: "playing its streams", latch.Placed: "placing it", latch.Confirmed: "waiting for the recorder's picture",
}

func (o *deviceWork) recorder() bool { return o.d.Status.Device.Kind == discovery.Recorder }

// record keeps a finding, through a time in which the database is away.
func (o *deviceWork) record(ctx context.Context, f store.Finding) error {
	ctx, done := keeping(ctx)
	defer done()
	body, err := evidence.Rewrite(f.Body, o.secrets.JSON) // a device may repeat what it was told anywhere in its answers
	if err != nil {
		return err
	}
	f.Body = body
	if crash != nil {
		crash()
		defer crash()
	}
	return o.env.store.Keep(ctx, string(evidence.KindOf(f.Body))+" of "+o.d.Addr, func(ctx context.Context) error {
		return o.env.store.Record(ctx, o.d, &o.run, f)
	})
}

// newLog begins the conversation of a step.
func (o *deviceWork) newLog() *exchange.Log {
	l := exchange.NewLog(nil)
	if crash != nil {
		l.Watch(crash)
	}
	return l
}

// crash is told before each thing that is sent, after each answer and around each record; nil outside of the tests, which end the work
// there as a kill would.
var crash func()

// decrypt takes a sign-in off the keyring for use on a device. From then on its secret is kept out of all that is recorded.
func (o *deviceWork) decrypt(ctx context.Context, id uuid.UUID) (signin.SignIn, error) {
	in, err := o.env.store.Decrypt(ctx, id)
	o.secrets.Know(in)
	return in, err
}

// sight files a sighting of this site and returns the device that it belongs to.
func (o *deviceWork) sight(ctx context.Context, x discovery.Sighting) (device uuid.UUID, err error) {
	err = o.env.store.Keep(ctx, "a sighting", func(ctx context.Context) (err error) {
		device, err = o.env.store.Sight(ctx, o.site.ID, &o.run, x)
		return err
	})
	return device, err
}

// An ownError is trouble of our own, with the database for one: it is never recorded as the device's.
type ownError struct{ error }

func (e *ownError) Unwrap() error { return e.error }

// explain is the diagnosis of err, or nil where there is none to record because the work was cut short.
func explain(ctx context.Context, err error, f diagnose.Facts) (*diagnose.Diagnosis, error) {
	if err == nil {
		return nil, nil
	}
	if d := outOfTime(ctx, ""); d != nil {
		return d, nil
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if own := new(ownError); errors.As(err, &own) {
		return nil, own
	}
	d := diagnose.Explain(err, f)
	return &d, nil
}

// reach asks the device's clock: harmless, needs no sign-in, and the skew is wanted for signing in.
func (o *deviceWork) reach(ctx context.Context) error {
	service := o.d.Status.Device.XAddr
	if service == "" {
		return o.reachStream(ctx)
	}
	log := o.newLog()
	c := onvif.New(service, onvif.Options{Dial: o.guard, Log: log})
	defer c.Close()
	skew, err := c.Clock(ctx)
	diagnosis, err := explain(ctx, err, o.facts(service, "the device service", ""))
	if err != nil {
		return err
	}
	before, known := o.knownAgain()
	return o.record(ctx, store.Finding{Exchange: log.String(),
		Body: evidence.Reached{Addr: o.d.Status.Device.Addr, Service: service, SkewMS: skew.Milliseconds(), Before: before, Known: known, Diagnosis: diagnosis}})
}

func (o *deviceWork) facts(address, asking, user string) diagnose.Facts {
	f := diagnose.Facts{Host: o.d.Addr, Asking: asking, User: user}
	if u, err := url.Parse(address); err == nil {
		if f.Port, err = strconv.Atoi(u.Port()); err != nil {
			f.Port = 80
		}
	}
	return f
}

// signInOf is the sign-in that opened a device; the anonymous one where it lets anyone in or none is known.
func (o *deviceWork) signInOf(ctx context.Context, d *store.Device) (signin.SignIn, error) {
	s := d.Status.SignedIn
	if s == nil || s.SignIn == uuid.Nil {
		return signin.SignIn{}, nil
	}
	in, err := o.decrypt(ctx, s.SignIn)
	if errors.Is(err, store.ErrNotFound) {
		return signin.SignIn{}, nil // taken off the keyring since; the device will say that it wants one
	}
	if err != nil {
		return in, &ownError{err}
	}
	return in, nil
}

// client is a device service client with the sign-in that opened the device, its clock read.
func (o *deviceWork) client(ctx context.Context, d *store.Device, log *exchange.Log) (*onvif.Client, signin.SignIn, error) {
	in, err := o.signInOf(ctx, d)
	if err != nil {
		return nil, in, err
	}
	key := uuid.Nil
	if d.Status.SignedIn != nil {
		key = d.Status.SignedIn.SignIn
	}
	c := onvif.New(d.Status.Device.XAddr, onvif.Options{Dial: o.guard, SignIn: in, Leave: o.leave(d, key, store.DeviceService, nil), InScope: o.site.Ranges.Contains, Log: log})
	_, err = c.Clock(ctx)
	return c, in, err
}

func (o *deviceWork) locate(ctx context.Context) error {
	if o.streamOnly() {
		return o.findPaths(ctx)
	}
	log := o.newLog()
	c, in, err := o.client(ctx, o.d, log)
	var streams []onvif.Stream
	if err == nil {
		defer c.Close()
		var have []onvif.Stream
		if l := o.d.Status.Located; l != nil && l.Diagnosis != nil && l.Diagnosis.Cause == diagnose.TooSlow {
			have = l.Streams
		}
		streams, err = c.Streams(ctx, have...)
	}
	if o.d.Via != nil {
		streams = slices.DeleteFunc(streams, func(s onvif.Stream) bool { return s.Channel != o.d.Channel })
	}
	if err == nil && len(streams) == 0 {
		err = &diagnose.PictureError{Cause: diagnose.NoProfiles}
	}
	if slow := outOfTime(ctx, fmt.Sprintf("%d stream URLs", len(streams))); slow != nil && err != nil {
		return o.record(ctx, store.Finding{Exchange: log.String(), Body: evidence.Located{Addr: o.d.Status.Device.Addr, Streams: streams, Diagnosis: slow}})
	}
	diagnosis, err := explain(ctx, err, o.facts(o.d.Status.Device.XAddr, "the device service", in.User))
	if err != nil {
		return err
	}
	return o.record(ctx, store.Finding{Exchange: log.String(), Body: evidence.Located{Addr: o.d.Status.Device.Addr, Streams: streams, Diagnosis: diagnosis}})
}

// prove plays the streams that are not proven yet, and then asks for what else the device shows.
func (o *deviceWork) prove(ctx context.Context) error {
	for i := range o.d.Status.Streams {
		st := o.d.Status.Streams[i] // the address of the next may change by what is found of this one
		if done, ok := o.d.Status.Proofs[st.Tier]; ok && done.OK {
			continue
		}
		u, err := streamurl.Parse(st.URL)
		if err != nil {
			return err
		}
		o.env.store.Progress(ctx, o.run, fmt.Sprintf("%s: playing the %s stream", o.d.Title(), st.Tier), -1)
		proof, err := o.play(ctx, u)
		if err != nil {
			return err
		}
		if d := proof.Diagnosis; d != nil && st.Reserve != "" && unreached(d.Cause) {
			own, err := streamurl.Parse(st.Reserve)
			if err != nil {
				return err
			}
			other, err := o.play(ctx, own)
			if err != nil {
				return err
			}
			if other.OK || !unreached(other.Diagnosis.Cause) {
				if err := o.takeReserve(ctx, u.Host); err != nil {
					return err
				}
				proof, st, u = other, o.d.Status.Streams[i], own
			}
		}
		if d := proof.Diagnosis; d != nil && d.Cause == diagnose.PortClosed && o.d.Via == nil {
			for _, v := range o.elsewhere(u) {
				other, err := o.play(ctx, v)
				if err != nil {
					return err
				}
				if !other.OK {
					continue
				}
				if err := o.moveStreams(ctx, v, u.DialPort()); err != nil {
					return err
				}
				proof, st = other, o.d.Status.Streams[i]
				break
			}
		}
		if d := proof.Diagnosis; d != nil {
			refine(d, u, o.d.Status.SignedIn)
		}
		f := store.Finding{Subject: st.Tier, Exchange: proof.Exchange}
		body := evidence.Proof{Proof: proof, PlainURL: st.URL}
		if proof.Still != nil {
			f.Still, f.StillID = proof.Still, uuid.Must(uuid.NewV7())
			body.Still = &f.StillID
		}
		f.Body = body
		if err := o.record(ctx, f); err != nil {
			return err
		}
		if !proof.OK {
			return o.wakeAt(ctx, proof.Diagnosis)
		}
	}
	return o.besides(ctx)
}

// unreached reports whether a stream was not reached at its address, as against refused by who answers there.
func unreached(c diagnose.Cause) bool {
	return c == diagnose.PortClosed || c == diagnose.NoAnswer || c == diagnose.Silent || c == diagnose.NotRTSP || c == diagnose.OutOfScope
}

// refine says more of a stream that could not be reached, where the device itself has told of its ports.
func refine(d *diagnose.Diagnosis, u streamurl.URL, in *evidence.SignedIn) {
	if in == nil {
		return
	}
	for _, p := range in.Protocols {
		number := func(want int) bool { return slices.Contains(p.Ports, want) }
		switch {
		case p.Name == "RTSP" && !p.Enabled && d.Cause == diagnose.PortClosed:
			d.Cause = diagnose.StreamsOff
			d.Summary = fmt.Sprintf("The stream service is switched off in the device itself: it says so, and port %d is closed.", u.DialPort())
			d.Fix = "Unlatch can switch it on through the device's network settings, and read back that it is."
		case p.Name == "RTSP" && p.Enabled && d.Cause == diagnose.PortClosed && !number(u.DialPort()) && len(p.Ports) > 0:
			d.Cause = diagnose.WrongPort
			d.Summary = fmt.Sprintf("The URL has port %d, and the device itself says that its streams are on port %d.", u.DialPort(), p.Ports[0])
			d.Fix = fmt.Sprintf("Use port %d in the URL.", p.Ports[0])
		case p.Name == "HTTP" && d.Cause == diagnose.NotRTSP && number(u.DialPort()):
			d.Cause = diagnose.WrongPort
			d.Summary = fmt.Sprintf("Port %d is the device's web port, by its own word. The URL needs its stream port.", u.DialPort())
			d.Fix = "Put the stream port into the URL; the device names it in its network settings."
		}
	}
}

// place puts the camera on every wanted target that does not have it.
func (o *deviceWork) place(ctx context.Context) error {
	for _, p := range o.d.Status.Placements {
		if p.Slot != "" && p.Diagnosis == nil && !p.Moved {
			continue
		}
		log := o.newLog()
		put, diagnosis, err := o.placeOn(ctx, p, log)
		if err != nil {
			return err
		}
		if err := o.record(ctx, store.Finding{Subject: p.Target.String(), Exchange: log.String(),
			Body: evidence.Placed{Slot: put.Slot, URL: o.d.Status.Streams[0].URL, Receiver: put.Receiver, Job: put.Job, Diagnosis: diagnosis}}); err != nil {
			return err
		}
	}
	return nil
}

func (o *deviceWork) placeOn(ctx context.Context, p latch.Placement, log *exchange.Log) (target.Placement, *diagnose.Diagnosis, error) {
	rec, user, err := o.recorderOf(ctx, p.Target, log)
	if err != nil {
		return target.Placement{}, nil, err
	}
	if rec == nil {
		return target.Placement{}, &diagnose.Diagnosis{Cause: diagnose.NoSignIn, Summary: diagnose.Capital(p.Name) + " has not been signed in to yet.",
			Fix: "Open the recorder's own latches first: select it in the line-up.", Seen: "no sign-in is known to open it"}, nil
	}
	defer rec.Client.Close()
	u, err := streamurl.Parse(o.d.Status.Streams[0].URL)
	if err != nil {
		return target.Placement{}, nil, err
	}
	if u.SignIn, err = o.streamSignIn(ctx); err != nil {
		return target.Placement{}, nil, err
	}
	var put target.Placement
	// One at a time on a target: two that look for a free slot at once would both take it.
	err = o.env.store.Locked(ctx, p.Target, func() (err error) {
		put, err = rec.Place(ctx, target.Camera{Identity: o.identity(), Name: o.d.Title(), Address: o.d.Addr, URL: u.Reveal()})
		return err
	})
	if store.Away(err) && ctx.Err() == nil && put.Slot == "" {
		return put, nil, err // nothing was placed; the job comes again when the database is back
	}
	diagnosis, err := explain(ctx, err, o.facts("", "the recorder", user))
	return put, diagnosis, err
}

// identity is what a target keeps to recognise the camera by: its endpoint reference, else Unlatch's own ID for it.
func (o *deviceWork) identity() string {
	if o.d.Endpoint.Valid {
		return o.d.Endpoint.String
	}
	return "urn:uuid:" + o.d.ID.String()
}

// recorderOf returns the adapter of a target, or nil where no sign-in is known to open it.
func (o *deviceWork) recorderOf(ctx context.Context, id uuid.UUID, log *exchange.Log) (*target.Recorder, string, error) {
	t, err := o.env.store.Device(ctx, id)
	if err != nil {
		return nil, "", err
	}
	if t.Status.Latch(latch.SignedIn).State != latch.Open {
		return nil, "", nil
	}
	c, in, err := o.client(ctx, t, log)
	if own := new(ownError); errors.As(err, &own) || err != nil && ctx.Err() != nil {
		return nil, "", err
	}
	return &target.Recorder{Client: c}, in.User, nil
}

// confirmWait is how long a target gets to show the picture.
const confirmWait = 12 * time.Second

// confirm asks each target that has the camera for its own state.
func (o *deviceWork) confirm(ctx context.Context) error {
	for _, p := range o.d.Status.Placements {
		if p.Confirmed {
			continue
		}
		log := o.newLog()
		rec, user, err := o.recorderOf(ctx, p.Target, log)
		if err != nil {
			return err
		}
		if rec == nil {
			return nil
		}
		defer rec.Client.Close()
		report, err := rec.Confirm(ctx, target.Placement{Slot: p.Slot, Receiver: p.Receiver, Job: p.Job}, confirmWait)
		diagnosis, err := explain(ctx, err, o.facts("", "the recorder", user))
		if err != nil {
			return err
		}
		if diagnosis == nil && !report.Arrived() {
			diagnosis = &diagnose.Diagnosis{Cause: diagnose.TargetWaiting,
				Summary: fmt.Sprintf("%s has the camera and no picture: it reports %s after %s.", diagnose.Capital(p.Name), report.State, report.After.Round(time.Second)),
				Fix:     "Unlatch itself plays this stream, so look at the way between recorder and camera, the sign-in schemes that the recorder speaks, and the camera's session limit.",
				Seen:    fmt.Sprintf("receiver %s, recording %s", report.State, report.Recording)}
		}
		if err := o.record(ctx, store.Finding{Subject: p.Target.String(), Exchange: log.String(),
			Body: evidence.Confirmed{State: report.State, Recording: report.Recording, AfterMS: report.After.Milliseconds(), Diagnosis: diagnosis}}); err != nil {
			return err
		}
	}
	return nil
}
