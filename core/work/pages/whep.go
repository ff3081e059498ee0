package pages

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"mime"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/pion/logging"
	"github.com/pion/rtp"
	"github.com/pion/rtp/codecs"
	"github.com/pion/webrtc/v4"

	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/work/fanout"
)

// mostPayload is the largest payload of a packet to a browser, in bytes: with the heads of SRTP, UDP and IP it fits networks that carry
// little in one piece.
const mostPayload = 1180

// connectBy is how long a browser may take to be heard from, and to be heard from again.
const connectBy = 15 * time.Second

// sent are the codecs that are sent as they come, with the names that RTP has for them and the payload types that are offered.
var sent = map[string]webrtc.RTPCodecParameters{
	"H264": {PayloadType: 102, RTPCodecCapability: webrtc.RTPCodecCapability{MimeType: webrtc.MimeTypeH264, ClockRate: 90000,
		SDPFmtpLine: "level-asymmetry-allowed=1;packetization-mode=1;profile-level-id=42e01f"}},
	"PCMU": {PayloadType: 0, RTPCodecCapability: webrtc.RTPCodecCapability{MimeType: webrtc.MimeTypePCMU, ClockRate: 8000, Channels: 1}},
	"PCMA": {PayloadType: 8, RTPCodecCapability: webrtc.RTPCodecCapability{MimeType: webrtc.MimeTypePCMA, ClockRate: 8000, Channels: 1}},
	"OPUS": {PayloadType: 111, RTPCodecCapability: webrtc.RTPCodecCapability{MimeType: webrtc.MimeTypeOpus, ClockRate: 48000, Channels: 2}},
}

// newAPI prepares WebRTC on one socket. The server is an ICE lite agent (RFC 8445 §2.5): it answers, and connects to nobody by itself.
func newAPI(on net.PacketConn) *webrtc.API {
	m := &webrtc.MediaEngine{}
	for _, c := range sent {
		kind := webrtc.RTPCodecTypeAudio
		if c.MimeType == webrtc.MimeTypeH264 {
			kind = webrtc.RTPCodecTypeVideo
		}
		if err := m.RegisterCodec(c, kind); err != nil {
			panic(err) // the table is fixed
		}
	}
	e := webrtc.SettingEngine{LoggerFactory: silent{}}
	e.SetLite(true)
	e.SetICEUDPMux(webrtc.NewICEUDPMux(silent{}.NewLogger("ice"), on))
	e.SetIncludeLoopbackCandidate(true)
	e.SetNetworkTypes([]webrtc.NetworkType{webrtc.NetworkTypeUDP4, webrtc.NetworkTypeUDP6})
	e.SetICETimeouts(connectBy, 2*connectBy, 2*time.Second)
	return webrtc.NewAPI(webrtc.WithMediaEngine(m), webrtc.WithSettingEngine(e))
}

// silent keeps what the library says to itself: what matters is returned.
type silent struct{}

// NewLogger implements logging.LoggerFactory.
func (silent) NewLogger(string) logging.LeveledLogger {
	return logging.NewDefaultLeveledLoggerForScope("", logging.LogLevelDisabled, io.Discard)
}

// A peer is a browser that takes a stream by WebRTC.
type peer struct {
	id   string
	page *served
	conn *webrtc.PeerConnection
	end  func()

	video, audio *webrtc.TrackLocalStaticRTP // audio is nil for none
	connected    chan struct{}
	once         sync.Once
}

// whep answers an offer (WebRTC-HTTP Egress Protocol §4.2), or ends a session that was begun so.
func (s *Server) whep(w http.ResponseWriter, r *http.Request, p *served, id string, until time.Time) {
	switch {
	case s.api == nil:
		http.Error(w, "WebRTC is not served here.", http.StatusNotFound)
	case id != "" && r.Method == http.MethodDelete:
		p.mu.Lock()
		x := p.peers[id]
		p.mu.Unlock()
		if x == nil {
			http.Error(w, "There is no such session.", http.StatusNotFound)
			return
		}
		x.end()
		w.WriteHeader(http.StatusOK)
	case id != "" || r.Method != http.MethodPost:
		w.Header().Set("Allow", "POST")
		http.Error(w, "A session is begun by POST and ended by DELETE.", http.StatusMethodNotAllowed)
	default:
		s.offered(w, r, p, until)
	}
}

// offered begins a session.
func (s *Server) offered(w http.ResponseWriter, r *http.Request, p *served, until time.Time) {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if kind != "application/sdp" {
		http.Error(w, "An offer is of the type application/sdp.", http.StatusUnsupportedMediaType)
		return
	}
	offer, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostBody))
	if err != nil {
		http.Error(w, "The offer is too long.", http.StatusRequestEntityTooLarge)
		return
	}
	c, err := p.take(r.Context())
	if err != nil {
		s.send(w, r, "", nil, err)
		return
	}
	ctx, end := context.WithDeadline(p.until, time.Now().Add(until.Sub(s.Now())))
	x, answer, err := s.join(p, c, string(offer), end)
	if err != nil {
		end()
		c.Linger()
		switch {
		case errors.Is(err, errFull):
			w.Header().Set("Retry-After", "30")
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
		case errors.Is(err, errNotSent):
			http.Error(w, err.Error(), http.StatusUnsupportedMediaType)
		default:
			http.Error(w, "The offer cannot be answered.", http.StatusBadRequest)
		}
		return
	}
	p.mu.Lock()
	p.peers[x.id] = x
	p.mu.Unlock()
	s.noteTaken(p, r)
	s.all.Go(func() {
		defer x.leave(c)
		if err := x.run(ctx, c); err != nil && ctx.Err() == nil {
			s.Log.Debug("a page takes a stream no more", "path", p.Path, "err", err)
		}
	})
	w.Header().Set("Content-Type", "application/sdp")
	w.Header().Set("Location", r.URL.Path+"/"+x.id)
	w.WriteHeader(http.StatusCreated)
	io.WriteString(w, answer)
}

// Errors of an offer.
var (
	errFull    = errors.New("as many take this stream as may at once")
	errNotSent = errors.New("WebRTC carries H.264 here, and the stream is another: give the relay the form H.264")
)

// join answers an offer. The peer sends nothing yet; it calls end when the browser has gone.
func (s *Server) join(p *served, c *fanout.Consumer, offer string, end func()) (_ *peer, answer string, err error) {
	p.mu.Lock()
	full := len(p.peers) >= cmp.Or(p.Most, mostOfOne)
	p.mu.Unlock()
	if full {
		return nil, "", errFull
	}
	tracks := c.Tracks()
	if !slices.ContainsFunc(tracks, func(t player.Track) bool { return t.Codec == "H264" }) {
		return nil, "", errNotSent
	}
	conn, err := s.api.NewPeerConnection(webrtc.Configuration{})
	if err != nil {
		return nil, "", err
	}
	defer func() {
		if err != nil {
			conn.Close()
		}
	}()
	x := &peer{id: rand.Text(), page: p, conn: conn, end: end, connected: make(chan struct{})}
	for _, t := range tracks {
		if err = x.add(t); err != nil {
			return nil, "", err
		}
	}
	x.conn.OnConnectionStateChange(func(state webrtc.PeerConnectionState) {
		switch state {
		case webrtc.PeerConnectionStateConnected:
			x.once.Do(func() { close(x.connected) })
		case webrtc.PeerConnectionStateFailed, webrtc.PeerConnectionStateClosed:
			x.end()
		}
	})
	if err = x.conn.SetRemoteDescription(webrtc.SessionDescription{Type: webrtc.SDPTypeOffer, SDP: offer}); err != nil {
		return nil, "", err
	}
	d, err := x.conn.CreateAnswer(nil)
	if err != nil {
		return nil, "", err
	}
	gathered := webrtc.GatheringCompletePromise(x.conn)
	if err = x.conn.SetLocalDescription(d); err != nil {
		return nil, "", err
	}
	select {
	case <-gathered:
	case <-time.After(connectBy):
		err = errors.New("no address for WebRTC was found")
		return nil, "", err
	}
	return x, x.conn.LocalDescription().SDP, nil
}

// add has a track sent that browsers play; others are left out.
func (x *peer) add(t player.Track) error {
	c, ok := sent[t.Codec]
	video := t.Codec == "H264"
	if !ok || video && x.video != nil || !video && x.audio != nil {
		return nil
	}
	local, err := webrtc.NewTrackLocalStaticRTP(c.RTPCodecCapability, t.Kind, "camera")
	if err != nil {
		return err
	}
	sender, err := x.conn.AddTrack(local)
	if err != nil {
		return err
	}
	go func() { // what the browser reports has to be read, or the reports pile up
		buffer := make([]byte, 1500)
		for {
			if _, _, err := sender.Read(buffer); err != nil {
				return
			}
		}
	}()
	if x.audio = local; video {
		x.video, x.audio = local, nil
	}
	return nil
}

// leave ends the session.
func (x *peer) leave(c *fanout.Consumer) {
	x.end()
	x.conn.Close()
	c.Linger()
	x.page.mu.Lock()
	defer x.page.mu.Unlock()
	delete(x.page.peers, x.id)
}

// run sends packets until the browser goes, the stream ends or ctx does.
func (x *peer) run(ctx context.Context, c *fanout.Consumer) (err error) {
	select {
	case <-x.connected:
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(connectBy):
		return errors.New("the browser was not heard from")
	}
	out := newSender(x, c.Tracks())
	for list := []fanout.Packet(nil); ; {
		if list, err = c.Next(ctx, list[:0]); err != nil {
			return err
		}
		for _, p := range list {
			if err := out.packet(p); err != nil {
				return err
			}
		}
	}
}

// A sender makes packets for a browser: parameter sets before each key frame, in pieces that every network carries.
type sender struct {
	to           *peer
	video, audio int // indexes of the tracks; audio is -1 for none
	frames       *media.Assembler
	payloader    codecs.H264Payloader
	seq          uint16

	begun time.Time // when the first packet was sent
	at    time.Time // when the packet that is taken came
	stamp uint32    // of the last frame, as it came
	out   uint32    // of the last frame, as it was sent
	err   error
}

func newSender(to *peer, tracks []player.Track) *sender {
	x := &sender{to: to, audio: -1, begun: time.Now()}
	for i, t := range tracks {
		switch {
		case t.Codec == "H264" && x.frames == nil:
			x.video = i
			x.frames, _ = media.NewAssembler(t.Track)
		case to.audio != nil && x.audio < 0 && sent[t.Codec].MimeType == to.audio.Codec().MimeType:
			x.audio = i
		}
	}
	return x
}

func (x *sender) packet(p fanout.Packet) error {
	x.at = p.At
	switch {
	case p.RTCP:
	case p.Track == x.video:
		x.frames.Packet(p.Payload, x.frame)
	case p.Track == x.audio && p.At.After(x.begun):
		var packet rtp.Packet
		if packet.Unmarshal(p.Payload) == nil {
			x.keep(x.to.audio.WriteRTP(&packet))
		}
	}
	return x.err
}

// keep remembers the first error of sending.
func (x *sender) keep(err error) {
	if x.err == nil && !errors.Is(err, io.ErrClosedPipe) {
		x.err = err
	}
}

// frame sends one frame. The group that a browser begins with came before it: its frames follow each other at once, or the browser would
// play them at their own pace and stay behind for good.
func (x *sender) frame(f media.Frame, stamp uint32) {
	delta := stamp - x.stamp
	if x.at.Before(x.begun) {
		delta = 90 // a millisecond
	}
	x.stamp = stamp
	x.out += delta
	pieces := x.payloader.Payload(mostPayload, f.Data)
	for i, piece := range pieces {
		x.seq++
		x.keep(x.to.video.WriteRTP(&rtp.Packet{Header: rtp.Header{Version: 2, SequenceNumber: x.seq, Timestamp: x.out,
			Marker: i == len(pieces)-1}, Payload: piece}))
	}
}
