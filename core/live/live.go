// Package live shows streams as they come: one session with the device however many people look, since cameras allow few. The newest group of
// pictures is kept, so that the next viewer begins at once; a viewer that is slow is moved on to the next key frame and holds up nobody; the
// session ends when nobody looks any more.
package live

import (
	"context"
	"errors"
	"sync"
	"time"

	"unlatch/core/fmp4"
	"unlatch/core/media"
	"unlatch/core/player"
)

// Limits on one stream.
const (
	maxGroup   = 600     // messages that are kept of the newest group of pictures
	maxBytes   = 8 << 20 // of them
	queue      = 64      // messages that a viewer may lag behind the newest group
	maxViewers = 200
	grace      = 2 * time.Second // for which a session is kept when the last viewer has gone: a page that is loaded anew comes back
)

// A Message is one thing that a viewer is told. Its data belongs to all viewers and is not changed.
type Message struct {
	// Begin is set for the first message of a generation: how what follows is to be shown.
	Begin *Begin
	Data  []byte // the initialisation segment, a fragment, or a JPEG
	Key   bool   // a viewer may begin with it
}

// A Begin says what the pictures are.
type Begin struct {
	MIME   string `json:"mime"` // "image/jpeg" where each message is a picture by itself
	Codec  string `json:"codec"`
	Width  int    `json:"width"`
	Height int    `json:"height"`
	// Converted is the codec of the stream itself, where what is shown was made of it.
	Converted string `json:"converted,omitempty"`
}

// An UnshownError says that a codec is not shown live.
type UnshownError struct{ Codec string }

func (e *UnshownError) Error() string {
	return e.Codec + " is not shown live yet; its proof shows a still"
}

// ErrFull is for one viewer too many.
var ErrFull = errors.New("as many people look at this stream as may at once")

// An Open begins a session with the device.
type Open func(ctx context.Context) (*player.Session, error)

// A Hub is all streams that are looked at. Its zero value is ready.
type Hub struct {
	mu    sync.Mutex
	rooms map[string]*room
}

// A room is one stream with its viewers.
type room struct {
	hub     *Hub
	key     string
	cancel  context.CancelFunc
	mu      sync.Mutex
	begin   *Message
	group   []Message
	bytes   int
	viewers map[*Viewer]bool
	err     error
	leaving *time.Timer
}

// A Viewer is somebody who looks. It is not safe for concurrent use.
type Viewer struct {
	room    *room
	c       chan Message
	waiting bool // for a key frame, since it was too slow
}

// Watch begins to look at the stream of a key, which open plays where nobody looks at it yet.
func (h *Hub) Watch(key string, open Open) (*Viewer, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.rooms == nil {
		h.rooms = map[string]*room{}
	}
	r := h.rooms[key]
	if r == nil {
		ctx, cancel := context.WithCancel(context.Background())
		r = &room{hub: h, key: key, cancel: cancel, viewers: map[*Viewer]bool{}}
		h.rooms[key] = r
		go r.run(ctx, open)
	}
	return r.enter()
}

// Streams is how many streams are played now.
func (h *Hub) Streams() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.rooms)
}

// enter adds a viewer, who is given the newest group at once; the hub's lock is held.
func (r *room) enter() (*Viewer, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.viewers) >= maxViewers {
		return nil, ErrFull
	}
	if r.leaving != nil {
		r.leaving.Stop()
		r.leaving = nil
	}
	v := &Viewer{room: r, c: make(chan Message, maxGroup+queue+2)}
	if r.begin != nil {
		v.c <- *r.begin
		for _, m := range r.group {
			v.c <- m
		}
	}
	r.viewers[v] = true
	return v, nil
}

// Next returns the next message, and the error for which the stream has ended.
func (v *Viewer) Next(ctx context.Context) (Message, error) {
	select {
	case <-ctx.Done():
		return Message{}, ctx.Err()
	case m, ok := <-v.c:
		if !ok {
			v.room.mu.Lock()
			defer v.room.mu.Unlock()
			return m, v.room.err
		}
		return m, nil
	}
}

// Close ends looking. With the last viewer the session ends, a moment later.
func (v *Viewer) Close() {
	r := v.room
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.viewers, v)
	if len(r.viewers) == 0 && r.leaving == nil {
		r.leaving = time.AfterFunc(grace, r.leave)
	}
}

// leave ends the session where still nobody looks.
func (r *room) leave() {
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.viewers) == 0 {
		r.cancel()
		if r.hub.rooms[r.key] == r {
			delete(r.hub.rooms, r.key)
		}
	}
}

// run plays the stream until nobody looks, or until it fails, which every viewer is told.
func (r *room) run(ctx context.Context, open Open) {
	err := r.play(ctx, open)
	if err == nil {
		err = errors.New("the stream ended")
	}
	r.hub.mu.Lock()
	if r.hub.rooms[r.key] == r {
		delete(r.hub.rooms, r.key)
	}
	r.hub.mu.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	r.err = err
	for v := range r.viewers {
		close(v.c)
	}
	r.viewers = map[*Viewer]bool{}
}

func (r *room) play(ctx context.Context, open Open) error {
	session, err := open(ctx)
	if err != nil {
		return err
	}
	defer session.Close()
	track := session.Tracks[0].Track
	frames, ok := media.NewAssembler(track)
	if !ok {
		return &UnshownError{track.Codec}
	}
	shown := &shown{room: r}
	var each func(f media.Frame, stamp uint32)
	switch track.Codec {
	case "H264":
		each = func(f media.Frame, stamp uint32) { shown.h264(f.Data, f.Kind == media.Key, stamp) }
	case "JPEG":
		each = func(f media.Frame, _ uint32) { shown.jpeg(f.Data, frames.Picture()) }
	default: // browsers that play H.265 are few, and none plays MPEG-4
		shown.converted = map[string]string{"H265": "H.265", "MP4V-ES": "MPEG-4"}[track.Codec]
		if shown.converted == "" {
			return &UnshownError{track.Codec}
		}
		c, err := convert(ctx, frames.Decoder(), shown.h264)
		if err != nil {
			return err
		}
		defer c.close()
		each = func(f media.Frame, _ uint32) {
			if err := c.frame(f.Data); err != nil {
				shown.failed = err
			}
		}
	}
	err = session.Run(ctx, func(p player.Packet) {
		if !p.RTCP && p.Track == 0 {
			frames.Packet(p.Payload, each)
		}
	}, func() bool { return ctx.Err() != nil || shown.failed != nil })
	if shown.failed != nil {
		return shown.failed
	}
	return err
}

// shown makes messages of frames.
type shown struct {
	room       *room
	mux        fmp4.Muxer
	generation int
	converted  string
	begun      bool
	failed     error
}

// h264 shows one frame of H.264.
func (s *shown) h264(data []byte, key bool, stamp uint32) {
	fragment, ok := s.mux.Frame(make([]byte, 0, len(data)+256), data, key, stamp)
	if !ok {
		return
	}
	if s.mux.Generation != s.generation {
		s.generation = s.mux.Generation
		b := &Begin{MIME: s.mux.MIME(), Codec: "H.264", Converted: s.converted}
		b.Width, b.Height = s.mux.Size()
		s.room.tell(Message{Begin: b, Data: s.mux.Init(nil), Key: true})
	}
	s.room.tell(Message{Data: fragment, Key: key})
}

// jpeg shows one picture by itself.
func (s *shown) jpeg(data []byte, p *media.Picture) {
	if !s.begun {
		s.begun = true
		b := &Begin{MIME: "image/jpeg", Codec: "MJPEG"}
		if p != nil {
			b.Width, b.Height = p.Width, p.Height
		}
		s.room.tell(Message{Begin: b, Key: true})
	}
	s.room.tell(Message{Data: append([]byte(nil), data...), Key: true})
}

// tell hands a message to all viewers and keeps the newest group.
func (r *room) tell(m Message) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case m.Begin != nil:
		r.begin, r.group, r.bytes = &m, nil, 0
	case m.Key:
		r.group, r.bytes = append(r.group[:0:0], m), len(m.Data)
	case len(r.group) > 0 && len(r.group) < maxGroup && r.bytes < maxBytes:
		r.group, r.bytes = append(r.group, m), r.bytes+len(m.Data)
	}
	for v := range r.viewers {
		v.take(m)
	}
}

// take gives a viewer a message. One that is too slow misses what comes up to the next key frame, and never a beginning.
func (v *Viewer) take(m Message) {
	if m.Begin != nil {
		for { // what it has not seen of the generation before is of no use any more
			select {
			case <-v.c:
				continue
			default:
			}
			break
		}
		v.waiting = false
		v.c <- m
		return
	}
	if v.waiting && (!m.Key || len(v.c) > queue) {
		return
	}
	v.waiting = false
	select {
	case v.c <- m:
	default:
		v.waiting = true
	}
}
