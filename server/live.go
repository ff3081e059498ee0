package server

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/coder/websocket"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/bringup"
	"unlatch/core/diagnose"
	"unlatch/core/live"
	"unlatch/store"
)

// Live shows streams as they come: the worker that reaches the devices, where that is this very process.
type Live interface {
	Watch(ctx context.Context, device uuid.UUID, role string) (*live.Viewer, error)
}

// liveWord is what a page is told in words: how what follows is to be shown, or why nothing does.
type liveWord struct {
	*live.Begin
	Problem string `json:"problem,omitempty"`
	Fix     string `json:"fix,omitempty"`
}

// writeTime is how long a page gets for one message: one that never reads is let go.
const writeTime = 10 * time.Second

// live sends a stream to a page over a WebSocket: a text message whenever pictures begin, in words of liveWord, and binary messages for
// what is to be shown.
func (s *Server) live(w http.ResponseWriter, r *http.Request) {
	if !s.withSession(w, r) {
		return
	}
	id, err := uuid.Parse(chi.URLParam(r, "device"))
	if err != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	if s.cfg.Live == nil {
		writeProblem(w, problem(501, "no_live", "The worker that reaches this device is another process, and pictures do not come from there yet.",
			"Look from the server that runs the worker."))
		return
	}
	conn, err := websocket.Accept(w, r, nil) // from this origin alone
	if err != nil {
		return
	}
	defer conn.CloseNow()
	ctx := conn.CloseRead(r.Context()) // a page says nothing; that it went away is noticed
	say := func(word liveWord) error {
		raw, err := json.Marshal(word)
		if err == nil {
			err = write(ctx, conn, websocket.MessageText, raw)
		}
		return err
	}
	viewer, err := s.cfg.Live.Watch(ctx, id, r.URL.Query().Get("role"))
	if err != nil {
		say(notShown(err))
		conn.Close(websocket.StatusNormalClosure, "")
		return
	}
	defer viewer.Close()
	check := time.NewTicker(time.Minute)
	defer check.Stop()
	for {
		select {
		case <-check.C:
			if !s.sessionHolds(r) {
				return
			}
		default:
		}
		m, err := viewer.Next(ctx)
		if err != nil {
			if ctx.Err() == nil {
				say(notShown(err))
				conn.Close(websocket.StatusNormalClosure, "")
			}
			return
		}
		if m.Begin != nil {
			err = say(liveWord{Begin: m.Begin})
		}
		if err == nil && len(m.Data) > 0 {
			err = write(ctx, conn, websocket.MessageBinary, m.Data)
		}
		if err != nil {
			return
		}
	}
}

func write(ctx context.Context, conn *websocket.Conn, kind websocket.MessageType, data []byte) error {
	ctx, cancel := context.WithTimeout(ctx, writeTime)
	defer cancel()
	return conn.Write(ctx, kind, data)
}

// notShown words why a stream is not shown.
func notShown(err error) liveWord {
	switch {
	case errors.As(err, new(*live.UnshownError)):
		return liveWord{Problem: diagnose.Capital(err.Error()) + ".", Fix: "Look at its proof, or at another stream of the camera."}
	case errors.Is(err, bringup.ErrNotProven):
		return liveWord{Problem: "This stream is not proven yet, so nobody knows how it plays.", Fix: "Open the camera's latches first."}
	case errors.Is(err, live.ErrBusy):
		return liveWord{Problem: diagnose.Capital(err.Error()) + ".", Fix: "Look at the sub stream, or wait until somebody else has looked enough."}
	case errors.Is(err, live.ErrFull):
		return liveWord{Problem: diagnose.Capital(err.Error()) + ".", Fix: "Wait until somebody else has looked enough."}
	}
	d := diagnose.Explain(err, diagnose.Facts{Asking: "the stream"})
	return liveWord{Problem: d.Summary, Fix: d.Fix}
}
