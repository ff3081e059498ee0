package onvifrecorder

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/target"
)

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
	f := filling{Session: r, camera: c, jobs: jobs}
	for _, rec := range recordings {
		if rec.SourceID == c.Identity {
			f.recording, f.job = rec, jobs[rec.Token]
			return f.fill(ctx)
		}
	}
	token, err := r.client.CreateRecording(ctx, onvif.Recording{SourceID: c.Identity, Name: c.Name, Address: c.Address})
	if err != nil {
		return target.Placement{}, r.full(ctx, err)
	}
	f.recording.Token, f.fresh = token, true
	return f.fill(ctx)
}

// A filling ties the streams of a camera to a recording: each has a receiver and a track, and one job feeds them all.
type filling struct {
	*Session
	camera    target.Camera
	recording onvif.Recording
	fresh     bool                          // the recording was made for it just now
	job       onvif.RecordingJob            // the zero job where nothing feeds the recording yet
	jobs      map[string]onvif.RecordingJob // of the whole recorder, by recording
	made      []string                      // receivers that were made for it
	changed   bool                          // a receiver that was there was given another URL
}

// fill does that. What it made is taken back when it fails, so that no slot is left taken by nothing; a recording that was fed before
// stays.
func (f *filling) fill(ctx context.Context) (target.Placement, error) {
	sources, err := f.sources(ctx)
	if err == nil {
		err = f.feed(ctx, sources)
	}
	if err != nil {
		if f.job.Token == "" {
			err = errors.Join(err, f.undo(ctx))
		}
		return target.Placement{}, err
	}
	p := placement{Recording: f.recording.Token, Job: f.job.Token, Receiver: sources[0].Receiver, Changed: f.changed}
	for _, s := range sources[1:] {
		p.More = append(p.More, s.Receiver)
	}
	return p.out(), nil
}

// sources returns a receiver, and where there are several a track, for each stream that the recording takes.
func (f *filling) sources(ctx context.Context) ([]onvif.Source, error) {
	urls := f.camera.SignedURLs()
	tracks, err := f.tracks(ctx, len(urls))
	if err != nil {
		return nil, err
	}
	had := f.job.Receivers
	if f.camera.Anew {
		had = nil
	}
	sources := make([]onvif.Source, len(tracks))
	for i, url := range urls[:len(tracks)] {
		sources[i].Track = tracks[i]
		if i < len(had) {
			sources[i].Receiver, f.changed = had[i], true
		} else if !f.fresh {
			if sources[i].Receiver, err = f.orphan(ctx, url); err != nil {
				return nil, err
			}
		}
		if sources[i].Receiver != "" {
			err = f.client.ConfigureReceiver(ctx, sources[i].Receiver, url)
		} else if sources[i].Receiver, err = f.client.CreateReceiver(ctx, url); err == nil {
			f.made = append(f.made, sources[i].Receiver)
		}
		if err != nil {
			return nil, unfit(err, url)
		}
	}
	return sources, nil
}

// tracks returns the tracks for n streams, or for as many as the recording takes. One stream needs none to be named.
func (f *filling) tracks(ctx context.Context, n int) ([]string, error) {
	if n <= 1 {
		return []string{""}, nil
	}
	if f.fresh { // which tracks it has is told only where it is listed
		list, err := f.client.Recordings(ctx)
		if err != nil {
			return nil, err
		}
		for _, rec := range list {
			if rec.Token == f.recording.Token {
				f.recording = rec
			}
		}
	}
	tracks := f.recording.VideoTracks()
	for len(tracks) < n {
		spare, err := f.client.SpareVideoTracks(ctx, f.recording.Token)
		if err != nil {
			return nil, err
		}
		if spare == 0 {
			break
		}
		token, err := f.client.CreateVideoTrack(ctx, f.recording.Token, f.camera.Streams[len(tracks)].Role)
		if err != nil {
			return nil, err
		}
		tracks = append(tracks, token)
	}
	if len(tracks) < 2 {
		return []string{""}, nil
	}
	return tracks[:n], nil
}

// feed gives the sources to the recording's job, a new one where there is none.
func (f *filling) feed(ctx context.Context, sources []onvif.Source) (err error) {
	if f.job.Token == "" {
		f.job.Token, err = f.client.CreateRecordingJob(ctx, f.recording.Token, sources)
		return err
	}
	var now []string
	for _, s := range sources {
		now = append(now, s.Receiver)
	}
	if !slices.Equal(now, f.job.Receivers) {
		if err := f.client.SetRecordingJob(ctx, f.job.Token, f.recording.Token, sources); err != nil {
			return err
		}
	}
	return f.sweep(ctx, now)
}

// sweep removes receivers that go on pulling for nothing: those that the job had and does not use any more, also where an earlier
// placement was cut off before it removed them.
func (f *filling) sweep(ctx context.Context, now []string) error {
	idle, err := f.idle(ctx)
	if err != nil {
		return err
	}
	for _, x := range idle {
		ours := slices.ContainsFunc(f.camera.SignedURLs(), func(url string) bool { return pulls(x, url) })
		if slices.Contains(now, x.Token) || !ours && !slices.Contains(f.job.Receivers, x.Token) {
			continue
		}
		if err := f.client.DeleteReceiver(ctx, x.Token); err != nil {
			return err
		}
	}
	return nil
}

// idle returns the receivers that feed no other recording, and were not made just now.
func (f *filling) idle(ctx context.Context) ([]onvif.Receiver, error) {
	used := map[string]bool{}
	for _, j := range f.jobs {
		for _, token := range j.Receivers {
			used[token] = used[token] || j.Token != f.job.Token
		}
	}
	for _, token := range f.made {
		used[token] = true
	}
	list, err := f.client.Receivers(ctx)
	return slices.DeleteFunc(list, func(x onvif.Receiver) bool { return used[x.Token] }), err
}

// pulls reports whether a receiver pulls a stream. Recorders may tell URLs without their sign-ins, so those are not compared.
func pulls(x onvif.Receiver, url string) bool {
	want, err := streamurl.Parse(url)
	u, xerr := streamurl.Parse(x.URI)
	return err == nil && xerr == nil && u.HostPort() == want.HostPort() && u.Target() == want.Target()
}

// orphan returns the receiver that a placement which was cut off has left behind: it pulls the stream for no recording. It is "" where
// there is none.
func (f *filling) orphan(ctx context.Context, url string) (token string, err error) {
	idle, err := f.idle(ctx)
	for _, x := range idle {
		if pulls(x, url) && !slices.Contains(f.job.Receivers, x.Token) {
			return x.Token, nil
		}
	}
	return "", err
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

// undo takes back what a filling that failed has made.
func (f *filling) undo(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	var errs []error
	for _, token := range f.made {
		errs = append(errs, f.client.DeleteReceiver(ctx, token))
	}
	return errors.Join(append(errs, f.client.DeleteRecording(ctx, f.recording.Token))...)
}

// full tells a full recorder from other faults.
func (r *Session) full(ctx context.Context, err error) error {
	var f *onvif.Fault
	if errors.As(err, &f) && (f.HasCode("MaxRecordings") || f.HasCode("MaxRecordingJobs") || f.HasCode("MaxReceivers")) {
		can, cerr := r.client.RecordingCapabilities(ctx)
		if cerr != nil {
			return err
		}
		return &target.FullError{Slots: can.Max}
	}
	return err
}
