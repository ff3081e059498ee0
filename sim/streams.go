package sim

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"unlatch/core/httpauth"
	"unlatch/core/rtsp"
	"unlatch/core/streamurl"
	"unlatch/sim/scene"
)

// streamHandler is the RTSP side of one camera: live streams that every viewer joins where they are.
type streamHandler struct{ d *device }

// newStreamServer serves the streams of a device.
func newStreamServer(d *device) *rtsp.Server {
	return &rtsp.Server{Name: d.maker.server, Handler: streamHandler{d}, Sessions: d.Defects.Sessions, Takes: d.takes, Group: d.group}
}

// Request refuses who may not watch, sends elsewhere who asks for a stream that has moved, and leaves the rest to the server.
func (h streamHandler) Request(v *rtsp.Viewer, q *rtsp.Request) (answered bool) {
	if h.d.Defects.StreamSilent {
		return true
	}
	if q.Method == "DESCRIBE" {
		if _, _, ok := h.Stream(q.URL); h.d.Defects.PathFirst && !ok {
			v.Reply(q, 404, "Not Found")
			return true
		}
		if h.d.redirected(v, q) {
			return true
		}
	}
	return q.Method != "OPTIONS" && !h.allowed(v, q)
}

// A nonce is what one connection is challenged with.
type nonce struct {
	value string
	since time.Time
}

func newNonce() *nonce { return &nonce{value: randomHex(), since: time.Now()} }

// allowed answers a request that comes without a good sign-in.
func (h streamHandler) allowed(v *rtsp.Viewer, q *rtsp.Request) bool {
	d := h.d
	if len(d.accounts()) == 0 {
		return true
	}
	n, ok := v.State.(*nonce)
	if !ok {
		n = newNonce()
		v.State = n
	}
	good := cmp.Or(d.Defects.StaleSeconds, d.maker.stale)
	stale := good > 0 && time.Since(n.since) > time.Duration(good)*time.Second
	old := n.value
	if stale {
		*n = *newNonce()
	}
	lines := challenges(d.maker.streamAuth, d.maker.name, n.value)
	if stale && strings.Contains(q.Header.Get("Authorization"), old) {
		for i := range lines {
			lines[i] += ", stale=true"
		}
		q.Header = slices.DeleteFunc(q.Header, func(f rtsp.Field) bool { return f.Name == "Authorization" })
	}
	if given := q.Header.Get("Authorization"); given != "" {
		if a, locked := d.locked(); locked {
			if a.drop {
				v.Drop()
				return false
			}
			var fields []rtsp.Field
			if a.retry != "" {
				fields = append(fields, rtsp.Field{Name: "Retry-After", Value: a.retry})
			}
			v.Reply(q, a.status, a.reason, fields...)
			return false
		}
		for _, c := range httpauth.ParseChallenges(lines) {
			if user, ok := httpauth.Check(given, c, q.Method, d.secret); ok && d.mayWatch(user) {
				d.judged(true)
				return true
			}
		}
		d.judged(false)
	}
	var fields []rtsp.Field
	for _, l := range lines {
		fields = append(fields, rtsp.Field{Name: "WWW-Authenticate", Value: l})
	}
	v.Reply(q, 401, "Unauthorized", fields...)
	return false
}

// mayWatch reports whether the streams take a user: where they have users of their own, no administrator is one.
func (d *device) mayWatch(user string) bool {
	return !d.maker.apart || slices.ContainsFunc(d.accounts(), func(u claimed) bool { return u.Name == user && u.Level != "Administrator" })
}

// Stream finds the stream, and the track for SETUP, that a request URL names. Paths compare with their case.
func (h streamHandler) Stream(target string) (stream rtsp.Stream, track int, ok bool) {
	u, err := streamurl.Parse(target)
	if err != nil {
		return nil, 0, false
	}
	path := u.Target()
	if base, n, cut := strings.Cut(path, "/track"); cut {
		if track, err = strconv.Atoi(n); err != nil || track < 1 || track > 2 {
			return nil, 0, false
		}
		path = base
	}
	path = strings.TrimSuffix(strings.TrimSuffix(path, "/"), "/moved")
	for _, f := range h.d.sends {
		if h.d.path(f) == path {
			return liveStream{h.d, f}, track, true
		}
	}
	if h.d.Defects.AnyPath && len(h.d.sends) > 0 {
		return liveStream{h.d, h.d.sends[0]}, track, true
	}
	return nil, 0, false
}

// A liveStream is one stream of a device as its viewers get it.
type liveStream struct {
	d *device
	f feed
}

// SDP describes the stream (RFC 8866, RFC 6184 §8.2).
func (l liveStream) SDP() string {
	clip := l.f.clip
	var b strings.Builder
	fmt.Fprintf(&b, "v=0\r\no=- 1 1 IN IP4 %s\r\ns=%s\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\n", l.d.Address, l.d.maker.name)
	b.WriteString("m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n")
	fmtp := fmt.Sprintf("a=fmtp:96 packetization-mode=1; profile-level-id=%X", clip.SPS[1:4])
	if !l.d.Defects.NoParameters {
		fmtp += "; sprop-parameter-sets=" + base64.StdEncoding.EncodeToString(clip.SPS) + "," + base64.StdEncoding.EncodeToString(clip.PPS)
	}
	fmt.Fprintf(&b, "%s\r\na=control:track1\r\n", fmtp)
	if l.f.Audio {
		b.WriteString("m=audio 0 RTP/AVP 0\r\na=control:track2\r\n")
	}
	return b.String()
}

// Send joins the live stream at its next frame and sends until the session ends.
func (l liveStream) Send(ctx context.Context, to *rtsp.Sink) {
	clip, now := l.f.clip, time.Now()
	video := packetiser{send: func(packet []byte) { to.RTP(1, packet) }, ssrc: 1, encrypts: l.d.Defects.Encrypts}
	tone := toneSender{began: now, packetiser: packetiser{send: func(packet []byte) { to.RTP(2, packet) }, ssrc: 2}}
	for k := l.d.frameAfter(clip, now); ; k++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(l.d.frameTime(clip, k))):
		}
		if to.Wants(1) {
			video.frame(clip.Frames[k%int64(len(clip.Frames))], uint32(k*90000/int64(clip.FPS)))
		}
		if to.Wants(2) {
			tone.due()
		}
		if l.d.Defects.StrayFrames {
			to.Interleave(99, []byte{1, 2, 3})
		}
		if to.Flush() != nil {
			return
		}
	}
}

// takes reports whether the device sends over the transport that a SETUP asks for.
func (d *device) takes(transport string) bool {
	tcp, group := strings.Contains(transport, "RTP/AVP/TCP"), strings.Contains(transport, "multicast")
	switch d.Defects.Transport {
	case "udp":
		return !tcp && !group
	case "multicast":
		return group
	}
	return !group
}

// redirected sends a DESCRIBE elsewhere, as a device does whose streams have moved.
func (d *device) redirected(v *rtsp.Viewer, q *rtsp.Request) bool {
	to := d.Defects.Redirects
	switch {
	case to == "":
		return false
	case to == "loop":
		to = q.URL
	case to == "path":
		if strings.HasSuffix(q.URL, "/moved") {
			return false
		}
		to = strings.TrimSuffix(q.URL, "/") + "/moved"
	}
	v.Reply(q, 302, "Moved Temporarily", rtsp.Field{Name: "Location", Value: to})
	return true
}

const groupPort = 52000

// group is the multicast group of a track: one of the device's own, in the block for local use (RFC 2365).
func (d *device) group(track int) *net.UDPAddr {
	a := d.Address.As4()
	return &net.UDPAddr{IP: net.IPv4(239, 255, a[2], a[3]), Port: groupPort + 2*(track-1)}
}

// frameTime is when frame k of a clip is live; frameAfter the number of the first frame live after t.
func (d *device) frameTime(c *scene.Clip, k int64) time.Time {
	return d.epoch.Add(time.Duration(k) * time.Second / time.Duration(c.FPS))
}

func (d *device) frameAfter(c *scene.Clip, t time.Time) int64 {
	return int64(t.Sub(d.epoch))*int64(c.FPS)/int64(time.Second) + 1
}

// NextKeyframe is when the next key frame of a stream, counted from 0, goes out after t.
func (l Look) NextKeyframe(stream int, t time.Time) time.Time {
	c := l.d.sends[stream].clip
	k := l.d.frameAfter(c, t)
	for !c.Frames[k%int64(len(c.Frames))].Key {
		k++
	}
	return l.d.frameTime(c, k)
}

// packetiser writes H.264 frames as RTP: single NAL units and FU-A (RFC 6184 §5.6, §5.8).
type packetiser struct {
	send func(packet []byte)
	ssrc uint32
	seq  uint16
	out  []byte
	// encrypts makes nonsense of the pictures, as a maker's own encryption does to everybody without its key.
	encrypts bool
}

const maxPayload = 1400

func (p *packetiser) frame(f scene.Frame, stamp uint32) {
	for i, nal := range f.NALs {
		if p.encrypts {
			nal = bytes.Clone(nal)
			for j := 1; j < len(nal); j++ {
				nal[j] ^= byte(j*7 + 90)
			}
		}
		last := i == len(f.NALs)-1
		if len(nal) <= maxPayload {
			p.packet(96, stamp, last, nil, nal)
			continue
		}
		head, rest := nal[0], nal[1:]
		for first := true; len(rest) > 0; first = false {
			n := min(len(rest), maxPayload-2)
			fu := []byte{head&0xe0 | 28, head & 0x1f}
			if first {
				fu[1] |= 0x80
			}
			if n == len(rest) {
				fu[1] |= 0x40
			}
			p.packet(96, stamp, last && n == len(rest), fu, rest[:n])
			rest = rest[n:]
		}
	}
}

func (p *packetiser) packet(payloadType byte, stamp uint32, marker bool, head, body []byte) {
	if marker {
		payloadType |= 0x80
	}
	p.out = append(p.out[:0], 0x80, payloadType)
	p.out = binary.BigEndian.AppendUint16(p.out, p.seq)
	p.out = binary.BigEndian.AppendUint32(p.out, stamp)
	p.out = binary.BigEndian.AppendUint32(p.out, p.ssrc)
	p.out = append(append(p.out, head...), body...)
	p.seq++
	p.send(p.out)
}

// toneSender writes a quiet 440 Hz tone as G.711 µ-law, 20 ms a packet (RFC 3551 §4.5.14).
type toneSender struct {
	packetiser
	began time.Time
	sent  int64
}

// due sends what the time since the beginning asks for.
func (t *toneSender) due() {
	for want := int64(time.Since(t.began) / (20 * time.Millisecond)); t.sent < want; t.sent++ {
		body := make([]byte, 160)
		for i := range body {
			body[i] = muLaw(int(1200 * math.Sin(2*math.Pi*440*float64(t.sent*160+int64(i))/8000)))
		}
		t.packet(0, uint32(t.sent*160), t.sent == 0, nil, body)
	}
}

// muLaw codes one 16-bit sample (ITU-T G.711).
func muLaw(s int) byte {
	sign := byte(0)
	if s < 0 {
		s, sign = -s, 0x80
	}
	s = min(s, 32635) + 132
	exp := byte(7)
	for mask := 0x4000; s&mask == 0 && exp > 0; mask >>= 1 {
		exp--
	}
	return ^(sign | exp<<4 | byte(s>>(exp+3))&0x0f)
}
