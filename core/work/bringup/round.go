package bringup

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
	"unlatch/core/stream/picturematch"
	"unlatch/core/wire/rtsp"
)

// A Look is what came of looking at a device in a round of the watch.
type Look struct {
	// Full says that its streams were played.
	Full bool
	// Silent says that it does not answer.
	Silent bool
	// News says that something was recorded: the device is not as it was known.
	News bool
	// Measures are the numbers that it has found, by what they are and of which stream: "rate main", "skew".
	Measures map[string]float64
}

// silenceConfirmed is how long the watch waits before it asks a device again that did not answer: one packet that was lost is no drift.
const silenceConfirmed = 2 * time.Second

// LookInRound looks at a device that is watched. A light look asks for its clock, what it is, how its streams are set, and for the
// description of its main stream; a full look plays its streams and judges the picture besides. Only what is otherwise than it was known is
// recorded: a look that finds nothing new leaves no evidence.
//
// No sign-in goes out but the one that opened the device, and none that it has refused since. The error is trouble of our own.
func (w *Work) LookInRound(ctx context.Context, full bool) (Look, error) {
	if err := w.Read(ctx); err != nil {
		return Look{}, err
	}
	if !w.d.Status.InScope() || w.d.Status.Latch(latch.Heard).State != latch.Open {
		return Look{}, nil
	}
	l := roundLook{Work: w}
	before := w.recorded
	err := l.light(ctx)
	if err == nil && !l.out.Silent && (full || w.recorded > before || l.broken || l.onlyByPlaying()) {
		if err = w.Read(ctx); err == nil {
			err = l.full(ctx)
		}
	}
	l.out.News = w.recorded > before
	return l.out, err
}

// hasService reports whether the device answers for itself by a device service.
func (w *roundLook) hasService() bool { return w.d.Status.Device.XAddr != "" && w.d.Via == nil }

// onlyByPlaying reports whether nothing but playing shows that a device is there: it has no device service, and no stream that could be
// described.
func (w *roundLook) onlyByPlaying() bool {
	if w.hasService() || len(w.d.Status.Streams) == 0 {
		return false
	}
	u, err := streamurl.Parse(w.d.Status.Streams[0].URL)
	return err == nil && !u.RTSP()
}

// A roundLook is one look under way.
type roundLook struct {
	*Work
	out Look
	// broken says that the main stream could not be described: playing it says why.
	broken bool
}

func (w *roundLook) measure(what string, value float64) {
	if w.out.Measures == nil {
		w.out.Measures = map[string]float64{}
	}
	w.out.Measures[what] = value
}

// light asks what needs no stream to be played.
func (w *roundLook) light(ctx context.Context) error {
	if w.hasService() {
		answered, err := w.reach(ctx)
		if err != nil || !answered {
			return err
		}
		known, err := w.stillOpens(ctx)
		if err != nil || !known {
			return err
		}
		if w.d.Status.Latch(latch.Located).State == latch.Open && !w.streamOnly() {
			if err := (locateStep{w.Work}).claimsAnew(ctx); err != nil {
				return err
			}
		}
	}
	return w.describe(ctx)
}

// reach asks for the device's clock. One that does not answer is asked once more, a moment later.
func (w *roundLook) reach(ctx context.Context) (answered bool, err error) {
	step := reachStep{w.Work}
	body, err := step.ask(ctx)
	if err == nil && body.Diagnosis != nil {
		if err := w.Clock.Sleep(ctx, silenceConfirmed); err != nil {
			return false, err
		}
		w.client.close()
		body, err = step.ask(ctx)
	}
	if err != nil {
		return false, err
	}
	if w.out.Silent = body.Diagnosis != nil; !w.out.Silent {
		w.measure("skew", float64(body.SkewMS))
	}
	if was := w.d.Status.Reached; was != nil && sameReach(*was, body) {
		return !w.out.Silent, nil
	}
	return !w.out.Silent, w.Keep(ctx, Finding{Body: body})
}

// sameReach reports whether a device was reached as before: at its place, with its certificate, by a clock that is as right or wrong.
func sameReach(was, is evidence.Reached) bool {
	fingerprint := func(r evidence.Reached) string {
		if r.TLS == nil {
			return ""
		}
		return r.TLS.SHA256
	}
	switch {
	case was.Diagnosis != nil && is.Diagnosis != nil:
		return was.Diagnosis.Cause == is.Diagnosis.Cause
	case was.Diagnosis != nil || is.Diagnosis != nil:
		return false
	}
	drifted := max(was.SkewMS, is.SkewMS) - min(was.SkewMS, is.SkewMS)
	return was.Addr == is.Addr && was.ClockWrong() == is.ClockWrong() && (!is.ClockWrong() || drifted < time.Minute.Milliseconds()) &&
		fingerprint(was) == fingerprint(is)
}

// stillOpens asks the device what it is, with the sign-in that opened it, and reports whether that still opens it. A sign-in that the
// device has refused is not sent again.
func (w *roundLook) stillOpens(ctx context.Context) (bool, error) {
	was := w.d.Status.SignedIn
	if was == nil || was.Diagnosis != nil || was.StreamOnly {
		return false, nil
	}
	c, in, err := w.signedClient(ctx)
	if own := new(OwnError); errors.As(err, &own) {
		return false, err
	}
	var info camera.Info
	if err == nil {
		info, err = c.Info(ctx)
	}
	switch {
	case err == nil && info == was.Info:
		return true, nil
	case err == nil:
		body := *was
		body.Info = info
		return true, w.Keep(ctx, Finding{Body: body})
	case !refused(err):
		diagnosis, err := Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, w.asking(), in.User))
		if err != nil {
			return false, err
		}
		w.log.Note("what it is was not told: %s", diagnosis.Summary)
		return false, nil // it answers, and not this: the next look asks again
	}
	return false, w.refusedNow(ctx, *was, err)
}

// refusedNow records that the device refuses what opened it, or that it lets anyone in since: it was reset then.
func (w *roundLook) refusedNow(ctx context.Context, was evidence.SignedIn, refusal error) error {
	w.client.close()
	if found, err := (signInStep{w.Work}).try(ctx, uuid.Nil, signin.SignIn{}, nil); err == nil {
		found.Open = true
		return w.Keep(ctx, Finding{Body: found})
	}
	diagnosis, err := Explain(ctx, refusal, w.facts(w.d.Status.Device.XAddr, w.asking(), was.User))
	if err != nil {
		return err
	}
	return w.Keep(ctx, Finding{Body: evidence.SignedIn{Tried: []string{was.Label}, Diagnosis: diagnosis}})
}

// describe asks for the description of the main stream (RFC 2326 §10.2), which shows that it can be had, and sets nothing up. What comes in
// datagrams or by HTTP is looked at by playing alone.
func (w *roundLook) describe(ctx context.Context) error {
	if len(w.d.Status.Streams) == 0 || w.d.Status.Latch(latch.Proven).State != latch.Open {
		return nil
	}
	u, err := streamurl.Parse(w.d.Status.Streams[0].URL)
	if err != nil || !u.RTSP() {
		return nil
	}
	req, err := livePlay{w.Work}.streamRequest(ctx, u)
	if err != nil {
		return err
	}
	err = describeOnce(ctx, req.URL, rtsp.Options{Dial: req.Dial, SignIn: req.SignIn, Leave: req.Leave, Pin: req.Pin, Log: w.log})
	if own := new(OwnError); errors.As(err, &own) {
		return err
	}
	w.broken = err != nil
	if !w.hasService() { // there is nothing else by which it would be heard
		w.out.Silent = false
	}
	return ctx.Err()
}

func describeOnce(ctx context.Context, u streamurl.URL, opt rtsp.Options) error {
	conn, err := rtsp.Dial(ctx, u, opt)
	if err != nil {
		return err
	}
	defer conn.Close()
	d, err := conn.Describe(ctx)
	if err != nil {
		return err
	}
	_, err = media.ParseSDP(d.SDP)
	return err
}

// full plays the streams, measures them, and judges the picture of the first.
func (w *roundLook) full(ctx context.Context) error {
	w.out.Full = true
	own, err := w.Record.Still(ctx, w.d.ID)
	if err != nil {
		return &OwnError{err}
	}
	for i := range w.d.Status.Streams {
		p, err := proveStep{w.Work}.playWithin(ctx, i)
		if err != nil {
			return err
		}
		st := w.d.Status.Streams[i]
		w.measured(st.Role, p)
		if err := w.keepIfOther(ctx, st, p); err != nil {
			return err
		}
		if i == 0 && p.OK && p.Still != nil {
			if err := w.judgeView(ctx, own, p.Still); err != nil {
				return err
			}
		}
	}
	if d := w.d.Status.Streams; len(d) > 0 && !w.hasService() {
		last := w.d.Status.Proofs[d[0].Role].Diagnosis
		w.out.Silent = last != nil && unreached(last.Cause)
	}
	return nil
}

// measured notes what a stream measures.
func (w *roundLook) measured(role string, p proof.Proof) {
	if !p.OK || p.Video == nil {
		return
	}
	w.measure("rate "+role, p.Video.FPS)
	w.measure("bitrate "+role, p.Video.BitrateKbps)
	if sent := p.Video.Packets + p.Video.Lost; sent > 0 {
		w.measure("loss "+role, 100*float64(p.Video.Lost)/float64(sent))
	}
	if p.Video.GOPSeconds > 0 {
		w.measure("key frames "+role, p.Video.GOPSeconds)
	}
}

// keepIfOther records the proof of a stream where it is not as the last one, within what measures may differ by.
func (w *roundLook) keepIfOther(ctx context.Context, st camera.Stream, p proof.Proof) error {
	body := evidence.Proof{Proof: p, PlainURL: st.URL, Role: st.Role, Settings: st.Claimed.Fingerprint()}
	last, played := w.d.Status.Proofs[st.Role]
	if played && last.OK == p.OK && last.PlainURL == st.URL && last.Settings == body.Settings && sameTrouble(last.Diagnosis, p.Diagnosis) {
		then := *w.d
		then.Status.Proofs = map[string]evidence.Proof{st.Role: last}
		now := *w.d
		now.Status.Proofs = map[string]evidence.Proof{st.Role: body}
		if len(baseline.Compare(baseline.Of([]*latch.Device{&then}), baseline.Of([]*latch.Device{&now}))) == 0 {
			return nil
		}
	}
	f := Finding{Subject: st.Token, Exchange: p.Exchange}
	if p.Still != nil {
		f.Still, f.StillID = p.Still, uuid.Must(uuid.NewV7())
		body.Still = &f.StillID
	}
	f.Body = body
	if w.d.Status.Proofs == nil {
		w.d.Status.Proofs = map[string]evidence.Proof{}
	}
	w.d.Status.Proofs[st.Role] = body
	return w.Keep(ctx, f)
}

func sameTrouble(a, b *diagnose.Diagnosis) bool {
	cause := func(d *diagnose.Diagnosis) trouble.Cause {
		if d == nil {
			return ""
		}
		return d.Cause
	}
	return cause(a) == cause(b)
}

// judgeView tells whether the camera shows the view that it is known by. A camera of which no view is known yet is known by its last still,
// else by what it shows now. What it shows without an obstacle is learned as its view of this part of the day.
func (w *roundLook) judgeView(ctx context.Context, last, still []byte) error {
	now, ok := picturematch.ViewOfStill(still)
	if w.Views == nil || !ok {
		return nil
	}
	hour := w.now().Hour()
	known, err := w.Views.Of(ctx, w.d.ID)
	if err != nil {
		return &OwnError{err}
	}
	if first, ok := picturematch.ViewOfStill(last); ok && len(known) == 0 {
		known = known.Learn(hour, first)
	}
	body := evidence.View{Obstacle: known.Judge(hour, now)}
	if body.Obstacle == "" {
		if err := w.Views.Learn(ctx, w.d.ID, hour, now); err != nil {
			return &OwnError{err}
		}
	}
	was := w.d.Status.View
	if was == nil && body.Obstacle == "" || was != nil && was.Obstacle == body.Obstacle {
		return nil
	}
	if body.Obstacle == picturematch.Turned {
		if body.Shows, err = w.whose(ctx, hour, now); err != nil {
			return &OwnError{err}
		}
	}
	f := Finding{}
	if body.Obstacle != "" {
		f.Still, f.StillID = still, uuid.Must(uuid.NewV7())
		body.Still = &f.StillID
	}
	f.Body = body
	return w.Keep(ctx, f)
}

// whose returns the other camera of the site whose view a picture shows; the nil UUID for none.
func (w *roundLook) whose(ctx context.Context, hour int, now picturematch.View) (uuid.UUID, error) {
	all, err := w.Views.All(ctx)
	best, whose := 0.0, uuid.Nil
	for id, known := range all {
		if id == w.d.ID || known.Judge(hour, now) != "" {
			continue
		}
		for _, v := range known {
			if verdict, score := picturematch.Compare(v.Print, now.Print); verdict == picturematch.Same && score > best {
				best, whose = score, id
			}
		}
	}
	return whose, err
}
