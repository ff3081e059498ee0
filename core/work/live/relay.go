package live

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"sync"
)

// A Pipe is a connection between the server and a worker elsewhere, which the worker has opened: sites sit behind address translation. It
// carries whole messages. Both methods are safe for concurrent use, each with the other and with itself.
type Pipe interface {
	Send(ctx context.Context, b []byte) error
	Receive(ctx context.Context) ([]byte, error)
}

// MaxPiped bounds one message of a pipe: a fragment with what is said of it.
const MaxPiped = 16 << 20

// An workerOrder goes from the server to the worker.
type workerOrder struct {
	Watch  uint32 `json:"watch,omitempty"` // the number of a new stream
	Close  uint32 `json:"close,omitempty"` // of one at which nobody looks any more
	Device string `json:"device,omitempty"`
	Role   string `json:"role,omitempty"`
	Wish   *Wish  `json:"wish,omitempty"`
}

// messageWords are what a message of the worker says besides its data.
type messageWords struct {
	Begin    *Begin    `json:"begin,omitempty"`
	Measures []Measure `json:"measures,omitempty"`
	Pause    *Trouble  `json:"pause,omitempty"`
	End      *Trouble  `json:"end,omitempty"`
}

// appendPiped writes a message of a stream: its number, whether a viewer may begin with it, the length of the words, words and data.
func appendPiped(b []byte, stream uint32, w messageWords, key bool, data []byte) []byte {
	b = append(binary.BigEndian.AppendUint32(b, stream), 0)
	if key {
		b[len(b)-1] = 1
	}
	raw := []byte{}
	if w.Begin != nil || w.Measures != nil || w.Pause != nil || w.End != nil {
		raw, _ = json.Marshal(w) // plain values, which always can be written
	}
	b = append(binary.BigEndian.AppendUint32(b, uint32(len(raw))), raw...)
	return append(b, data...)
}

var errPiped = errors.New("a message of a worker cannot be read")

func parsePiped(b []byte) (stream uint32, w messageWords, key bool, data []byte, err error) {
	if len(b) < 9 {
		return 0, w, false, nil, errPiped
	}
	stream, key = binary.BigEndian.Uint32(b), b[4] == 1
	n := binary.BigEndian.Uint32(b[5:])
	if b = b[9:]; uint64(n) > uint64(len(b)) {
		return 0, w, false, nil, errPiped
	}
	if n > 0 {
		if err := json.Unmarshal(b[:n], &w); err != nil {
			return 0, w, false, nil, errPiped
		}
	}
	return stream, w, key, b[n:], nil
}

// Watching begins to look at a stream of a device, as a worker does that reaches it.
type Watching func(ctx context.Context, device, role string, wish Wish) (*Viewer, error)

// Serve answers the server's orders at the worker's end of a pipe until that breaks. word says an error in a person's words.
func Serve(ctx context.Context, p Pipe, watch Watching, word func(error) *Trouble) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var mu sync.Mutex
	streams := map[uint32]context.CancelFunc{}
	var all sync.WaitGroup
	defer all.Wait()
	defer stop()
	for {
		raw, err := p.Receive(ctx)
		if err != nil {
			return err
		}
		var o workerOrder
		if err := json.Unmarshal(raw, &o); err != nil {
			return errPiped
		}
		mu.Lock()
		switch {
		case o.Close != 0:
			if end := streams[o.Close]; end != nil {
				end()
			}
		case o.Watch != 0 && o.Wish != nil && streams[o.Watch] == nil && len(streams) < maxViewers:
			mine, end := context.WithCancel(ctx)
			streams[o.Watch] = end
			all.Go(func() {
				err := pass(mine, p, o, watch)
				if mine.Err() == nil {
					p.Send(ctx, appendPiped(nil, o.Watch, messageWords{End: word(err)}, false, nil))
				}
				end()
				mu.Lock()
				defer mu.Unlock()
				delete(streams, o.Watch)
			})
		}
		mu.Unlock()
	}
}

// pass sends on what a viewer is told, until the stream ends.
func pass(ctx context.Context, p Pipe, o workerOrder, watch Watching) error {
	v, err := watch(ctx, o.Device, o.Role, *o.Wish)
	if err != nil {
		return err
	}
	defer v.Close()
	var buffer []byte
	for {
		m, err := v.Next(ctx)
		if err != nil {
			return err
		}
		buffer = appendPiped(buffer[:0], o.Watch, messageWords{Begin: m.Begin, Measures: m.Measures, Pause: m.Pause}, m.Key, m.Data)
		if err := p.Send(ctx, buffer); err != nil {
			return err
		}
	}
}

// ErrGone is for streams whose worker has gone away.
var ErrGone = errors.New("the worker that reaches this site has gone away")

// A Remote is the server's end of a pipe: the streams that a worker elsewhere sends.
type Remote struct {
	pipe Pipe
	mu   sync.Mutex
	last uint32
	to   map[uint32]*incoming
	gone bool
}

type incoming struct {
	room  *Room
	ended chan error
}

// NewRemote prepares the server's end of a pipe.
func NewRemote(p Pipe) *Remote { return &Remote{pipe: p, to: map[uint32]*incoming{}} }

// Run takes what the worker sends until the pipe breaks.
func (r *Remote) Run(ctx context.Context) error {
	defer func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.gone = true
		for _, in := range r.to {
			in.ended <- ErrGone
		}
		r.to = nil
	}()
	for {
		raw, err := r.pipe.Receive(ctx)
		if err != nil {
			return err
		}
		stream, w, key, data, err := parsePiped(raw)
		if err != nil {
			return err
		}
		r.mu.Lock()
		in := r.to[stream]
		if in != nil && w.End != nil {
			delete(r.to, stream)
			in.ended <- w.End
		}
		r.mu.Unlock()
		switch {
		case in == nil || w.End != nil: // of a stream that was closed meanwhile
		case w.Measures != nil:
			in.room.Measured(w.Measures[:min(len(w.Measures), keptFor)]...)
		case w.Pause != nil:
			in.room.Paused(*w.Pause)
		default:
			in.room.Tell(AsItComes, Message{Begin: w.Begin, Data: data, Key: key})
		}
	}
}

// Source returns a stream that the worker sends. All who look at it have the same wish.
func (r *Remote) Source(device, role string, wish Wish) Source {
	return func(ctx context.Context, to *Room) error {
		to.Seat(func(Wish) Form { return AsItComes })
		in := &incoming{room: to, ended: make(chan error, 1)}
		r.mu.Lock()
		if r.gone {
			r.mu.Unlock()
			return ErrGone
		}
		r.last++
		n := r.last
		r.to[n] = in
		r.mu.Unlock()
		if err := r.send(ctx, workerOrder{Watch: n, Device: device, Role: role, Wish: &wish}); err != nil {
			return ErrGone
		}
		select {
		case err := <-in.ended:
			return err
		case <-ctx.Done():
			r.mu.Lock()
			delete(r.to, n)
			r.mu.Unlock()
			r.send(context.WithoutCancel(ctx), workerOrder{Close: n})
			return ctx.Err()
		}
	}
}

func (r *Remote) send(ctx context.Context, o workerOrder) error {
	raw, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return r.pipe.Send(ctx, raw)
}
