package server

import (
	"context"
	"errors"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"unlatch/core/ground/pairing"
	"unlatch/core/wire/link"
	"unlatch/core/work/live"
	"unlatch/store"
	"unlatch/store/forward"
)

// links are the connections of paired workers to this server.
type links struct {
	pictures *remotePictures
	from     func(*http.Request) string

	mu   sync.Mutex
	byID map[uuid.UUID]*oneLink
}

// oneLink is the connection of one worker.
type oneLink struct {
	*link.Link
	worker uuid.UUID
	from   string
	wanted chan struct{} // gets a value when the worker shall show that it answers
}

// Bounds of a link.
const (
	maxLinkMessage = 1 << 20 // bytes of one message of the WebSocket
	heardEvery     = 20 * time.Second
	aliveBy        = 5 * time.Second
)

func (s *links) connected(worker uuid.UUID) bool { return s.of(worker) != nil }

// end ends the connection of a worker.
func (s *links) end(worker uuid.UUID) {
	if l := s.of(worker); l != nil {
		l.Close()
	}
}

// of returns the connection of a worker to this server; nil for none.
func (s *links) of(worker uuid.UUID) *oneLink {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.byID[worker]
}

// asked bounds what an event of the database has this server do. Paired workers can make events too.
const asked = 10 * time.Second

// endIfRevoked ends the connection of a worker that was revoked.
func (s *links) endIfRevoked(worker uuid.UUID) {
	if s.of(worker) == nil {
		return
	}
	ctx, done := context.WithTimeout(context.Background(), asked)
	defer done()
	if w, err := s.pictures.store.Paired.Get(ctx, worker); err != nil || w.Revoked != nil {
		s.end(worker) // where that cannot be known, it comes back if it may
	}
}

// see sees whether a worker that is connected to this server answers, which another server wants to know.
func (s *links) see(worker uuid.UUID) {
	if l := s.of(worker); l != nil {
		select {
		case l.wanted <- struct{}{}:
		default: // it is being seen to
		}
	}
}

// endRevoked ends the connections of workers that were revoked while the database could not be listened to.
func (s *links) endRevoked(ctx context.Context) {
	list, err := s.pictures.store.Paired.List(ctx)
	if err != nil {
		return
	}
	for _, w := range list {
		if w.Revoked != nil {
			s.end(w.ID)
		}
	}
}

// door lets one connection in.
type door struct {
	*links
	from   string
	worker store.PairedWorker // that it says to be
}

// Key implements link.Door.
func (d *door) Key(ctx context.Context, h link.Hello) (pairing.Public, error) {
	id, err := uuid.Parse(h.Worker)
	if err != nil {
		return nil, nil
	}
	if d.worker, err = d.pictures.store.Paired.Get(ctx, id); errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return d.worker.Key, err
}

// Admit implements link.Door: it turns away who was revoked, and who is connected already.
func (d *door) Admit(ctx context.Context, _ link.Hello) error {
	if d.worker.Revoked != nil {
		return &link.Refusal{Problem: "This worker was revoked on the server.", Fix: "Pair it anew: unlatch worker pair", Final: true}
	}
	err := d.requireAlone(ctx, d.worker.ID)
	if errors.As(err, new(*link.Refusal)) {
		d.pictures.store.Paired.Twice(ctx, d.worker.ID, d.from)
	}
	return err
}

// requireAlone refuses a worker that is connected already, and answers there: either it was started twice, or somebody has its key.
func (s *links) requireAlone(ctx context.Context, id uuid.UUID) error {
	old := s.of(id)
	if old == nil {
		return s.requireAloneElsewhere(ctx, id)
	}
	answered := make(chan bool, 1)
	go func() {
		_, err := old.Ping()
		answered <- err == nil
	}()
	alive := false
	select {
	case alive = <-answered:
	case <-time.After(aliveBy):
	case <-ctx.Done():
		return ctx.Err()
	}
	if !alive {
		old.Close() // it was cut off, and the server had not noticed yet
		return nil
	}
	return connectedAlready(old.from)
}

// requireAloneElsewhere refuses a worker that is connected to another server of the same database, and answers there.
func (s *links) requireAloneElsewhere(ctx context.Context, id uuid.UUID) error {
	paired := s.pictures.store.Paired
	if there, err := paired.Works(ctx, id); err != nil || !there {
		return err
	}
	since, err := paired.Want(ctx, id)
	if err != nil {
		return err
	}
	for deadline := time.After(aliveBy); ; {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-deadline: // its server has not heard it either, and ends that connection
			return nil
		case <-time.After(100 * time.Millisecond):
		}
		w, err := paired.Get(ctx, id)
		if err != nil {
			return err
		}
		if w.Seen != nil && w.Seen.After(since) {
			return connectedAlready(w.From)
		}
		if there, err := paired.Works(ctx, id); err != nil || !there {
			return err
		}
	}
}

func connectedAlready(from string) error {
	return &link.Refusal{Problem: "A worker with this key is connected already, from " + from + ".",
		Fix: "Stop that one, or, where it is none of yours, revoke the worker on the server and pair it anew."}
}

// ServeHTTP takes the connection of a paired worker.
func (s *links) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	from := s.from(r)
	ws, err := websocket.Accept(w, r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return
	}
	defer ws.CloseNow()
	ws.SetReadLimit(maxLinkMessage)
	ctx, end := context.WithCancel(context.WithoutCancel(r.Context()))
	defer end()
	d := &door{links: s, from: from}
	l, hello, err := link.Accept(ctx, websocket.NetConn(ctx, ws, websocket.MessageBinary), d)
	log := s.pictures.log.With("worker", hello.Worker, "from", from)
	if err != nil {
		log.Info("a paired worker is not let in", "err", err)
		return
	}
	defer l.Close()
	id := d.worker.ID
	one := &oneLink{l, id, from, make(chan struct{}, 1)}
	s.mu.Lock()
	s.byID[id] = one
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.byID[id] == one {
			delete(s.byID, id)
		}
	}()
	log.Info("a paired worker is connected", "machine", hello.Machine, "version", hello.Version)
	go s.hear(ctx, id, one, hello)
	err = s.serve(ctx, one)
	log.Info("the connection of a paired worker has ended", "err", err)
}

// serve hands on what a worker opens until the link ends.
func (s *links) serve(ctx context.Context, l *oneLink) error {
	role, password, err := s.pictures.store.Paired.Login(ctx, l.worker)
	if err != nil {
		return err
	}
	to, err := forward.New(s.pictures.store.Pool.Config().ConnString(), role, password)
	if err != nil {
		return err
	}
	return l.Serve(map[link.Kind]func(net.Conn){
		link.Database: func(c net.Conn) {
			if err := to.Serve(ctx, c); err != nil {
				s.pictures.log.Debug("a connection to the database of a paired worker has ended", "err", err)
			}
		},
		link.Pictures: func(c net.Conn) { s.pictures.take(ctx, l.worker, live.NewStreamPipe(c)) },
	})
}

// hear keeps that a worker is there, until its link ends.
func (s *links) hear(ctx context.Context, id uuid.UUID, l *oneLink, h link.Hello) {
	for {
		delay, err := l.Ping()
		if err != nil {
			l.Close()
			return
		}
		if err := s.pictures.store.Paired.Heard(ctx, id, l.from, h.Version, delay); err != nil && ctx.Err() == nil {
			s.pictures.log.Debug("that a paired worker is there could not be kept", "err", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-l.Done():
			return
		case <-l.wanted:
		case <-time.After(heardEvery):
		}
	}
}
