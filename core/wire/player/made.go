package player

import (
	"bytes"
	"context"
	"io"
	"time"

	"unlatch/core/stream/media"
	"unlatch/core/wire/picture"
)

// A Making is a stream that a program of this machine makes, such as a conversion: what it writes is a transport stream, or JPEG files one
// after the other.
type Making struct {
	Out   io.ReadCloser
	Files bool // JPEG files come
	// Beside is a track whose packets do not go through the program; nil for none.
	Beside *media.Track
	// Timeout bounds the time to the first picture, and each gap; 0 for five seconds.
	Timeout time.Duration
}

// A MadeStream is a Making that is read.
type MadeStream struct {
	*Session
	of *overHTTP
	// life ends with the session.
	life context.Context
}

// Read plays what a program makes, and returns once the first picture has come. Closing the session closes Out. The error is that of Out,
// or a *rtsp.SilentError.
func Read(ctx context.Context, m Making) (*MadeStream, error) {
	s := &Session{Transport: Made, Auth: "none"}
	h := &overHTTP{carriage: newCarriage(s, Request{Timeout: m.Timeout, Kinds: []string{"video", "audio"}}), pieces: make(chan piece, 64),
		begun: time.Now()}
	h.source = h
	h.stream = &written{from: m.Out, files: m.Files, buffer: make([]byte, 64<<10)}
	life, cancel := context.WithCancel(context.WithoutCancel(ctx))
	h.cancel = func() {
		cancel()
		m.Out.Close()
	}
	go h.read(life)
	if err := h.await(ctx); err != nil {
		h.cancel()
		return nil, err
	}
	if m.Beside != nil {
		h.beside = len(s.Tracks)
		s.Tracks = append(s.Tracks, Track{Track: *m.Beside})
	}
	s.carriage = h.carriage
	return &MadeStream{s, h, life}, nil
}

// Packet hands on a packet of the track beside. One for which there is no room is left out.
func (s *MadeStream) Packet(b []byte, at time.Time) {
	select {
	case s.of.pieces <- piece{data: bytes.Clone(b), beside: true, at: at}:
	default:
	}
}

// Done is closed when the session has ended.
func (s *MadeStream) Done() <-chan struct{} { return s.life.Done() }

// written is what a program writes.
type written struct {
	from    io.ReadCloser
	files   bool
	scanner media.JPEGScanner
	buffer  []byte
	ready   [][]byte
}

func (w *written) Is() picture.Form {
	if w.files {
		return picture.Motion
	}
	return picture.Transport
}

func (w *written) Bytes() ([]byte, error) {
	n, err := w.from.Read(w.buffer)
	if n > 0 {
		return w.buffer[:n], nil
	}
	return nil, err
}

func (w *written) JPEG() ([]byte, error) {
	for len(w.ready) == 0 {
		n, err := w.from.Read(w.buffer)
		if serr := w.scanner.Take(w.buffer[:n], func(b []byte) { w.ready = append(w.ready, bytes.Clone(b)) }); serr != nil {
			return nil, serr
		}
		if err != nil && len(w.ready) == 0 {
			return nil, err
		}
	}
	first := w.ready[0]
	w.ready = w.ready[1:]
	return first, nil
}

func (w *written) Close() error { return w.from.Close() }
