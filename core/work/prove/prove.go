// Package prove plays one stream URL and reports what really came: a picture, its codec, size, rate and key-frame
// interval, or the most likely reason why none came. It is the product's one way of believing in a stream.
package prove

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/address"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
)

// Times of a proof.
const (
	// atLeast is measured after the first key frame even where two key-frame intervals pass sooner: two whole seconds, and a little for the
	// packet that shows that the second one has passed.
	atLeast = 2*time.Second + 250*time.Millisecond
	// atMost is waited for key frames where no other patience is asked for.
	atMost = 12 * time.Second
	// smartMost is waited for the first key frame of a stream that comes as it should otherwise: a smart coder leaves key frames out while
	// nothing moves, for up to twenty seconds.
	smartMost = 25 * time.Second
)

// A Prover plays streams. Still may be nil: then no picture is decoded.
type Prover struct {
	Dial  address.Dialer
	Still func(ctx context.Context, keyframe media.Keyframe) (jpeg []byte, err error)
}

// A Request names what to prove.
type Request struct {
	URL     streamurl.URL
	SignIn  signin.SignIn // used where the URL has none
	Leave   signin.Leave  // is asked before the sign-in goes out; nil lets no readable one out
	Measure time.Duration // how long to measure; 0 for as long as two key-frame intervals, at least 2 s, at most 12 s
	Timeout time.Duration // for one answer; 0 means 5 s
	// Patience is how long key frames are waited for; 0 means 12 s, since encoders left alone use intervals of up to 10 s.
	Patience time.Duration
	// Transport is how the packets shall come; "" begins with TCP and goes on to what the device takes instead.
	Transport rtsp.Transport
	Pin       string // SHA-256 of the certificate that the device showed before, in hex; "" for none
	// Replay asks for what was recorded; nil for a live stream. The picture of the proof is the newest that comes then, and not the first.
	Replay *rtsp.Replay
	// Playing, where not nil, is called once the device has taken the sign-in and plays; the proof waits for it to return.
	Playing func()
}

// Prove plays the URL and measures it. It does not return an error: a proof that failed says why in its diagnosis.
func (p *Prover) Prove(ctx context.Context, req Request) proof.Proof {
	if req.SignIn.Anonymous() {
		req.SignIn = req.URL.SignIn
	}
	if req.Patience == 0 {
		req.Patience = atMost
	}
	shown := req.URL
	shown.SignIn = signin.SignIn{User: req.SignIn.User, Secret: req.SignIn.Secret}
	now := time.Now()
	r := &run{p: p, req: req, log: exchange.NewLog(nil), start: now, mark: now, out: proof.Proof{URL: shown.Redacted(), Steps: []proof.Step{}}}
	if err := r.play(ctx); err != nil {
		d := diagnose.Explain(err, diagnose.Facts{Host: req.URL.Host, Port: req.URL.DialPort(), Asking: "the stream",
			User: req.SignIn.User})
		r.out.Diagnosis = &d
	}
	r.out.OK = r.out.Diagnosis == nil
	r.out.Exchange = r.log.String()
	return r.out
}

// run is one proof under way.
type run struct {
	p     *Prover
	req   Request
	log   *exchange.Log
	out   proof.Proof
	start time.Time
	mark  time.Time

	session     *player.Session
	meter       *media.Meter
	audio       *media.AudioMeter
	metadata    *media.MetadataMeter
	tracks      []func(p []byte, at time.Time) // one a track of the session: what measures it
	firstPacket time.Time
	firstKey    time.Time
}

func (r *run) step(name string, at time.Time) {
	r.out.Steps = append(r.out.Steps, proof.Step{Name: name, MS: ms(at.Sub(r.mark))})
	r.mark = at
}

func ms(d time.Duration) float64 { return math.Round(float64(d.Microseconds())/100) / 10 }

// play opens the stream and measures it. A device that refuses its audio still has its picture proven: the refusal stays in the exchange.
func (r *run) play(ctx context.Context) (err error) {
	r.session, err = player.Open(ctx, player.Request{
		Dial: r.p.Dial, URL: r.req.URL, SignIn: r.req.SignIn, Leave: r.req.Leave, Timeout: r.req.Timeout, Log: r.log,
		Transport: r.req.Transport, Pin: r.req.Pin, Replay: r.req.Replay, Kinds: []string{"video", "audio", "application"},
		Step: func(name string) { r.step(name, time.Now()) },
	})
	s := r.session
	var unread *player.UnreadError
	r.out.Transport, r.out.TLS, r.out.Server, r.out.Auth = string(s.Transport), s.Certificate, s.Server, s.Auth
	switch {
	case errors.As(err, new(*player.NoTrackError)):
		return &diagnose.PictureError{Cause: trouble.NoVideo}
	case errors.As(err, &unread):
		return &diagnose.PictureError{Cause: trouble.CodecNotMeasured, Detail: unread.Codec}
	case err != nil:
		return err
	}
	defer s.Close()
	if r.req.Playing != nil {
		r.req.Playing()
	}
	for i, t := range s.Tracks {
		switch {
		case i == 0:
			r.meter = media.NewMeter(t.Track)
			if r.req.Replay != nil {
				r.meter.KeepNewest()
			}
			r.tracks = append(r.tracks, r.meter.Packet)
		case t.Kind == "audio":
			r.audio = media.NewAudioMeter(t.Track)
			r.tracks = append(r.tracks, r.audio.Packet)
		default:
			r.metadata = media.NewMetadataMeter(t.Track)
			r.tracks = append(r.tracks, r.metadata.Packet)
		}
	}
	return r.measure(ctx)
}

func (r *run) packet(p player.Packet) {
	switch {
	case p.RTCP && p.Track == 0:
		r.meter.Report(p.Payload, p.At)
	case p.RTCP:
	default:
		if p.Track == 0 && r.firstPacket.IsZero() {
			r.firstPacket = p.At
		}
		r.tracks[p.Track](p.Payload, p.At)
	}
}

func (r *run) measure(ctx context.Context) error {
	began := time.Now()
	err := r.session.Run(ctx, r.packet, func() bool { return r.enough(began) })
	r.out.Transport = string(r.session.Transport) // how it comes may be known only by now
	if !r.firstPacket.IsZero() {
		r.step("first packet", r.firstPacket)
	}
	keyframe := r.meter.Keyframe()
	if keyframe != nil {
		r.step("first key frame", keyframe.At)
		r.out.FirstKeyframeMS = ms(keyframe.At.Sub(r.start))
	}
	if keyframe != nil || r.meter.Measured().Frames > 0 {
		m := r.meter.Measured()
		r.out.Video = rounded(m)
		r.step("measure", time.Now())
		r.log.Note("%d video packets, %d frames, %d key frames, %d lost", m.Packets, m.Frames, m.Keyframes, m.Lost)
	}
	if ts := r.session.TransportStream(); ts != nil {
		r.out.TransportStream = ts
		r.log.Note("%d transport packets, %d lost, %d that hold nothing, %d scrambled, %d that cannot be read", ts.Packets, ts.Lost, ts.Null,
			ts.Scrambled, ts.Malformed)
	}
	if r.audio != nil {
		if r.out.Audio = r.audio.Measured(); r.out.Audio != nil {
			r.log.Note("%d audio packets", r.out.Audio.Packets)
		}
	}
	if r.metadata != nil {
		if r.out.Metadata = r.metadata.Measured(); r.out.Metadata != nil {
			r.log.Note("%d metadata packets", r.out.Metadata.Packets)
		}
	}
	var silent *rtsp.SilentError
	if errors.As(err, &silent) && !r.firstPacket.IsZero() {
		err = nil // something came, and why it is no picture says more than that it ended
	}
	if err != nil {
		r.log.Note("%v", err)
	}
	if err != nil && (keyframe == nil || errors.Is(err, context.Canceled)) {
		return err
	}
	if keyframe == nil {
		return r.whyNoKeyframe()
	}
	if r.p.Still == nil {
		return nil
	}
	r.out.Still, err = r.p.Still(ctx, *keyframe)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		r.log.Note("decoding the key frame: %v", err)
		return &diagnose.PictureError{Cause: trouble.NotDecodable, Detail: fmt.Sprintf("a key frame of %d bytes", len(keyframe.Data))}
	}
	r.step("decode", time.Now())
	return nil
}

// enough decides when to stop measuring. The first key frame is waited for in any case: before it there is nothing to measure.
func (r *run) enough(began time.Time) bool {
	start := r.firstPacket
	if r.meter.Reads() {
		if k := r.meter.Keyframe(); k != nil && r.firstKey.IsZero() {
			r.firstKey = k.At
		}
		start = r.firstKey
	}
	if start.IsZero() {
		patience := max(r.req.Patience, r.req.Measure)
		if r.meter.Sound() {
			patience = max(patience, smartMost)
		}
		return time.Since(began) >= patience
	}
	if r.req.Measure > 0 {
		return time.Since(start) >= r.req.Measure
	}
	intervals := r.meter.Keyframes() >= 3 || !r.meter.Reads()
	return time.Since(start) >= atLeast && intervals || time.Since(began) >= r.req.Patience
}

func (r *run) whyNoKeyframe() error {
	if err := r.meter.HeaderError(); err != nil {
		return err
	}
	if r.firstPacket.IsZero() { // reports or sound kept the session from being silent
		return &diagnose.PictureError{Cause: trouble.NoPackets, Detail: "other tracks or reports came, of the picture nothing"}
	}
	if !r.meter.Reads() {
		return &diagnose.PictureError{Cause: trouble.CodecNotMeasured, Detail: r.meter.Measured().Codec}
	}
	m := r.meter.Measured()
	if m.Unread != "" {
		return &diagnose.PictureError{Cause: trouble.CodecNotMeasured, Detail: m.Codec + " in packets of the kind " + m.Unread}
	}
	detail := strconv.Itoa(m.Packets) + " packets in " + strconv.FormatInt(m.MeasuredForMS, 10) + " ms, " + strconv.Itoa(m.Lost) + " lost"
	return &diagnose.PictureError{Cause: trouble.NoKeyframe, Detail: detail}
}

// rounded cuts measures to the digits that they are good for.
func rounded(m media.Measured) *media.Measured {
	round := func(x float64, digits float64) float64 { return math.Round(x*digits) / digits }
	m.FPS, m.BitrateKbps = round(m.FPS, 100), round(m.BitrateKbps, 10)
	m.GOPSeconds, m.GOPFrames = round(m.GOPSeconds, 1000), round(m.GOPFrames, 10)
	m.JitterMS, m.ClockRate = round(m.JitterMS, 100), round(m.ClockRate, 10000)
	return &m
}
