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

var ofForm = map[picture.Form]rtsp.Transport{picture.Motion: MotionHTTP, picture.Stills: StillsHTTP, picture.Transport: TransportStreamHTTP}

// overHTTP is a stream that comes as the answer to HTTP requests.
type overHTTP struct {
	*carriage
	stream *picture.Stream
	pieces chan piece
	cancel context.CancelFunc
	jpeg   *carried
	count  int
	begun  time.Time
}

// A piece is a picture or some bytes of a transport stream, with where its form stands; or the error that has ended the stream.
type piece struct {
	data []byte
	form picture.Form
	at   time.Time
	err  error
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
	h.stream, err = f.Open(life, req.URL.String())
	s.Certificate = f.Shown
	if err == nil {
		s.Transport, s.Auth, s.Server = ofForm[h.stream.Form], h.stream.Scheme, h.stream.Server
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
		if h.stream.Form == picture.Transport {
			var b []byte
			b, p.err = h.stream.Bytes()
			p.data = bytes.Clone(b)
		} else {
			p.data, p.err = h.stream.JPEG()
		}
		p.at, p.form = time.Now(), h.stream.Form
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
		h.count++
		h.session.Transport = ofForm[p.form]
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
