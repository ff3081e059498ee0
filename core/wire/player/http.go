package player

import (
	"bytes"
	"context"
	"time"

	"unlatch/core/stream/media"
	"unlatch/core/stream/mpegts"
	"unlatch/core/wire/picture"
	"unlatch/core/wire/rtsp"
)

// How pictures come over HTTP.
const (
	MotionHTTP          rtsp.Transport = "http"              // motion JPEG
	StillsHTTP          rtsp.Transport = "http pictures"     // one at a time, each asked for
	TransportStreamHTTP rtsp.Transport = "mpeg-ts over http" // without end, in one answer
)

// Made is the transport of a stream that a program of this machine makes.
const Made rtsp.Transport = "made here"

var ofForm = map[picture.Form]rtsp.Transport{picture.Motion: MotionHTTP, picture.Stills: StillsHTTP, picture.Transport: TransportStreamHTTP}

// overHTTP is a stream that comes as the answer to HTTP requests, or as what a program writes.
type overHTTP struct {
	*carriage
	stream answer
	pieces chan piece
	cancel context.CancelFunc
	jpeg   *carried
	count  int
	begun  time.Time
	beside int // index in Session.Tracks of a track whose packets come as they are; 0 for none
}

// An answer is what a stream is read from.
type answer interface {
	Bytes() ([]byte, error) // of a transport stream, valid until the next call
	JPEG() ([]byte, error)  // a whole picture
	Is() picture.Form
	Close() error
}

// A piece is a picture or some bytes of a transport stream, with where its form stands; or a packet of the track beside; or the error that
// has ended the stream.
type piece struct {
	data   []byte
	form   picture.Form
	beside bool
	at     time.Time
	err    error
}

// openHTTP asks for an http or https URL and returns once the first picture has come.
func openHTTP(ctx context.Context, req Request) (s *Session, err error) {
	s = &Session{Transport: MotionHTTP, Auth: "none"}
	in := req.SignIn
	if in.Anonymous() {
		in = req.URL.SignIn
	}
	f := &picture.Fetcher{Dial: req.Dial, SignIn: in, Leave: req.Leave, Timeout: req.Timeout, Pin: req.Pin, Log: req.Log}
	h := &overHTTP{carriage: newCarriage(s, req), pieces: make(chan piece, 4), begun: time.Now()}
	h.source = h
	// The answer lasts as long as the session, which outlives ctx: that bounds the opening alone.
	life, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, cancel)
	h.cancel = cancel
	stream, err := f.Open(life, req.URL.String())
	s.Certificate = f.Shown
	if err == nil {
		h.stream = stream
		s.Transport, s.Auth, s.Server = ofForm[stream.Form], stream.Scheme, stream.Server
		req.Step("connect")
		go h.read(life)
		err = h.await(ctx)
	}
	if !stop() || err != nil {
		cancel()
		if err == nil {
			err = ctx.Err()
		}
		return s, err
	}
	s.carriage = h.carriage
	req.Step("play")
	return s, nil
}

// read reads what comes until the session ends.
func (h *overHTTP) read(life context.Context) {
	defer h.stream.Close()
	for {
		p := piece{}
		if h.stream.Is() == picture.Transport {
			var b []byte
			b, p.err = h.stream.Bytes()
			p.data = bytes.Clone(b)
		} else {
			p.data, p.err = h.stream.JPEG()
		}
		p.at, p.form = time.Now(), h.stream.Is()
		select {
		case h.pieces <- p:
		case <-life.Done():
			return
		}
		if p.err != nil {
			return
		}
	}
}

func (h *overHTTP) next(until time.Time) error {
	select {
	case p := <-h.pieces:
		if p.err != nil {
			return p.err
		}
		if p.beside {
			if h.beside > 0 {
				h.each(Packet{Track: h.beside, Payload: p.data, At: p.at})
			}
			return nil
		}
		h.count++
		if h.session.Transport != Made {
			h.session.Transport = ofForm[p.form]
		}
		if p.form == picture.Transport {
			h.demux.Bytes(p.data, p.at)
			h.choose()
			return nil
		}
		if h.jpeg == nil {
			e, _ := media.NewElementary("JPEG")
			h.jpeg = &carried{elementary: e, kind: "video", track: -1}
		}
		h.take(h.jpeg, mpegts.Unit{Data: p.data, PTS: uint64(p.at.Sub(h.begun) * 9 / 100000), HasPTS: true, At: p.at})
	case <-time.After(time.Until(until)):
	}
	return nil
}

func (h *overHTTP) came() int { return h.count }

func (h *overHTTP) close() error {
	h.cancel()
	return nil
}

func (h *overHTTP) none() error {
	return &rtsp.SilentError{Waiting: "the next picture", After: h.timeout, Playing: true}
}
