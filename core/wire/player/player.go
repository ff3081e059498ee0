// Package player plays a stream URL: it connects, signs in, sets the tracks up, goes on to another transport where the device does not
// take the first, and hands on the packets. Proof, live pictures and the stand-ins' recorders all play through it; what the packets mean
// is for package media to say.
package player

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/media"
	"unlatch/core/stream/mpegts"
	"unlatch/core/wire/rtsp"
)

// A Request says what to play. Dial and URL are needed; the zero value of every other field is usable.
type Request struct {
	Dial    address.Dialer
	URL     streamurl.URL
	SignIn  signin.SignIn // used where the URL has none
	Leave   signin.Leave  // is asked before the sign-in goes out; nil lets no readable one out
	Timeout time.Duration // for one answer; 0 means 5 s
	Log     *exchange.Log // nil records nothing
	// Transport is how the packets shall come; "" begins with TCP and goes on to what the device takes instead.
	Transport rtsp.Transport
	Pin       string // SHA-256 of the certificate that the device showed before, in hex; "" for none
	// Kinds are the kinds of track to play, of each the first: "video", "audio", "application". The stream must have the first kind and
	// give it; of the others what it gives is played. Empty means video alone.
	Kinds []string
	// Replay asks for what was recorded; nil for a live stream.
	Replay *rtsp.Replay
	// Quiet does not wait for the first datagrams: somebody else listens for them.
	Quiet bool
	// Step, if not nil, is called as each stage is done: "connect", "describe", "set up video", "play".
	Step func(name string)
}

// A NoTrackError means that the stream has no track of the kind that was asked for.
type NoTrackError struct{ Kind string }

func (e *NoTrackError) Error() string { return "the stream has no " + e.Kind }

// A Session is a stream that plays. It is not safe for concurrent use.
type Session struct {
	Transport   rtsp.Transport
	Server      string                   // the device's Server line
	Auth        string                   // the scheme that opened the stream, or "none"
	Certificate *certificate.Certificate // of a stream over TLS
	Group       netip.AddrPort           // of a multicast session: the first group that the device has named
	From        netip.Addr               // who sends, of a stream in datagrams
	Tracks      []Track

	conn     *rtsp.Conn // nil for a stream that does not come by RTSP
	carriage *carriage  // nil for one that does
	base     string
	each     func(Packet)
	early    []Packet // that came before anybody wanted them
	ended    func()   // see OnClose
}

// A Track is a track of the session that was set up.
type Track struct {
	media.Track
	channel byte
}

// A Packet is one RTP or RTCP packet. Its payload is valid only during the call that hands it on.
type Packet struct {
	Track   int // index in Session.Tracks
	RTCP    bool
	Payload []byte
	At      time.Time // of arrival
}

// maxEarly bounds the packets kept that come before the session is read.
const maxEarly = 256

// Open plays the URL and returns once the device has said that it plays; of a session by datagrams or by HTTP, once the picture comes. The
// error is one of package rtsp or picture, of the dialer, of signin.Leave, a *media.SDPError, a *NoTrackError, a *NoTransportError or an
// *UnreadError. What is known of the device by then is
// in the session, which is never nil; after an error it need not be closed.
func Open(ctx context.Context, req Request) (*Session, error) {
	if len(req.Kinds) == 0 {
		req.Kinds = []string{"video"}
	}
	if req.Step == nil {
		req.Step = func(string) {}
	}
	for {
		s, err := openAny(ctx, req)
		track := new(trackError)
		if !errors.As(err, &track) {
			return s, err
		}
		// The device hung up on a track that was wanted besides: what it must give is played without it.
		req.Log.Note("asking for %s ended the connection (%v); playing without", track.kind, track.err)
		req.Kinds = slices.DeleteFunc(slices.Clone(req.Kinds), func(k string) bool { return k == track.kind })
	}
}

// A trackError means that the connection was lost over a track that the stream need not have.
type trackError struct {
	kind string
	err  error
}

func (e *trackError) Error() string { return "setting " + e.kind + " up: " + e.err.Error() }

func (e *trackError) Unwrap() error { return e.err }

// openAny plays over TCP, and where the device takes that not, over what it takes: datagrams, then a group, after 461 (RFC 2326
// §11.3.14); the tunnel where it is a web server that answers. Another error ends it: the device has then judged more than the
// transport.
func openAny(ctx context.Context, req Request) (*Session, error) {
	switch {
	case req.URL.Datagrams():
		return openDatagrams(ctx, req)
	case req.URL.HTTP():
		return openHTTP(ctx, req)
	}
	if req.Transport != "" {
		return open(ctx, req, req.Transport)
	}
	first, err := open(ctx, req, rtsp.TCP)
	var status *rtsp.StatusError
	var wrong *rtsp.WrongProtocolError
	switch {
	case errors.As(err, &wrong) && strings.Contains(wrong.Spoken, "HTTP"):
		req.Log.Note("this is a web port; trying RTSP within HTTP")
		if s, err := open(ctx, req, rtsp.Tunnel); err == nil || !errors.As(err, new(*rtsp.NoTunnelError)) {
			return s, err
		}
		// That it is a web port says more than that it has no tunnel.
	case errors.As(err, &status) && status.Status == 461:
		for _, t := range []rtsp.Transport{rtsp.UDP, rtsp.Multicast} {
			req.Log.Note("the device does not send over TCP; trying %s", t)
			s, uerr := open(ctx, req, t)
			refused := errors.As(uerr, &status)
			if !refused && (t == rtsp.Multicast || !errors.As(uerr, new(*rtsp.SilentError))) {
				return s, uerr
			}
		}
	}
	return first, err
}

// open plays over one transport.
func open(ctx context.Context, req Request, transport rtsp.Transport) (s *Session, err error) {
	s = &Session{Transport: transport, Auth: "none"}
	s.conn, err = rtsp.Dial(ctx, req.URL, rtsp.Options{
		Dial: req.Dial, SignIn: req.SignIn, Leave: req.Leave, Timeout: req.Timeout, Log: req.Log, OnFrame: s.frame, Transport: transport,
		Pin: req.Pin, Replay: req.Replay,
	})
	if cert := new(certificate.ChangedError); errors.As(err, &cert) {
		s.Certificate = &cert.Shown
	}
	if err != nil {
		return s, err
	}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	req.Step("connect")
	s.Certificate = s.conn.Certificate
	desc, err := s.conn.Describe(ctx)
	s.Server, s.Auth = s.conn.Server, s.conn.Auth()
	if err != nil {
		return s, err
	}
	req.Step("describe")
	sdp, err := media.ParseSDP(desc.SDP)
	if err != nil {
		return s, err
	}
	for i, kind := range req.Kinds {
		if err := s.setup(ctx, sdp, desc.Base, kind); err == nil {
			req.Step("set up " + kind)
		} else if i == 0 {
			return s, err
		} else if status := new(rtsp.StatusError); ctx.Err() == nil && !errors.As(err, &status) && !errors.As(err, new(*NoTrackError)) {
			return s, &trackError{kind, err}
		}
	}
	s.base = media.ControlURL(desc.Base, sdp.Control)
	if err := s.conn.Play(ctx, s.base); err != nil {
		return s, err
	}
	req.Step("play")
	s.Group = s.conn.Group
	if req.Quiet {
		return s, nil
	}
	return s, s.conn.Await(ctx)
}

// setup sets up the first track of a kind.
func (s *Session) setup(ctx context.Context, sdp *media.SDP, base, kind string) error {
	track := sdp.First(kind)
	if track == nil {
		return &NoTrackError{Kind: kind}
	}
	s.base = base
	channel, err := s.conn.Setup(ctx, media.ControlURL(base, track.Control), byte(2*len(s.Tracks)))
	if err != nil {
		return err
	}
	s.Tracks = append(s.Tracks, Track{Track: *track, channel: channel})
	return nil
}

// frame takes a packet off the connection.
func (s *Session) frame(channel byte, payload []byte, at time.Time) {
	for i, t := range s.Tracks {
		if channel != t.channel && channel != t.channel+1 {
			continue
		}
		p := Packet{Track: i, RTCP: channel != t.channel, Payload: payload, At: at}
		switch {
		case s.each != nil:
			s.each(p)
		case len(s.early) < maxEarly:
			p.Payload = append([]byte(nil), payload...)
			s.early = append(s.early, p)
		}
		return
	}
}

// Run hands on packets until done reports true, ctx ends or an error comes, and keeps the session alive. done is asked after each packet
// and at least every 200 ms. No packet within the answer timeout is a *rtsp.SilentError.
func (s *Session) Run(ctx context.Context, each func(Packet), done func() bool) error {
	s.each = each
	for _, p := range s.early {
		each(p)
	}
	s.early = nil
	if s.carriage != nil {
		return s.carriage.run(ctx, each, done)
	}
	return s.conn.Run(ctx, s.base, done)
}

// TransportStream returns what the transport stream is like that the session plays; nil where it plays none.
func (s *Session) TransportStream() *mpegts.Transport {
	if s.carriage == nil {
		return nil
	}
	m := s.carriage.demux.Measured()
	if m.Packets == 0 {
		return nil
	}
	if d, ok := s.carriage.source.(*datagrams); ok {
		d.describeSending(&m)
	}
	return &m
}

// Carried reports whether the stream comes without RTSP. Its packets are then made here, and of any length.
func (s *Session) Carried() bool { return s.carriage != nil }

// First returns the index of the first track of a kind that was set up, or -1.
func (s *Session) First(kind string) int {
	for i, t := range s.Tracks {
		if t.Kind == kind {
			return i
		}
	}
	return -1
}

// OnClose has a session call f when it is closed.
func (s *Session) OnClose(f func()) { s.ended = f }

// Close ends the session at the device, politely, and the connection.
func (s *Session) Close() error {
	if s.ended != nil {
		defer s.ended()
	}
	if s.carriage != nil {
		return s.carriage.source.close()
	}
	if s.base != "" {
		s.conn.Teardown(s.base)
	}
	return s.conn.Close()
}
