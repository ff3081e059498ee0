// Package live shows streams as they come: one session with the device however many people look, since cameras allow few. The newest group
// of pictures is kept, so that the next viewer begins at once; a viewer that is slow is moved on to the next key frame and holds up
// nobody; the session ends when nobody looks any more.
package live

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"
)

// Limits on one stream.
const (
	maxGroup = 600     // messages that are kept of the newest group of pictures
	maxBytes = 8 << 20 // of them
	queue    = 64      // messages that a viewer may lag behind the newest group
	// What waits for a viewer is bounded in bytes too, and so is what waits for all viewers of this program: frames of some cameras have
	// megabytes.
	maxHeld    = 16 << 20
	maxHeldAll = 256 << 20
	maxViewers = 200
	grace      = 2 * time.Second // for which a session is kept when the last viewer has gone: a page that is loaded anew comes back
	keptFor    = 60              // seconds of measures that the next viewer is told
)

// A Message is one thing that a viewer is told. Its data belongs to all viewers and is not changed.
type Message struct {
	// Begin is set for the first message of a generation: how what follows is to be shown.
	Begin *Begin
	Data  []byte // the initialisation segment, a fragment, a JPEG, or samples
	Key   bool   // a viewer may begin with it
	// Measures are those of the seconds that have passed; Data is nil.
	Measures []Measure
	// Pause says why nothing comes for the moment, and that it is asked for again; Data is nil.
	Pause *Trouble
}

// A Begin says what the pictures or the sound are.
type Begin struct {
	MIME   string `json:"mime"` // "image/jpeg" where each message is a picture by itself; "audio/pcm" for 16-bit samples, little-endian
	Codec  string `json:"codec"`
	Width  int    `json:"width,omitempty"`
	Height int    `json:"height,omitempty"`
	// Converted is the codec of the stream itself, where what is shown was made of it.
	Converted string `json:"converted,omitempty"`
	Rate      int    `json:"rate,omitempty"` // of samples, a second
	Channels  int    `json:"channels,omitempty"`
}

// A Trouble says in a person's words why there is nothing to see, and what to do.
type Trouble struct {
	Problem string `json:"problem"`
	Fix     string `json:"fix,omitempty"`
}

func (t *Trouble) Error() string { return t.Problem }

// An UnshownError says that a codec is not shown live.
type UnshownError struct{ Codec string }

func (e *UnshownError) Error() string {
	return e.Codec + " is not shown live yet; its proof shows a still"
}

// ErrFull is for one viewer too many.
var ErrFull = errors.New("as many people look at this stream as may at once")

// A Wish is what a viewer wants of a stream.
type Wish struct {
	H265  bool `json:"h265,omitempty"`  // its browser plays H.265
	Made  bool `json:"made,omitempty"`  // pictures converted to plain H.264: its browser does not play the stream, whatever it says
	Sound bool `json:"sound,omitempty"` // the sound, and no pictures
}

// A Form is one way in which a stream is sent on. All viewers of a form are told the same.
type Form string

// The forms.
const (
	AsItComes Form = "as it comes"
	Converted Form = "converted"
	Sound     Form = "sound"
)

// A Source gives a room what its viewers are told, until ctx ends. The error says why it ended by itself.
type Source func(ctx context.Context, to *Room) error

// A Hub is all streams that are looked at. Its zero value is ready.
type Hub struct {
	mu    sync.Mutex
	rooms map[string]*Room
}

// A Room is one stream with its viewers.
type Room struct {
	hub     *Hub
	key     string
	cancel  context.CancelFunc
	mu      sync.Mutex
	resolve func(Wish) Form // nil until the source knows the stream
	forms   map[Form]*form
	made    int // forms so far
	viewers map[*Viewer]bool
	seconds []Measure
	paused  *Message
	leaving *time.Timer
}

// A form is what the next viewer of it begins with.
type form struct {
	id    int // which of the room's it is, from 1
	begin *Message
	group []Message
	bytes int
}

// A Viewer is somebody who looks. It is not safe for concurrent use.
type Viewer struct {
	room    *Room
	wish    Wish
	form    Form // "" until the room knows the stream
	c       chan Message
	held    atomic.Int64 // bytes that wait in c
	waiting bool         // for a key frame, since it was too slow
	err     error        // for which it was shown out
}

// Watch begins to look at the stream of a key, which source gives where nobody looks at it yet.
func (h *Hub) Watch(key string, wish Wish, source Source) (*Viewer, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.rooms == nil {
		h.rooms = map[string]*Room{}
	}
	r := h.rooms[key]
	if r == nil {
		var ctx context.Context
		r = &Room{hub: h, key: key, viewers: map[*Viewer]bool{}, forms: map[Form]*form{}}
		ctx, r.cancel = context.WithCancel(context.Background())
		h.rooms[key] = r
		go r.run(ctx, source)
	}
	return r.enter(wish)
}

// Streams returns how many streams are played now.
func (h *Hub) Streams() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.rooms)
}

// enter adds a viewer, who is given the newest group at once; the hub's lock is held.
func (r *Room) enter(wish Wish) (*Viewer, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.viewers) >= maxViewers {
		return nil, ErrFull
	}
	if r.leaving != nil {
		r.leaving.Stop()
		r.leaving = nil
	}
	v := &Viewer{room: r, wish: wish, c: make(chan Message, maxGroup+queue+4)}
	r.viewers[v] = true
	if r.resolve != nil {
		r.seat(v)
	}
	return v, nil
}

// seat finds a viewer's form and gives it what there is of that. The lock is held.
func (r *Room) seat(v *Viewer) {
	v.form = r.resolve(v.wish)
	f := r.forms[v.form]
	if f == nil {
		r.made++
		f = &form{id: r.made}
		r.forms[v.form] = f
	}
	if len(r.seconds) > 0 && !v.wish.Sound {
		v.c <- Message{Measures: r.seconds}
	}
	if f.begin != nil {
		v.give(*f.begin)
		for _, m := range f.group {
			if !v.give(m) {
				v.waiting = true // for the next key frame
				break
			}
		}
	}
	if r.paused != nil {
		v.c <- *r.paused
	}
}

// heldByAll is what waits for all viewers of this program, in bytes.
var heldByAll atomic.Int64

// give hands a viewer a message where there is room for it. A beginning always has room: it is small, and nothing can be shown without it.
func (v *Viewer) give(m Message) bool {
	n := int64(len(m.Data))
	if held := v.held.Load(); m.Begin == nil && (held > 0 && held+n > maxHeld || held > 0 && heldByAll.Load()+n > maxHeldAll) {
		return false
	}
	select {
	case v.c <- m:
		v.held.Add(n)
		heldByAll.Add(n)
		return true
	default:
		return false
	}
}

// took counts a message that waits no longer.
func (v *Viewer) took(m Message) {
	v.held.Add(-int64(len(m.Data)))
	heldByAll.Add(-int64(len(m.Data)))
}

// Seat is told by the source once it knows the stream: in which form a wish is met. The forms begin anew.
func (r *Room) Seat(resolve func(Wish) Form) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.resolve = resolve
	r.forms = map[Form]*form{}
	for v := range r.viewers {
		r.seat(v)
	}
}

// Wants is 0 where nobody looks at a form. Another number than before means that somebody looks again after nobody has: the form
// begins anew.
func (r *Room) Wants(f Form) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.forms[f] == nil {
		return 0
	}
	return r.forms[f].id
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
			return m, v.err
		}
		v.took(m)
		return m, nil
	}
}

// Close ends looking. With the last viewer the session ends, a moment later.
func (v *Viewer) Close() {
	r := v.room
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.viewers, v)
	heldByAll.Add(-v.held.Swap(0))
	switch {
	case len(r.viewers) > 0:
		for other := range r.viewers {
			if other.form == v.form {
				return
			}
		}
		delete(r.forms, v.form) // the others look at other forms of it
	case r.leaving == nil:
		r.leaving = time.AfterFunc(grace, r.leave)
	}
}

// leave ends the session where still nobody looks.
func (r *Room) leave() {
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

// run lets the source tell the room until nobody looks, or until it ends, of which every viewer is told.
func (r *Room) run(ctx context.Context, source Source) {
	err := source(ctx, r)
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
	for v := range r.viewers {
		r.out(v, err)
	}
}

// Refuse shows out all viewers of a form.
func (r *Room) Refuse(f Form, why error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.forms, f)
	for v := range r.viewers {
		if v.form == f {
			r.out(v, why)
		}
	}
}

// out shows a viewer out. The lock is held.
func (r *Room) out(v *Viewer, why error) {
	v.err = why
	close(v.c)
	delete(r.viewers, v)
}

// Tell hands a message to all viewers of a form and keeps its newest group.
func (r *Room) Tell(to Form, m Message) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f := r.forms[to]
	if f == nil {
		return
	}
	r.paused = nil
	switch {
	case m.Begin != nil:
		f.begin, f.group, f.bytes = &m, nil, 0
	case to == Sound: // whoever begins to listen begins with what comes next
	case m.Key:
		f.group, f.bytes = append(f.group[:0:0], m), len(m.Data)
	case len(f.group) > 0 && len(f.group) < maxGroup && f.bytes < maxBytes:
		f.group, f.bytes = append(f.group, m), f.bytes+len(m.Data)
	}
	for v := range r.viewers {
		if v.form == to {
			v.take(m)
		}
	}
}

// Measured tells what was measured of seconds that have passed.
func (r *Room) Measured(list ...Measure) {
	r.mu.Lock()
	defer r.mu.Unlock()
	// A new slice each time: viewers may still hold the one before.
	all := append(append([]Measure(nil), r.seconds...), list...)
	r.seconds = all[max(0, len(all)-keptFor):]
	r.all(Message{Measures: list})
}

// Paused tells why nothing comes for the moment.
func (r *Room) Paused(why Trouble) {
	r.mu.Lock()
	defer r.mu.Unlock()
	m := Message{Pause: &why}
	r.paused = &m
	r.all(m)
}

// all gives every viewer something besides the stream, where it has room for it. The lock is held.
func (r *Room) all(m Message) {
	for v := range r.viewers {
		if v.form == "" || v.wish.Sound && m.Measures != nil {
			continue
		}
		select {
		case v.c <- m:
		default:
		}
	}
}

// take gives a viewer a message. One that is too slow misses what comes up to the next key frame, and never a beginning.
func (v *Viewer) take(m Message) {
	if m.Begin != nil {
		for { // what it has not seen of the generation before is of no use any more
			select {
			case old := <-v.c:
				v.took(old)
				continue
			default:
			}
			break
		}
		v.waiting = false
		v.give(m)
		return
	}
	if v.waiting && (!m.Key || len(v.c) > queue) {
		return
	}
	v.waiting = !v.give(m)
}
