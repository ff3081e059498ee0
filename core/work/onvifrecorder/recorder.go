// Package onvifrecorder drives recorders by the open standard: a receiver pulls the stream, a recording is the slot, a job ties them (ONVIF
// Receiver Service, Recording Control Service).
package onvifrecorder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/target"
)

// Kind is the kind of target that this driver is for.
const Kind target.Kind = "onvif-recorder"

// Driver is the driver; its zero value is ready.
type Driver struct{}

// Kind implements target.Driver.
func (Driver) Kind() target.Kind { return Kind }

// Connect implements target.Driver. The address is that of the device service; the recorder's clock is read first, since it is wanted for
// signing in.
func (Driver) Connect(ctx context.Context, a target.Access) (target.Session, error) {
	c := onvif.New(a.Address, onvif.Options{Dial: a.Dial, SignIn: a.SignIn, Leave: a.Leave, InScope: a.InScope, Pin: a.Pin, Log: a.Log})
	if _, err := c.Clock(ctx); err != nil {
		c.Close()
		return nil, err
	}
	return New(c, a), nil
}

// New returns a session over a client that is ready to sign in. It owns the client from then on.
func New(c *onvif.Client, a target.Access) *Session { return &Session{client: c, access: a} }

// A Session is a recorder under work.
type Session struct {
	client *onvif.Client
	access target.Access
}

// Scheme implements target.SignedIn.
func (r *Session) Scheme() string { return r.client.Scheme() }

// hand asks whether the recorder may be given the camera's sign-in, which stands in the URL that its receiver gets.
func (r *Session) hand(ctx context.Context, c target.Camera) error {
	if c.SignIn.Anonymous() {
		return nil
	}
	channel, scheme, err := r.client.Channel(ctx, onvif.NSReceiver)
	if err != nil {
		return err
	}
	return r.access.HandOver.Ask(ctx, target.Handing{Secret: target.CameraSignIn, Channel: channel, Scheme: scheme,
		About: r.access.About})
}

// Close implements target.Session.
func (r *Session) Close() { r.client.Close() }

// placement is what a reference holds.
type placement struct {
	Recording string `json:"recording"`
	Receiver  string `json:"receiver"`
	Job       string `json:"job"`
}

func (p placement) out() target.Placement {
	raw, _ := json.Marshal(p)
	return target.Placement{Ref: target.Ref(raw), Slot: p.Recording, Token: p.Recording}
}

func read(ref target.Ref) (p placement, err error) {
	if err := json.Unmarshal([]byte(ref), &p); err != nil {
		return p, fmt.Errorf("the reference to the placement cannot be read: %w", err)
	}
	return p, nil
}

// maxSlots bounds what a recorder says that it holds.
const maxSlots = 1024

// Slots lists the recordings with the state of their receivers.
func (r *Session) Slots(ctx context.Context) (target.Layout, error) {
	total, err := r.client.MaxRecordings(ctx)
	if err != nil {
		return target.Layout{}, err
	}
	recordings, jobs, err := r.inventory(ctx)
	if err != nil {
		return target.Layout{}, err
	}
	out := target.Layout{Slots: []target.Slot{}}
	for _, rec := range recordings {
		s := target.Slot{Token: rec.Token, Label: rec.Token, Is: target.Used, Name: rec.Name, Identity: rec.SourceID, Address: rec.Address}
		if j := jobs[rec.Token]; j.Receiver == "" { // a camera on its own switch, or a recording that nobody feeds
			s.Is, s.Why = target.Locked, "it is on the recorder's own switch, or fed by nobody"
		}
		if j, ok := jobs[rec.Token]; ok && j.Receiver != "" {
			if s.State, err = r.client.ReceiverState(ctx, j.Receiver); err != nil {
				return target.Layout{}, err
			}
		}
		out.Slots = append(out.Slots, s)
	}
	for n := len(out.Slots); n < min(total, maxSlots); n++ { // the standard names no slot before it is in use
		out.Slots = append(out.Slots, target.Slot{Token: fmt.Sprintf("free %d", n+1), Label: "free", Is: target.Free})
	}
	return out, nil
}

func (r *Session) inventory(ctx context.Context) ([]onvif.Recording, map[string]onvif.RecordingJob, error) {
	recordings, err := r.client.Recordings(ctx)
	if err != nil {
		return nil, nil, err
	}
	list, err := r.client.RecordingJobs(ctx)
	if err != nil {
		return nil, nil, err
	}
	jobs := map[string]onvif.RecordingJob{}
	for _, j := range list {
		jobs[j.Recording] = j
	}
	return recordings, jobs, nil
}

// Place implements target.Session. It puts a camera into the slot that it has, else into a free one. A placement that was cut off
// half way is finished rather than begun again.
func (r *Session) Place(ctx context.Context, c target.Camera) (target.Placement, error) {
	recordings, jobs, err := r.inventory(ctx)
	if err == nil {
		err = r.hand(ctx, c)
	}
	if err != nil {
		return target.Placement{}, err
	}
	for _, rec := range recordings {
		if rec.SourceID != c.Identity {
			continue
		}
		if j, ok := jobs[rec.Token]; ok {
			return placement{rec.Token, j.Receiver, j.Token}.out(), unfit(r.client.ConfigureReceiver(ctx, j.Receiver, c.SignedURL()), c.SignedURL())
		}
		receiver, err := r.orphan(ctx, c.SignedURL(), jobs)
		if err != nil {
			return target.Placement{}, err
		}
		return r.feed(ctx, rec.Token, receiver, c)
	}
	slot, err := r.client.CreateRecording(ctx, onvif.Recording{SourceID: c.Identity, Name: c.Name, Address: c.Address})
	if err != nil {
		return target.Placement{}, r.full(ctx, err)
	}
	return r.feed(ctx, slot, "", c)
}

// orphan returns the receiver that a placement which was cut off has left behind: it pulls the camera's stream for no recording. It is ""
// where there is none. Recorders may tell URLs without their sign-ins, so those are not compared.
func (r *Session) orphan(ctx context.Context, url string, jobs map[string]onvif.RecordingJob) (token string, err error) {
	want, err := streamurl.Parse(url)
	if err != nil {
		return "", nil // the recorder has the last word on a URL
	}
	used := map[string]bool{}
	for _, j := range jobs {
		used[j.Receiver] = true
	}
	list, err := r.client.Receivers(ctx)
	for _, x := range list {
		if u, perr := streamurl.Parse(x.URI); perr == nil && !used[x.Token] && u.HostPort() == want.HostPort() &&
			u.Target() == want.Target() {
			return x.Token, nil
		}
	}
	return "", err
}

// feed ties a slot to a receiver, a new one where none is given. What it made is taken back when it fails, so that no slot is left taken by
// nothing.
func (r *Session) feed(ctx context.Context, slot, receiver string, c target.Camera) (target.Placement, error) {
	var err error
	if receiver != "" {
		err = r.client.ConfigureReceiver(ctx, receiver, c.SignedURL())
	} else {
		receiver, err = r.client.CreateReceiver(ctx, c.SignedURL())
	}
	if err != nil {
		return target.Placement{}, errors.Join(unfit(err, c.SignedURL()), r.undo(ctx, slot, ""))
	}
	job, err := r.client.CreateRecordingJob(ctx, slot, receiver)
	if err != nil {
		return target.Placement{}, errors.Join(err, r.undo(ctx, slot, receiver))
	}
	return placement{slot, receiver, job}.out(), nil
}

// unfit tells a URL that is turned down for its sign-in from other faults, as far as that can be known: the target finds the URL bad,
// and its sign-in is long or has to be percent-encoded, which some targets cannot read.
func unfit(err error, url string) error {
	var f *onvif.Fault
	u, perr := streamurl.Parse(url)
	if !errors.As(err, &f) || !f.HasCode("InvalidArgVal") || perr != nil || u.SignIn.Anonymous() {
		return err
	}
	head, _, _ := strings.Cut(strings.TrimPrefix(u.Reveal(), u.Scheme+"://"), "@")
	out := &diagnose.UnfitSignInError{Encoded: strings.Contains(head, "%"), Long: len(u.SignIn.Secret.Reveal()) > longSecret,
		Answer: f.Reason}
	if !out.Encoded && !out.Long {
		return err
	}
	return out
}

// longSecret is the length from which on a password is a likely reason for a refusal.
const longSecret = 32

func (r *Session) undo(ctx context.Context, slot, receiver string) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	var errs []error
	if receiver != "" {
		errs = append(errs, r.client.DeleteReceiver(ctx, receiver))
	}
	return errors.Join(append(errs, r.client.DeleteRecording(ctx, slot))...)
}

// full tells a full recorder from other faults.
func (r *Session) full(ctx context.Context, err error) error {
	var f *onvif.Fault
	if errors.As(err, &f) && (f.HasCode("MaxRecordings") || f.HasCode("MaxRecordingJobs") || f.HasCode("MaxReceivers")) {
		total, terr := r.client.MaxRecordings(ctx)
		if terr != nil {
			return err
		}
		return &target.FullError{Slots: total}
	}
	return err
}

// Confirm implements target.Session: the picture has arrived when the receiver is connected and the job records.
func (r *Session) Confirm(ctx context.Context, ref target.Ref, wait time.Duration) (target.Report, error) {
	p, err := read(ref)
	if err != nil {
		return target.Report{}, err
	}
	began := time.Now()
	for {
		out := target.Report{After: time.Since(began)}
		if out.Says, err = r.client.ReceiverState(ctx, p.Receiver); err != nil {
			return out, err
		}
		recording, err := r.client.RecordingJobState(ctx, p.Job)
		if err != nil {
			return out, err
		}
		out.Arrived = out.Says == "Connected" && recording == "Active"
		if out.Says == "Connecting" { // ONVIF Receiver Service Specification §4.2: ReceiverState
			out.Waits = trouble.WaitsToConnect
		}
		if recording != "" {
			out.Says += ", recording " + recording
		}
		if out.Arrived || out.After > wait {
			return out, nil
		}
		select {
		case <-ctx.Done():
			return out, ctx.Err()
		case <-time.After(250 * time.Millisecond):
		}
	}
}

// SendsOn implements target.Sender: the recording is played from the replay service. A recorder without one sends nothing on.
func (r *Session) SendsOn(ctx context.Context, ref target.Ref) ([]target.Sent, error) {
	p, err := read(ref)
	if err != nil {
		return nil, err
	}
	uri, err := r.client.ReplayURI(ctx, p.Recording)
	if err != nil || uri == "" {
		return nil, err
	}
	return []target.Sent{{Role: "main", URL: uri}}, nil
}

// Remove takes a camera off its slot. What is gone already is no error.
func (r *Session) Remove(ctx context.Context, ref target.Ref) error {
	p, err := read(ref)
	if err != nil {
		return err
	}
	for _, step := range []func() error{
		func() error { return r.client.DeleteRecordingJob(ctx, p.Job) },
		func() error { return r.client.DeleteReceiver(ctx, p.Receiver) },
		func() error { return r.client.DeleteRecording(ctx, p.Recording) },
	} {
		var f *onvif.Fault
		if err := step(); err != nil && !(errors.As(err, &f) && f.HasCode("InvalidArgVal")) {
			return err
		}
	}
	return nil
}
