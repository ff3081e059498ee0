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

// Live shows streams as they come: by the workers of this very process, or by those that send pictures from elsewhere.
type Live interface {
	Watch(ctx context.Context, device uuid.UUID, role string, wish live.Wish) (*live.Viewer, error)
}

// liveWord is what a page is told in words: how what follows is to be shown, or why nothing does.
type liveWord struct {
	*live.Begin
	*live.Trouble
	Again    bool           `json:"again,omitempty"` // it is asked for again
	Measures []live.Measure `json:"measures,omitempty"`
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
	q := r.URL.Query()
	viewer, err := s.cfg.Live.Watch(ctx, id, q.Get("role"), live.Wish{H265: q.Has("h265"), Made: q.Has("made"), Sound: q.Has("sound")})
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
		if m.Begin != nil || m.Measures != nil || m.Pause != nil {
			err = say(liveWord{Begin: m.Begin, Measures: m.Measures, Trouble: m.Pause, Again: m.Pause != nil})
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

func notShown(err error) liveWord {
	if errors.Is(err, live.ErrGone) || errors.Is(err, errNoPictures) { // it connects anew by itself
		return liveWord{Trouble: &live.Trouble{Problem: diagnose.Capital(err.Error()), Fix: errNoPictures.Fix}, Again: true}
	}
	t, _ := bringup.NotShown(err)
	return liveWord{Trouble: t}
}
