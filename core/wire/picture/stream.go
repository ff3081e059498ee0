package picture

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/media"
)

// A Form is what comes over HTTP as pictures without end.
type Form string

const (
	Motion    Form = "motion"    // JPEGs one after the other in one answer (RFC 2046 §5.1, multipart/x-mixed-replace)
	Stills    Form = "stills"    // one JPEG an answer: it is asked for again
	Transport Form = "transport" // a transport stream (ISO/IEC 13818-1)
)

// stillsEach is how often a still picture is asked for: devices make one anew for each request.
const stillsEach = time.Second

// A Stream is what one URL gives for as long as somebody reads. It is not safe for concurrent use.
type Stream struct {
	Form   Form   // of stills known for certain once the first answer has ended
	Scheme string // how the sign-in was taken; "none" where none was asked for
	Server string // the device's Server line

	x       *fetch
	ctx     context.Context
	body    io.ReadCloser
	parts   bool // the answer is made for several pictures
	scanner media.JPEGScanner
	buffer  []byte
	ready   [][]byte // pictures that have been read
	taken   int      // of this answer
	asked   time.Time
}

// Open asks for what a URL gives, with the sign-in where the device asks for one, and returns once the answer begins. It ends with ctx.
func (f *Fetcher) Open(ctx context.Context, at string) (*Stream, error) {
	x, err := f.begin(at)
	if err != nil {
		return nil, err
	}
	s := &Stream{x: x, ctx: ctx, buffer: make([]byte, 64<<10)}
	if err := s.ask(); err != nil {
		return nil, err
	}
	return s, nil
}

// ask asks for the next answer.
func (s *Stream) ask() error {
	s.asked = time.Now()
	s.x.renewed = false
	res, err := s.x.get(s.ctx)
	if err != nil {
		return err
	}
	kind, _, _ := strings.Cut(res.Header.Get("Content-Type"), ";")
	kind = strings.ToLower(strings.TrimSpace(kind))
	if kind == "text/html" {
		res.Body.Close()
		return &NotPictureError{Problem: "a page came in place of pictures"}
	}
	s.body, s.parts, s.taken, s.scanner = res.Body, strings.HasPrefix(kind, "multipart/"), 0, media.JPEGScanner{}
	s.Scheme, s.Server = s.x.scheme, clip(res.Header.Get("Server"))
	switch {
	case s.parts:
		s.Form = Motion
	case kind == "video/mp2t":
		s.Form = Transport
	case s.Form == "":
		s.Form = Motion
		if res.ContentLength >= 0 {
			s.Form = Stills
		}
	}
	return nil
}

// Is returns the form as it is known by now.
func (s *Stream) Is() Form { return s.Form }

// Bytes returns the next bytes of a transport stream, which are valid until the next call.
func (s *Stream) Bytes() ([]byte, error) {
	n, err := s.body.Read(s.buffer)
	if n > 0 {
		return s.buffer[:n], nil
	}
	return nil, ended(err)
}

// JPEG returns the next picture.
func (s *Stream) JPEG() ([]byte, error) {
	for len(s.ready) == 0 {
		n, err := s.body.Read(s.buffer)
		if serr := s.scanner.Take(s.buffer[:n], func(b []byte) {
			s.ready = append(s.ready, bytes.Clone(b))
			s.taken++
		}); serr != nil && len(s.ready) == 0 {
			return nil, notPicture(serr)
		}
		if err == nil || len(s.ready) > 0 {
			continue
		}
		if err := s.askForNext(err); err != nil {
			return nil, err
		}
	}
	out := s.ready[0]
	s.ready = s.ready[1:]
	return out, nil
}

// askForNext asks for the next still picture, once an answer that held one has ended. For any other answer that ends it returns an error.
func (s *Stream) askForNext(err error) error {
	if !errors.Is(err, io.EOF) || s.parts || s.taken != 1 {
		if s.taken == 0 && errors.Is(err, io.EOF) {
			return &NotPictureError{Problem: "the answer is no JPEG"}
		}
		return ended(err)
	}
	s.Form = Stills
	s.body.Close()
	select {
	case <-s.ctx.Done():
		return s.ctx.Err()
	case <-time.After(time.Until(s.asked.Add(stillsEach))):
	}
	return s.ask()
}

// Close ends the answer.
func (s *Stream) Close() error {
	if s.body == nil {
		return nil
	}
	return s.body.Close()
}

// An EndedError means that the device has ended a stream.
type EndedError struct{ Err error }

func (e *EndedError) Error() string { return "the device has ended the stream" }

func (e *EndedError) Unwrap() error { return e.Err }

func ended(err error) error {
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return &EndedError{err}
}

// notPicture says what came in the words of this package.
func notPicture(err error) error {
	if bad := new(media.JPEGStreamError); errors.As(err, &bad) {
		return &NotPictureError{Problem: bad.Problem}
	}
	return &NotPictureError{Problem: wiretext.Line(err.Error(), 200)}
}
