package server

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// Bounds of request bodies. An operation that takes a file or a long list has a bound of its own, its MaxBodyBytes.
const (
	usualBody    = 1 << 20  // of an operation
	strangerBody = 16 << 10 // of one that needs no session
	// strangersHold is what all requests without a session may hold together.
	strangersHold = 4 << 20
	// A body has to come on: each piece within bodyPause, and all of it at bodyRate bytes a second after the first pause.
	bodyPause = 10 * time.Second
	bodyRate  = 16 << 10
)

var (
	errTooLarge = errors.New("the body is too large")
	errNUL      = errors.New("the text holds a NUL character")
	errBusy     = errors.New("too many requests without a session hold bodies")
)

// readBodies reads the body of a request whose session was judged, within the bound of its operation, and refuses one that holds a
// NUL, which no text that a person types has and no table of the database can hold.
func (s *Server) readBodies(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		op := ctx.Operation()
		if op.RequestBody == nil {
			next(ctx)
			return
		}
		limit, stranger := op.MaxBodyBytes, op.Metadata["open"] == true
		switch {
		case stranger:
			limit = strangerBody
		case limit == 0:
			limit = usualBody
		}
		if stranger {
			if s.strangers.Add(limit) > strangersHold {
				s.strangers.Add(-limit)
				refuse(api, ctx, bodyProblem(errBusy))
				return
			}
			defer s.strangers.Add(-limit)
		}
		raw, err := readBody(ctx.BodyReader(), limit, ctx.SetReadDeadline)
		if err != nil {
			refuse(api, ctx, bodyProblem(err))
			return
		}
		next(&bodyRead{request: ctx, body: bytes.NewReader(raw)})
	}
}

// request is a huma.Context under a name that can be embedded: the interface has a method Context of its own.
type request = huma.Context

// bodyRead is a request whose body has been read.
type bodyRead struct {
	request
	body io.Reader
}

// BodyReader implements huma.Context.
func (b *bodyRead) BodyReader() io.Reader { return b.body }

// SetReadDeadline implements huma.Context. The body is here already: a deadline that huma sets for it would end the request itself, since
// the server goes on reading to find out whether the one who asked has gone.
func (b *bodyRead) SetReadDeadline(time.Time) error { return nil }

// Unwrap gives the context below, as humachi looks for it.
func (b *bodyRead) Unwrap() huma.Context { return b.request }

// refuse answers with a problem.
func refuse(api huma.API, ctx huma.Context, p *Problem) {
	ctx.SetHeader("Content-Type", "application/problem+json")
	ctx.SetStatus(p.Status)
	api.Marshal(ctx.BodyWriter(), "application/json", p)
}

// readBody reads a body of at most limit bytes that comes on; extend moves the read deadline of the connection. What is held grows
// with what has come, whatever length the request names.
func readBody(r io.Reader, limit int64, extend func(time.Time) error) ([]byte, error) {
	if r == nil {
		return nil, nil
	}
	began := time.Now()
	var out bytes.Buffer
	piece := make([]byte, 16<<10)
	for {
		by := began.Add(bodyPause + time.Duration(out.Len())*time.Second/bodyRate)
		extend(by)
		n, err := r.Read(piece)
		if int64(out.Len()+n) > limit {
			return nil, errTooLarge
		}
		out.Write(piece[:n])
		switch {
		case errors.Is(err, io.EOF):
			// The deadline was for the body. Left there, it would end the request in the middle of its work: the server goes on reading
			// to find out whether the one who asked has gone.
			extend(time.Time{})
			raw := out.Bytes()
			if bytes.Contains(raw, []byte(`\u0000`)) || bytes.IndexByte(raw, 0) >= 0 {
				return nil, errNUL
			}
			return raw, nil
		case err != nil:
			return nil, err
		}
	}
}

// bodyProblem is why a body was not taken, for people.
func bodyProblem(err error) *Problem {
	switch {
	case errors.Is(err, errBusy):
		return problem(http.StatusServiceUnavailable, "busy", "Too many people sign in at the moment.", "Try again in a moment.")
	case errors.Is(err, errTooLarge):
		return problem(http.StatusRequestEntityTooLarge, "too_large", "What was sent is too large.", "Send less at once.")
	case errors.Is(err, errNUL):
		return problem(http.StatusUnprocessableEntity, "nul", "The text holds a NUL character.",
			"Take it out: it is invisible and comes with copying from some programs.")
	}
	return problem(http.StatusRequestTimeout, "not_whole", "What was sent did not arrive whole, or came too slowly.", "Send it again.")
}
