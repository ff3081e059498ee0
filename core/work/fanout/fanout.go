// Package fanout hands the packets of one session with a camera to any number of consumers: pages that look live, relays, pushes. Cameras
// allow few sessions, so the first consumer begins the one that all share, and the last ends it. The newest group of pictures is kept, so
// that another consumer begins at once. Each reads at its own pace: one that is too slow is moved on to the newest group, and the others
// feel nothing of it.
package fanout

import (
	"context"
	"errors"
	"sync"
	"time"

	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
)

// Bounds of what is kept of one stream.
const (
	maxBytes = 4 << 20 // of packets
	// slack is how many bytes are kept before the newest group, for consumers that lag a little.
	slack    = 256 << 10
	slabSize = 64 << 10
	// gather and gatherFor are how many packets, and for how long, are gathered before consumers are woken: each wake costs more than the
	// packets that it brings.
	gather    = 16
	gatherFor = 4 * time.Millisecond
	// startWait is after how long a consumer begins with any picture, of a stream in which nothing begins a group.
	startWait = 5 * time.Second
	// maxConsumers bounds those of one stream.
	maxConsumers = 1000
)

// A Packet is one RTP or RTCP packet. Its payload belongs to all consumers and is not changed.
type Packet struct {
	Track   int // index in Tracks
	RTCP    bool
	Start   bool // a decoder can begin with it
	Payload []byte
	At      time.Time // of arrival
}

// Open begins a session with the camera.
type Open func(ctx context.Context) (*player.Session, error)

// ErrFull is for one consumer too many.
var ErrFull = errors.New("as many consumers take this stream as may at once")

// A Hub is all streams that are taken. Its zero value is ready.
type Hub struct {
	mu      sync.Mutex
	streams map[string]*stream
}

// A stream is one session with its consumers.
type stream struct {
	hub    *Hub
	key    string
	cancel context.CancelFunc

	mu         sync.Mutex
	more       *sync.Cond // there are packets, or the stream has ended
	session    *player.Session
	ended      error // for which the stream is over; nil while it lasts
	log        []Packet
	first      uint64 // number of log[0], counted from the beginning of the stream
	shown      uint64 // number of the first packet that consumers are not told of yet
	group      uint64 // number of the first packet of the newest group
	grouped    bool   // there is a group
	bytes      int
	slab       []byte
	gatherFrom time.Time // when the first packet came that is not shown yet
	stamp      uint32    // of the picture that began the newest group
	members    int
	arrival    meter
}

// A Consumer takes the packets of one stream. It is not safe for concurrent use, but for Close.
type Consumer struct {
	of      *stream
	at      uint64    // number of the next packet
	waiting bool      // for something that a decoder can begin with
	since   time.Time // of the first packet that it has passed over meanwhile
	lost    uint64
	closed  bool
}

// Streams returns how many sessions there are.
func (h *Hub) Streams() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.streams)
}

// Arrival returns how the pictures of a key's stream come from the camera; zero where nobody takes it, or too shortly.
func (h *Hub) Arrival(key string) Arrival {
	h.mu.Lock()
	s := h.streams[key]
	h.mu.Unlock()
	if s == nil {
		return Arrival{}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.arrival.is
}

// Join begins to take the stream of a key, which open begins where nobody takes it yet. It returns once the camera plays, and with the
// error for which it does not.
func (h *Hub) Join(ctx context.Context, key string, open Open) (*Consumer, error) {
	s, err := h.enter(key, open)
	if err != nil {
		return nil, err
	}
	c := &Consumer{of: s, waiting: true}
	stop := context.AfterFunc(ctx, s.wake)
	defer stop()
	s.mu.Lock()
	for s.session == nil && s.ended == nil && ctx.Err() == nil {
		s.more.Wait()
	}
	err = s.ended
	if err == nil {
		err = ctx.Err()
	}
	if s.grouped {
		c.at, c.waiting = s.group, false
	} else {
		c.at = s.shown
	}
	s.mu.Unlock()
	if err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// enter adds a member to the stream of a key.
func (h *Hub) enter(key string, open Open) (*stream, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.streams == nil {
		h.streams = map[string]*stream{}
	}
	s := h.streams[key]
	if s == nil {
		s = &stream{hub: h, key: key}
		s.more = sync.NewCond(&s.mu)
		var ctx context.Context
		ctx, s.cancel = context.WithCancel(context.Background())
		h.streams[key] = s
		go s.run(ctx, open)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.members >= maxConsumers {
		return nil, ErrFull
	}
	s.members++
	return s, nil
}

// wake has every waiting consumer look again.
func (s *stream) wake() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.more.Broadcast()
}

// run plays the stream until nobody takes it, or until it ends by itself.
func (s *stream) run(ctx context.Context, open Open) {
	err := s.play(ctx, open)
	if err == nil {
		err = errors.New("the stream ended")
	}
	s.hub.mu.Lock()
	if s.hub.streams[s.key] == s {
		delete(s.hub.streams, s.key)
	}
	s.hub.mu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shown = s.first + uint64(len(s.log))
	s.ended = err
	s.more.Broadcast()
}

func (s *stream) play(ctx context.Context, open Open) error {
	session, err := open(ctx)
	if err != nil {
		return err
	}
	defer session.Close()
	s.mu.Lock()
	s.session = session
	s.more.Broadcast()
	s.mu.Unlock()
	return session.Run(ctx, s.take, func() bool { return ctx.Err() != nil })
}

// take keeps a packet, and wakes the consumers when a picture is whole or enough is gathered.
func (s *stream) take(p player.Packet) {
	s.mu.Lock()
	defer s.mu.Unlock()
	kept := Packet{Track: p.Track, RTCP: p.RTCP, Payload: s.keep(p.Payload), At: p.At}
	picture := !p.RTCP && s.session.Tracks[p.Track].Kind == "video"
	if picture {
		s.mark(&kept)
		s.arrival.packet(kept.Payload, p.At)
	}
	s.log = append(s.log, kept)
	s.bytes += len(kept.Payload)
	last := s.first + uint64(len(s.log)) // the number after it
	if kept.Start {
		s.drop(last - 1)
		s.group, s.grouped = last-1, true
	}
	for s.bytes > maxBytes && len(s.log) > 1 {
		s.dropFirst(1)
	}
	if last-s.shown == 1 {
		s.gatherFrom = p.At
	}
	if whole := picture && marked(kept.Payload); whole || last-s.shown >= gather || p.At.Sub(s.gatherFrom) >= gatherFor {
		s.shown = last
		s.more.Broadcast()
	}
}

// mark says whether a packet of the picture begins a group. The parameter sets and the picture behind them begin one together: they share
// their time.
func (s *stream) mark(p *Packet) {
	if len(p.Payload) < 12 || !media.Starts(s.session.Tracks[p.Track].Codec, p.Payload) {
		return
	}
	stamp := uint32(p.Payload[4])<<24 | uint32(p.Payload[5])<<16 | uint32(p.Payload[6])<<8 | uint32(p.Payload[7])
	if s.grouped && stamp == s.stamp {
		return
	}
	s.stamp, p.Start = stamp, true
}

// marked reports whether an RTP packet is the last of its picture (RFC 3550 §5.1: the marker).
func marked(b []byte) bool { return len(b) > 1 && b[1]&0x80 != 0 }

// keep copies a payload to where it stays for as long as a consumer may read it.
func (s *stream) keep(b []byte) []byte {
	if len(b) > slabSize/4 {
		return append([]byte(nil), b...)
	}
	if cap(s.slab)-len(s.slab) < len(b) {
		s.slab = make([]byte, 0, slabSize)
	}
	from := len(s.slab)
	s.slab = append(s.slab, b...)
	return s.slab[from:len(s.slab):len(s.slab)]
}

// drop removes the packets before the newest group, but keeps some for consumers that lag a little. next is the number of the packet that
// begins the group.
func (s *stream) drop(next uint64) {
	before, n := 0, 0
	for n = int(next - s.first); n > 0; n-- {
		if before += len(s.log[n-1].Payload); before > slack {
			break
		}
	}
	if s.grouped && s.group > s.first {
		n = max(n, int(s.group-s.first)) // whoever lags by more than a whole group does not want it
	}
	s.dropFirst(n)
}

// dropFirst lets go of the n oldest packets.
func (s *stream) dropFirst(n int) {
	for _, p := range s.log[:n] {
		s.bytes -= len(p.Payload)
	}
	clear(s.log[:n])
	s.log = s.log[n:]
	s.first += uint64(n)
	if s.grouped && s.group < s.first {
		s.grouped = false // the group is longer than what is kept
	}
}

// Tracks returns what the stream consists of.
func (c *Consumer) Tracks() []player.Track { return c.of.session.Tracks }

// Session returns what is known of the session with the camera. It is for looking at alone.
func (c *Consumer) Session() *player.Session { return c.of.session }

// Lost returns how many packets the consumer was too slow for.
func (c *Consumer) Lost() uint64 { return c.lost }

// Next appends the packets that have come to list, and returns them; it waits where there are none. The error is that of ctx, or the one
// for which the stream has ended.
func (c *Consumer) Next(ctx context.Context, list []Packet) ([]Packet, error) {
	s := c.of
	s.mu.Lock()
	defer s.mu.Unlock()
	var stop func() bool
	for {
		from := len(list)
		if list = c.read(list); len(list) > from {
			return list, nil
		}
		switch {
		case ctx.Err() != nil:
			return list, ctx.Err()
		case c.closed:
			return list, context.Canceled
		case s.ended != nil:
			return list, s.ended
		}
		if stop == nil {
			stop = context.AfterFunc(ctx, s.wake)
			defer stop()
		}
		s.more.Wait()
	}
}

// read appends what the consumer has not had. One that is so slow that packets were let go goes on with the newest group. The lock is
// held.
func (c *Consumer) read(list []Packet) []Packet {
	s := c.of
	if c.at < s.first && c.waiting {
		c.at = s.first // it could begin with none of what was let go
	}
	if c.at < s.first {
		missed := s.first
		if c.waiting = !s.grouped; s.grouped {
			missed = s.group
		}
		c.lost += missed - c.at
		c.at = missed
	}
	for c.at < s.shown {
		p := s.log[c.at-s.first]
		c.at++
		if c.waiting {
			if c.since.IsZero() {
				c.since = p.At
			}
			if !p.Start && p.At.Sub(c.since) < startWait {
				continue
			}
			c.waiting, c.since = false, time.Time{}
		}
		list = append(list, p)
	}
	return list
}

// Close ends taking. With the last consumer the session ends.
func (c *Consumer) Close() {
	s := c.of
	s.mu.Lock()
	defer s.leave()
	defer s.mu.Unlock()
	if !c.closed {
		c.closed = true
		s.members--
		s.more.Broadcast()
	}
}

// lingerFor is how long Linger goes on.
const lingerFor = time.Second

// Linger is Close a moment later: whoever begins anew comes back at once, and cameras allow few sessions.
func (c *Consumer) Linger() { time.AfterFunc(lingerFor, c.Close) }

// leave ends the session where nobody takes it.
func (s *stream) leave() {
	s.hub.mu.Lock()
	defer s.hub.mu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.members == 0 {
		s.cancel()
		if s.hub.streams[s.key] == s {
			delete(s.hub.streams, s.key)
		}
	}
}
