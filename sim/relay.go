package sim

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"unlatch/core/media"
	"unlatch/core/rtsp"
)

// A relay is what a recorder sends on of one of its slots: the packets of the camera as they arrive, whatever that was set to meanwhile.
type relay struct{ p *pull }

// relayed finds the slot that a path of the recorder leads to: its channels count on after those of its own switch.
func (d *device) relayed(path string) (rtsp.Stream, bool) {
	r := d.recorder
	if r == nil {
		return nil, false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, j := range r.state.Jobs {
		var n int
		if _, err := fmt.Sscanf(j.Recording, "slot_%d", &n); err != nil || d.maker.path(len(d.Channels)+n, 0) != path {
			continue
		}
		if p := r.live[j.Receiver]; p != nil && p.now() == "Connected" {
			return relay{p}, true
		}
	}
	return nil, false
}

// SDP describes the picture as the camera has described it.
func (r relay) SDP() string {
	r.p.mu.Lock()
	t := r.p.track
	r.p.mu.Unlock()
	var b strings.Builder
	fmt.Fprintf(&b, "v=0\r\no=- 1 1 IN IP4 0.0.0.0\r\ns=relay\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\nm=video 0 RTP/AVP %d\r\n", t.Payload)
	fmt.Fprintf(&b, "a=rtpmap:%d %s/%d\r\n", t.Payload, t.Codec, cmp.Or(t.ClockRate, 90000))
	if len(t.Fmtp) > 0 {
		var parts []string
		for k, v := range t.Fmtp {
			parts = append(parts, k+"="+v)
		}
		slices.Sort(parts)
		fmt.Fprintf(&b, "a=fmtp:%d %s\r\n", t.Payload, strings.Join(parts, "; "))
	}
	return b.String() + "a=control:track1\r\n"
}

// Send sends on what arrives from now on. A viewer that is too slow misses packets, and holds up nobody.
func (r relay) Send(ctx context.Context, to *rtsp.Sink) {
	packets := make(chan []byte, 512)
	r.p.watch(packets, true)
	defer r.p.watch(packets, false)
	for {
		select {
		case <-ctx.Done():
			return
		case b := <-packets:
			to.RTP(1, b)
			if to.Flush() != nil {
				return
			}
		}
	}
}

// watch adds somebody who gets the packets as they arrive, or takes them off.
func (p *pull) watch(c chan []byte, on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if on {
		p.watchers = append(p.watchers, c)
	} else {
		p.watchers = slices.DeleteFunc(p.watchers, func(o chan []byte) bool { return o == c })
	}
}

// hand gives a packet to who watches; the caller holds mu.
func (p *pull) hand(b []byte) {
	for _, c := range p.watchers {
		select {
		case c <- slices.Clone(b):
		default:
		}
	}
}

// begins keeps what the stream is described as.
func (p *pull) begins(t media.Track) {
	p.mu.Lock()
	p.track = t
	p.mu.Unlock()
}
