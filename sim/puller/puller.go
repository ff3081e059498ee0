// Package puller is how the stand-ins of recorders and other targets take a picture in: they really play the stream that they were given,
// measure it, keep what can be shown, and send on what comes.
package puller

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
)

// States of a pull.
const (
	Connecting   = "Connecting"
	Connected    = "Connected"
	NotConnected = "NotConnected"
)

// A Source is what to pull.
type Source struct {
	URL       string // with or without a sign-in
	SignIn    signin.SignIn
	Transport rtsp.Transport // "" for TCP
	Retry     time.Duration  // between two tries; 0 for 2 s
	Sound     bool           // also its sound, where it has some
	Codec     string         // the one that is shown, as people write it; "" for any
}

// A Pull is one connection to a source, kept up until it is stopped.
type Pull struct {
	cancel context.CancelFunc
	done   chan struct{}

	mu       sync.Mutex
	state    string
	why      string
	frames   int
	bytes    int64
	measured media.Measured
	track    media.Track
	key      media.Keyframe
	jpeg     []byte
	jpegOf   time.Time
	watchers []chan []byte
	framed   []func(media.Frame, uint32)
	heard    []func(unit, config []byte)
	changed  chan struct{} // is closed and replaced with each change of state
}

// Start begins to pull.
func Start(ctx context.Context, s Source) *Pull {
	ctx, cancel := context.WithCancel(ctx)
	p := &Pull{cancel: cancel, done: make(chan struct{}), state: Connecting, changed: make(chan struct{})}
	if s.Retry == 0 {
		s.Retry = 2 * time.Second
	}
	if s.Transport == "" {
		s.Transport = rtsp.TCP
	}
	go func() {
		defer close(p.done)
		for ctx.Err() == nil {
			err := p.once(ctx, s)
			p.set(NotConnected, err)
			select {
			case <-ctx.Done():
			case <-time.After(s.Retry):
				p.set(Connecting, err)
			}
		}
	}()
	return p
}

// Stop ends it and waits.
func (p *Pull) Stop() {
	p.cancel()
	<-p.done
}

// Cancel ends it without waiting.
func (p *Pull) Cancel() { p.cancel() }

func (p *Pull) set(state string, why error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.state = state
	if why != nil {
		p.why = why.Error()
	}
	close(p.changed)
	p.changed = make(chan struct{})
}

// State returns how it stands, and why where there is no picture.
func (p *Pull) State() (state, why string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.state, p.why
}

// Counts returns the frames and bytes that came.
func (p *Pull) Counts() (frames int, bytes int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.frames, p.bytes
}

// Measured returns what came, measured.
func (p *Pull) Measured() media.Measured {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.measured
}

// Track returns the picture as the source describes it.
func (p *Pull) Track() media.Track {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.track
}

// Await waits for the first picture, or for ctx to end, and reports whether it came.
func (p *Pull) Await(ctx context.Context) bool {
	for {
		p.mu.Lock()
		state, changed := p.state, p.changed
		p.mu.Unlock()
		if state == Connected {
			return true
		}
		select {
		case <-ctx.Done():
			return false
		case <-changed:
		}
	}
}

func (p *Pull) once(ctx context.Context, s Source) error {
	u, err := streamurl.Parse(s.URL)
	if err != nil {
		return err
	}
	if !s.SignIn.Anonymous() {
		u.SignIn = s.SignIn
	}
	dial := &net.Dialer{Timeout: 3 * time.Second}
	kinds := []string{"video"}
	if s.Sound {
		kinds = append(kinds, "audio")
	}
	session, err := player.Open(ctx, player.Request{Dial: dial, URL: u, Transport: s.Transport, Kinds: kinds})
	if err != nil {
		return err
	}
	defer session.Close()
	track := session.Tracks[0].Track
	if s.Codec != "" && track.CodecName() != s.Codec {
		return fmt.Errorf("it shows %s alone, and this is %s", s.Codec, track.CodecName())
	}
	meter := media.NewMeter(track)
	frames, ok := media.NewAssembler(track)
	p.mu.Lock()
	p.track = track
	p.mu.Unlock()
	var sound *media.Listener
	if len(session.Tracks) > 1 {
		sound, _ = media.NewListener(session.Tracks[1].Track)
	}
	err = session.Run(ctx, func(b player.Packet) {
		if b.RTCP {
			return
		}
		if b.Track != 0 {
			if sound != nil && sound.Form == media.AAC {
				sound.Packet(b.Payload, func(unit []byte) { p.unit(unit, sound.Config) })
			}
			return
		}
		meter.Packet(b.Payload, b.At)
		p.packet(b.Payload, meter)
		if ok {
			frames.Packet(b.Payload, func(f media.Frame, stamp uint32) { p.frame(f, stamp, frames.Decoder(), b.At) })
		}
	}, func() bool { return false })
	if err == nil {
		err = errors.New("the stream ended")
	}
	return err
}

// packet counts a packet and hands it to who watches. Connected is told only once a whole key frame has come.
func (p *Pull) packet(b []byte, meter *media.Meter) {
	p.mu.Lock()
	p.bytes += int64(len(b))
	p.measured = meter.Measured()
	p.frames = p.measured.Frames
	for _, c := range p.watchers {
		select {
		case c <- slices.Clone(b):
		default:
		}
	}
	begins := p.state == Connecting && meter.Keyframe() != nil
	p.mu.Unlock()
	if begins {
		p.set(Connected, nil)
	}
}

func (p *Pull) frame(f media.Frame, stamp uint32, decoder string, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if f.Kind == media.Key {
		p.key = media.Keyframe{Decoder: decoder, Data: slices.Clone(f.Data), At: at}
	}
	for _, each := range p.framed {
		each(f, stamp)
	}
}

// Frames has a function called with each whole frame from now on; its data is valid during the call.
func (p *Pull) Frames(each func(media.Frame, uint32)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.framed = append(p.framed, each)
}

// Heard has a function called with each access unit of AAC from now on, which is valid during the call.
func (p *Pull) Heard(each func(unit, config []byte)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.heard = append(p.heard, each)
}

func (p *Pull) unit(unit, config []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, each := range p.heard {
		each(unit, config)
	}
}

// Watch adds somebody who gets the packets as they arrive, or takes them off. One that is too slow misses packets, and holds up nobody.
func (p *Pull) Watch(c chan []byte, on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if on {
		p.watchers = append(p.watchers, c)
	} else {
		p.watchers = slices.DeleteFunc(p.watchers, func(o chan []byte) bool { return o == c })
	}
}

// Still returns the latest key frame, decoded.
func (p *Pull) Still(ctx context.Context) ([]byte, error) {
	p.mu.Lock()
	key, jpeg, of := p.key, p.jpeg, p.jpegOf
	p.mu.Unlock()
	if jpeg != nil && !key.At.After(of) {
		return jpeg, nil
	}
	if key.Data == nil {
		return nil, errors.New("no picture has come yet")
	}
	jpeg, err := media.Still(ctx, key)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.jpeg, p.jpegOf = jpeg, key.At
	return jpeg, nil
}
