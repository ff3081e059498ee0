package server

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"time"

	"github.com/coder/websocket"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/diagnose"
	"unlatch/core/work/bringup"
	"unlatch/core/work/live"
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

// plainTrouble is why there is no picture, for whoever may look and no more: what stands in the way may name addresses and sign-ins.
var plainTrouble = &live.Trouble{Problem: "There is no picture at the moment.", Fix: "Whoever looks after the cameras can see why."}

// writeTime is how long a page gets for one message: one that never reads is let go.
const writeTime = 10 * time.Second

// live sends a stream to a page over a WebSocket: a text message whenever pictures begin, in words of liveWord, and binary messages for
// what is to be shown.
func (s pages) live(w http.ResponseWriter, r *http.Request) {
	id, err := uuid.Parse(chi.URLParam(r, "device"))
	if err != nil {
		s.fail(w, store.ErrNotFound)
		return
	}
	wide := &wideWriter{ResponseWriter: w}
	conn, err := websocket.Accept(wide, r, nil) // from this origin alone
	if err != nil {
		return
	}
	defer conn.CloseNow()
	session, end := s.untilSignedOut(r)
	defer end()
	ctx := conn.CloseRead(session) // a page says nothing; that it went away is noticed
	say := func(word liveWord) error {
		if word.Trouble != nil && !person(r.Context()).Role.May(act.See) {
			word.Trouble = plainTrouble
		}
		raw, err := json.Marshal(word)
		if err == nil {
			err = wide.write(ctx, conn, websocket.MessageText, raw)
		}
		return err
	}
	if p := person(r.Context()); p.Role == act.Customer {
		if _, err := s.acts.desk().Do(ctx, p, act.WatchLive{Device: id}); err != nil {
			say(notShown(err))
			conn.Close(websocket.StatusNormalClosure, "")
			return
		}
	}
	q := r.URL.Query()
	viewer, err := s.from.Watch(ctx, id, q.Get("role"), live.Wish{H265: q.Has("h265"), Made: q.Has("made"), Sound: q.Has("sound")})
	if err != nil {
		say(notShown(err))
		conn.Close(websocket.StatusNormalClosure, "")
		return
	}
	defer viewer.Close()
	s.viewers.Add(1)
	defer s.viewers.Add(-1)
	for {
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
			err = wide.write(ctx, conn, websocket.MessageBinary, m.Data)
		}
		if err != nil {
			return
		}
	}
}

// A wideWriter gives a WebSocket a buffer that holds a whole fragment with its header, so that it goes out in one piece: with fifty who
// look at one camera, that is most of what each costs.
type wideWriter struct {
	http.ResponseWriter
	conn    net.Conn
	renewed time.Time
}

// wide is what most fragments fit into.
const wide = 32 << 10

// Hijack implements http.Hijacker.
func (w *wideWriter) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, rw, err := http.NewResponseController(w.ResponseWriter).Hijack()
	if err != nil {
		return nil, nil, err
	}
	w.conn = conn
	return conn, bufio.NewReadWriter(rw.Reader, bufio.NewWriterSize(conn, wide)), nil
}

// write sends one message under the connection's write deadline, which is renewed now and then: that costs less than a timer a message.
func (w *wideWriter) write(ctx context.Context, conn *websocket.Conn, kind websocket.MessageType, data []byte) error {
	if now := time.Now(); now.Sub(w.renewed) > writeTime/2 {
		w.renewed = now
		if err := w.conn.SetWriteDeadline(now.Add(writeTime * 3 / 2)); err != nil {
			return err
		}
	}
	return conn.Write(ctx, kind, data)
}

func notShown(err error) liveWord {
	if errors.Is(err, live.ErrGone) || errors.Is(err, errNoPictures) { // it connects anew by itself
		return liveWord{Trouble: &live.Trouble{Problem: diagnose.Capital(err.Error()), Fix: errNoPictures.Fix}, Again: true}
	}
	t, _ := bringup.NotShown(err)
	return liveWord{Trouble: t}
}
