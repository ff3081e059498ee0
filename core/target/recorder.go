package target

import (
	"context"
	"errors"
	"strings"
	"time"

	"unlatch/core/diagnose"
	"unlatch/core/onvif"
	"unlatch/core/streamurl"
)

// Recorder is a recorder by the open standard: a receiver pulls the stream, a recording is the slot, a job ties them.
type Recorder struct {
	Client *onvif.Client
}

// Layout lists the recordings with the state of their receivers.
func (r *Recorder) Layout(ctx context.Context) (Layout, error) {
	total, err := r.Client.MaxRecordings(ctx)
	if err != nil {
		return Layout{}, err
	}
	recordings, jobs, err := r.inventory(ctx)
	if err != nil {
		return Layout{}, err
	}
	out := Layout{Total: total, Used: []Slot{}}
	for _, rec := range recordings {
		s := Slot{Token: rec.Token, Name: rec.Name, Identity: rec.SourceID, Address: rec.Address}
		if j, ok := jobs[rec.Token]; ok && j.Receiver != "" {
			if s.State, err = r.Client.ReceiverState(ctx, j.Receiver); err != nil {
				return Layout{}, err
			}
		}
		out.Used = append(out.Used, s)
	}
	return out, nil
}

func (r *Recorder) inventory(ctx context.Context) ([]onvif.Recording, map[string]onvif.RecordingJob, error) {
	recordings, err := r.Client.Recordings(ctx)
	if err != nil {
		return nil, nil, err
	}
	list, err := r.Client.RecordingJobs(ctx)
	if err != nil {
		return nil, nil, err
	}
	jobs := map[string]onvif.RecordingJob{}
	for _, j := range list {
		jobs[j.Recording] = j
	}
	return recordings, jobs, nil
}

// Place puts a camera into the slot that it has, else into a free one. A placement that was cut off half way is finished
// rather than begun again.
func (r *Recorder) Place(ctx context.Context, c Camera) (Placement, error) {
	recordings, jobs, err := r.inventory(ctx)
	if err != nil {
		return Placement{}, err
	}
	for _, rec := range recordings {
		if rec.SourceID != c.Identity {
			continue
		}
		if j, ok := jobs[rec.Token]; ok {
			return Placement{rec.Token, j.Receiver, j.Token}, unfit(r.Client.ConfigureReceiver(ctx, j.Receiver, c.URL), c.URL)
		}
		receiver, err := r.orphan(ctx, c.URL, jobs)
		if err != nil {
			return Placement{}, err
		}
		return r.feed(ctx, rec.Token, receiver, c)
	}
	slot, err := r.Client.CreateRecording(ctx, onvif.Recording{SourceID: c.Identity, Name: c.Name, Address: c.Address})
	if err != nil {
		return Placement{}, r.full(ctx, err)
	}
	return r.feed(ctx, slot, "", c)
}

// orphan is the receiver that a placement which was cut off has left behind: it pulls the camera's stream for no recording. It is "" where
// there is none. Recorders may tell URLs without their sign-ins, so those are not compared.
func (r *Recorder) orphan(ctx context.Context, url string, jobs map[string]onvif.RecordingJob) (token string, err error) {
	want, err := streamurl.Parse(url)
	if err != nil {
		return "", nil // the recorder has the last word on a URL
	}
	used := map[string]bool{}
	for _, j := range jobs {
		used[j.Receiver] = true
	}
	list, err := r.Client.Receivers(ctx)
	for _, x := range list {
		if u, perr := streamurl.Parse(x.URI); perr == nil && !used[x.Token] && u.HostPort() == want.HostPort() && u.Target() == want.Target() {
			return x.Token, nil
		}
	}
	return "", err
}

// feed ties a slot to a receiver, a new one where none is given. What it made is taken back when it fails, so that no slot is left taken by
// nothing.
func (r *Recorder) feed(ctx context.Context, slot, receiver string, c Camera) (Placement, error) {
	var err error
	if receiver != "" {
		err = r.Client.ConfigureReceiver(ctx, receiver, c.URL)
	} else {
		receiver, err = r.Client.CreateReceiver(ctx, c.URL)
	}
	if err != nil {
		return Placement{}, errors.Join(unfit(err, c.URL), r.undo(ctx, slot, ""))
	}
	job, err := r.Client.CreateRecordingJob(ctx, slot, receiver)
	if err != nil {
		return Placement{}, errors.Join(err, r.undo(ctx, slot, receiver))
	}
	return Placement{slot, receiver, job}, nil
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
	out := &diagnose.UnfitSignInError{Encoded: strings.Contains(head, "%"), Long: len(u.SignIn.Secret.Reveal()) > longSecret, Answer: f.Reason}
	if !out.Encoded && !out.Long {
		return err
	}
	return out
}

// longSecret is the length from which on a password is a likely reason for a refusal.
const longSecret = 32

func (r *Recorder) undo(ctx context.Context, slot, receiver string) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	var errs []error
	if receiver != "" {
		errs = append(errs, r.Client.DeleteReceiver(ctx, receiver))
	}
	return errors.Join(append(errs, r.Client.DeleteRecording(ctx, slot))...)
}

// full tells a full recorder from other faults.
func (r *Recorder) full(ctx context.Context, err error) error {
	var f *onvif.Fault
	if errors.As(err, &f) && (f.HasCode("MaxRecordings") || f.HasCode("MaxRecordingJobs") || f.HasCode("MaxReceivers")) {
		total, terr := r.Client.MaxRecordings(ctx)
		if terr != nil {
			return err
		}
		return &diagnose.TargetFullError{Slots: total}
	}
	return err
}

// Confirm implements Adapter.
func (r *Recorder) Confirm(ctx context.Context, p Placement, wait time.Duration) (Report, error) {
	began := time.Now()
	for {
		var out Report
		var err error
		if out.State, err = r.Client.ReceiverState(ctx, p.Receiver); err != nil {
			return out, err
		}
		if out.Recording, err = r.Client.RecordingJobState(ctx, p.Job); err != nil {
			return out, err
		}
		out.After = time.Since(began)
		if out.Arrived() || out.After > wait {
			return out, nil
		}
		select {
		case <-ctx.Done():
			return out, ctx.Err()
		case <-time.After(250 * time.Millisecond):
		}
	}
}

// Remove takes a camera off its slot. What is gone already is no error.
func (r *Recorder) Remove(ctx context.Context, p Placement) error {
	for _, step := range []func() error{
		func() error { return r.Client.DeleteRecordingJob(ctx, p.Job) },
		func() error { return r.Client.DeleteReceiver(ctx, p.Receiver) },
		func() error { return r.Client.DeleteRecording(ctx, p.Slot) },
	} {
		var f *onvif.Fault
		if err := step(); err != nil && !(errors.As(err, &f) && f.HasCode("InvalidArgVal")) {
			return err
		}
	}
	return nil
}
