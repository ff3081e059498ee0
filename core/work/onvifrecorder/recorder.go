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

// Describe implements target.Describer: main and sub are taken together by a recorder that lets tracks be added to a recording, and says
// how many.
func (r *Session) Describe(ctx context.Context) (target.About, error) {
	can, err := r.client.RecordingCapabilities(ctx)
	about := r.access.About
	about.Both = can.DynamicTracks && can.Options
	return about, err
}

// placement is what a reference holds. The first receiver has a field of its own, since older records know no other.
type placement struct {
	Recording string   `json:"recording"`
	Receiver  string   `json:"receiver"` // "" for a channel of the recorder's own
	More      []string `json:"more,omitempty"`
	Job       string   `json:"job"`
	// Changed says that its receivers were there before and were given another URL: some keep the old sign-in then.
	Changed bool `json:"changed,omitempty"`
}

// receivers returns all that feed the recording, that of the main stream first.
func (p placement) receivers() []string {
	if p.Receiver == "" {
		return nil
	}
	return append([]string{p.Receiver}, p.More...)
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
	can, err := r.client.RecordingCapabilities(ctx)
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
		switch j := jobs[rec.Token]; {
		case j.Profile != "":
			s.Is, s.Why = target.Locked, "on the recorder’s own switch"
		case len(j.Receivers) == 0:
			s.Is, s.Why = target.Locked, "nothing feeds it"
		}
		if s.State, err = r.pulling(ctx, jobs[rec.Token].Receivers); err != nil {
			return target.Layout{}, err
		}
		out.Slots = append(out.Slots, s)
	}
	for n := len(out.Slots); n < min(can.Max, maxSlots); n++ { // the standard names no slot before it is in use
		out.Slots = append(out.Slots, target.Slot{Token: fmt.Sprintf("free %d", n+1), Label: "free", Is: target.Free})
	}
	return out, nil
}

// pulling returns the state of receivers in one word: that of the first that is not connected. It is "" where there are none.
func (r *Session) pulling(ctx context.Context, receivers []string) (state string, err error) {
	for _, token := range receivers {
		if state, err = r.client.ReceiverState(ctx, token); err != nil || state != connected {
			return state, err
		}
	}
	return state, nil
}

// States of receivers (ONVIF Receiver Service, ReceiverState) and of jobs that record.
const (
	connected  = "Connected"
	connecting = "Connecting"
	active     = "Active"
)

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

// Confirm implements target.Session: the picture has arrived when every receiver is connected and the job records. What the recorder has
// on its own switch has no receiver: its job's word counts.
func (r *Session) Confirm(ctx context.Context, ref target.Ref, wait time.Duration) (target.Report, error) {
	p, err := read(ref)
	if err != nil {
		return target.Report{}, err
	}
	began := time.Now()
	for {
		out := target.Report{After: time.Since(began)}
		if out.Says, err = r.pulling(ctx, p.receivers()); err != nil {
			return out, err
		}
		recording, err := r.client.RecordingJobState(ctx, p.Job)
		if err != nil {
			return out, err
		}
		out.Arrived = recording == active && (out.Says == connected || p.Receiver == "")
		if out.Says == connecting {
			out.Waits = trouble.WaitsToConnect
		}
		out.Unchanged = p.Changed && !out.Arrived
		if recording != "" {
			out.Says = strings.TrimPrefix(out.Says+", recording "+recording, ", ")
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

// newest is how long before the newest moment of a recording its replay begins: what came last may not be written yet.
const newest = 2 * time.Second

// Replay implements target.Replayer. The newest moment is that of the recording's own information; a recorder that does not tell it is
// taken to have recorded until now, by its clock.
func (r *Session) Replay(ctx context.Context, ref target.Ref) (*target.Replay, error) {
	p, err := read(ref)
	if err != nil {
		return nil, err
	}
	uri, err := r.client.ReplayURI(ctx, p.Recording)
	if err != nil || uri == "" {
		return nil, err
	}
	latest, err := r.client.LatestRecorded(ctx, p.Recording)
	if err != nil {
		return nil, err
	}
	if latest.IsZero() {
		latest = time.Now().Add(r.client.Skew())
	}
	return &target.Replay{URL: uri, From: latest.Add(-newest)}, nil
}

// Own implements target.Owner: the recording of a channel of the recorder's own is fed by a media profile and no receiver.
func (r *Session) Own(ctx context.Context, channel int) (*target.Placement, error) {
	jobs, err := r.client.ChannelJobs(ctx)
	if err != nil {
		return nil, err
	}
	j, ok := jobs[channel]
	if !ok {
		return nil, nil
	}
	out := placement{Recording: j.Recording, Job: j.Token}.out()
	return &out, nil
}

// Remove takes a camera off its slot. What is gone already is no error.
func (r *Session) Remove(ctx context.Context, ref target.Ref) error {
	p, err := read(ref)
	if err != nil {
		return err
	}
	steps := []func() error{func() error { return r.client.DeleteRecordingJob(ctx, p.Job) }}
	for _, token := range p.receivers() {
		steps = append(steps, func() error { return r.client.DeleteReceiver(ctx, token) })
	}
	steps = append(steps, func() error { return r.client.DeleteRecording(ctx, p.Recording) })
	for _, step := range steps {
		var f *onvif.Fault
		if err := step(); err != nil && !(errors.As(err, &f) && f.HasCode("InvalidArgVal")) {
			return err
		}
	}
	return nil
}
