package sim

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/rtsp"
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
	if h.d.refusesReplay(v, q) {
		return true
	}
	if q.Method == "SETUP" && h.d.Defects.DropsTracks && !strings.Contains(q.URL, "/track1") {
		v.Drop()
		return true
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
	lines := challenges(d.streamSchemes(), d.maker.name, n.value)
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
		if track, err = strconv.Atoi(n); err != nil || track < 1 || track > 3 {
			return nil, 0, false
		}
		path = base
	}
	path = strings.TrimSuffix(strings.TrimSuffix(path, "/"), "/moved")
	for _, f := range h.d.sending() {
		if f.there() && h.d.path(f) == path {
			return liveStream{d: h.d, f: f}, track, true
		}
	}
	if s, ok := h.d.replays(path); ok {
		return s, track, true
	}
	if h.d.Defects.AnyPath && len(h.d.sending()) > 0 {
		return liveStream{d: h.d, f: h.d.sending()[0]}, track, true
	}
	return nil, 0, false
}

// A liveStream is one stream of a device as its viewers get it.
type liveStream struct {
	d *device
	f feed
	// replayed says that a recorder plays it as its recording.
	replayed bool
}

// SDP describes the stream (RFC 8866; RFC 6184 §8.2, RFC 7798 §7.2, RFC 2435 §4, RFC 6416 §7).
func (l liveStream) SDP() string {
	var b strings.Builder
	fmt.Fprintf(&b, "v=0\r\no=- 1 1 IN IP4 %s\r\ns=%s\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\n", l.d.Address, l.d.maker.name)
	b.WriteString(l.video() + "a=control:track1\r\n")
	if l.f.Audio != "" {
		b.WriteString(sounds[l.f.Audio]().sdp + "a=control:track2\r\n")
	}
	if l.f.Metadata {
		b.WriteString("m=application 0 RTP/AVP 107\r\na=rtpmap:107 vnd.onvif.metadata/90000\r\na=control:track3\r\n")
	}
	return b.String()
}

// video returns the media section of the picture.
func (l liveStream) video() string {
	clip, b64 := l.f.clip, base64.StdEncoding.EncodeToString
	known := !l.d.Defects.NoParameters
	section := "m=video 0 RTP/AVP 96\r\na=rtpmap:96 %s/90000\r\na=fmtp:96 %s\r\n"
	switch clip.Codec {
	case scene.H265:
		params := "profile-id=1"
		if known {
			params = fmt.Sprintf("sprop-vps=%s; sprop-sps=%s; sprop-pps=%s", b64(clip.VPS), b64(clip.SPS), b64(clip.PPS))
		}
		return fmt.Sprintf(section, "H265", params)
	case scene.JPEG:
		return "m=video 0 RTP/AVP 26\r\n"
	case scene.MPEG4:
		params := "profile-level-id=1"
		if known {
			params += fmt.Sprintf("; config=%X", clip.Config)
		}
		return fmt.Sprintf(section, "MP4V-ES", params)
	}
	params := fmt.Sprintf("packetization-mode=1; profile-level-id=%X", clip.SPS[1:4])
	if known {
		params += "; sprop-parameter-sets=" + b64(clip.SPS) + "," + b64(clip.PPS)
	}
	return fmt.Sprintf(section, "H264", params)
}

// frame returns the frame k of the stream, counted from the device's start.
func (l liveStream) frame(k int64) (*scene.Clip, scene.Frame) {
	clip, n := l.f.clip, int64(len(l.f.clip.Frames))
	if now := l.d.shows(l.f); now != nil && len(now.Frames) == len(clip.Frames) {
		clip = now
	}
	if l.f.other != nil && k/n%2 == 1 {
		clip = l.f.other
	}
	return clip, clip.Frames[k%n]
}

// shows returns what a running stream shows by now, where the device has drawn another text into it or looks elsewhere; nil where it was
// set otherwise besides, of which only who asks for it anew has something.
func (d *device) shows(f feed) *scene.Clip {
	for _, now := range d.sending() {
		if now.channel != f.channel || now.tier != f.tier || now.clip == nil {
			continue
		}
		was := f.clip.Format
		was.Caption, was.Pan, was.Obstacle, was.Scene = now.clip.Caption, now.clip.Pan, now.clip.Obstacle, now.clip.Scene
		if was == now.clip.Format {
			return now.clip
		}
	}
	return nil
}

// reportEvery is how often sender reports go out.
const reportEvery = 2 * time.Second

// Send joins the live stream at its next frame and sends until the session ends.
func (l liveStream) Send(ctx context.Context, to *rtsp.Sink) {
	clip, now := l.f.clip, time.Now()
	video := packetiser{send: func(packet []byte) {
		if l.replayed {
			packet = l.d.stampRecorded(recorded{time.Now(), packet})
		}
		to.RTP(1, packet)
	}, ssrc: 1, encrypts: l.d.encrypts(), drops: l.d.Defects.Drops}
	var sound *soundSender
	if l.f.Audio != "" {
		sound = &soundSender{sound: sounds[l.f.Audio](), began: now, packetiser: packetiser{send: func(packet []byte) {
			to.RTP(2, packet)
		}, ssrc: 2}}
	}
	metadata := packetiser{send: func(packet []byte) { to.RTP(3, packet) }, ssrc: 3}
	if to.ToGroup() && (l.d.castTo(l.f) || l.f.Cast != nil && l.f.Cast.Defect == "silent") {
		<-ctx.Done() // the group has it already, or loses it
		return
	}
	var reported time.Time
	keys := 0
	for k := l.d.frameAfter(clip, now); ; k++ {
		if n := l.d.Defects.StopsAfter; n > 0 && keys >= n {
			<-ctx.Done()
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(l.d.frameTime(clip, k))):
		}
		stamp := uint32(k * 90000 / int64(clip.FPS))
		if now := time.Now(); now.Sub(reported) >= reportEvery {
			to.RTCP(1, senderReport(video.ssrc, l.d.clock(), stamp))
			reported = now
			if l.f.Metadata && to.Wants(3) {
				metadata.packet(107, stamp, true, nil, []byte(metadataDocument))
			}
		}
		if to.Wants(1) {
			showing, frame := l.frame(k)
			video.frame(showing, frame, stamp)
			if frame.Key {
				keys++
			}
		}
		if sound != nil && to.Wants(2) {
			sound.due()
		}
		if l.d.Defects.StrayFrames {
			to.Interleave(99, []byte{1, 2, 3})
		}
		if to.Flush() != nil {
			return
		}
	}
}

// metadataDocument is what a stand-in tells of its picture, again and again.
const metadataDocument = `<tt:MetadataStream xmlns:tt="http://www.onvif.org/ver10/schema"><tt:VideoAnalytics>` +
	`<tt:Frame UtcTime="2026-03-14T09:26:53Z"/>` +
	`</tt:VideoAnalytics><tt:Event/></tt:MetadataStream>`

// takes reports whether the device sends over the transport that a SETUP asks for.
func (d *device) takes(transport string) bool {
	tcp, group := strings.Contains(transport, "RTP/AVP/TCP"), strings.Contains(transport, "multicast")
	switch d.Defects.Transport {
	case "udp":
		return !tcp && !group
	case "multicast":
		return group
	}
	return !group || d.casts()
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

// group returns the multicast group of a track: that which the stream is set to, else one of the device's own, in the block for local use
// (RFC 2365).
func (d *device) group(s rtsp.Stream, track int) (*net.UDPAddr, int) {
	if l, ok := s.(liveStream); ok && l.f.Cast != nil && l.f.Cast.Defect != "elsewhere" {
		return &net.UDPAddr{IP: l.f.Cast.Group.AsSlice(), Port: l.f.Cast.Port + 2*(track-1)}, l.f.Cast.TTL
	}
	a := d.Address.As4()
	return &net.UDPAddr{IP: net.IPv4(239, 255, a[2], a[3]), Port: groupPort + 2*(track-1)}, 1
}

// frameTime returns when frame k of a clip is live; frameAfter the number of the first frame live after t.
func (d *device) frameTime(c *scene.Clip, k int64) time.Time {
	return d.epoch.Add(time.Duration(k) * time.Second / time.Duration(c.FPS))
}

func (d *device) frameAfter(c *scene.Clip, t time.Time) int64 {
	return int64(t.Sub(d.epoch))*int64(c.FPS)/int64(time.Second) + 1
}

// NextKeyframe returns when the next key frame of a stream, counted from 0, goes out after t.
func (l Look) NextKeyframe(stream int, t time.Time) time.Time {
	c := l.d.sending()[stream].clip
	k := l.d.frameAfter(c, t)
	for !c.Frames[k%int64(len(c.Frames))].Key {
		k++
	}
	return l.d.frameTime(c, k)
}
