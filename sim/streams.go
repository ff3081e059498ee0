package sim

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"unlatch/core/httpauth"
	"unlatch/core/rtsp"
	"unlatch/core/streamurl"
	"unlatch/sim/scene"
)

// A streamServer is the RTSP side of one camera: live streams that every viewer joins where they are.
type streamServer struct {
	d  *device
	l  net.Listener
	mu sync.Mutex
	// viewers counts the sessions set up; conns is what stop closes.
	viewers int
	conns   map[net.Conn]bool
	closed  bool
	wg      sync.WaitGroup
}

func newStreamServer(d *device, l net.Listener) *streamServer {
	return &streamServer{d: d, l: l, conns: map[net.Conn]bool{}}
}

func (s *streamServer) serve(ctx context.Context) error {
	for {
		c, err := s.l.Accept()
		if err != nil {
			return err
		}
		s.mu.Lock()
		if s.closed {
			s.mu.Unlock()
			c.Close()
			continue
		}
		s.conns[c] = true
		s.wg.Add(1)
		s.mu.Unlock()
		go func() {
			defer s.wg.Done()
			v := &viewer{s: s, conn: c, nonce: randomHex(), nonced: time.Now(), session: randomHex()[:12], channels: map[int]byte{}, sockets: map[int]*net.UDPConn{}}
			v.run(ctx)
			c.Close()
			s.mu.Lock()
			delete(s.conns, c)
			s.mu.Unlock()
		}()
	}
}

func (s *streamServer) stop() {
	s.l.Close()
	s.mu.Lock()
	s.closed = true
	for c := range s.conns {
		c.Close()
	}
	s.mu.Unlock()
	s.wg.Wait()
}

// admit counts a new session against the device's limit.
func (s *streamServer) admit() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if limit := s.d.Defects.Sessions; limit < 0 || limit > 0 && s.viewers >= limit {
		return false
	}
	s.viewers++
	return true
}

func (s *streamServer) leave() {
	s.mu.Lock()
	s.viewers--
	s.mu.Unlock()
}

// A viewer is one connection with at most one session.
type viewer struct {
	s        *streamServer
	conn     net.Conn
	write    sync.Mutex
	nonce    string
	nonced   time.Time
	session  string
	admitted bool
	stream   int
	channels map[int]byte         // track number to interleaved channel
	sockets  map[int]*net.UDPConn // track number to the socket that its packets go out by, where they go as datagrams
	playing  context.CancelFunc
	done     chan struct{}
}

func (v *viewer) run(ctx context.Context) {
	if v.s.d.Defects.StreamSilent {
		io.Copy(io.Discard, v.conn)
		return
	}
	defer v.halt()
	r := bufio.NewReaderSize(v.conn, 16<<10)
	for {
		v.conn.SetReadDeadline(time.Now().Add(90 * time.Second))
		if first, err := r.Peek(1); err != nil {
			return
		} else if first[0] == '$' { // the viewer's RTCP
			head, err := r.Peek(4)
			if err != nil {
				return
			}
			if _, err := r.Discard(4 + int(binary.BigEndian.Uint16(head[2:]))); err != nil {
				return
			}
			continue
		}
		q, err := rtsp.ReadRequest(r)
		if err != nil {
			v.reply(nil, 400, "Bad Request")
			return
		}
		if !v.handle(ctx, q) {
			return
		}
	}
}

// halt stops sending and gives the session back.
func (v *viewer) halt() {
	if v.playing != nil {
		v.playing()
		<-v.done
		v.playing = nil
	}
	for _, s := range v.sockets {
		s.Close()
	}
	clear(v.sockets)
	if v.admitted {
		v.admitted = false
		v.s.leave()
	}
}

func (v *viewer) reply(q *rtsp.Request, status int, reason string, fields ...rtsp.Field) {
	v.replyBody(q, status, reason, nil, fields...)
}

func (v *viewer) replyBody(q *rtsp.Request, status int, reason string, body []byte, fields ...rtsp.Field) {
	p := rtsp.Response{Status: status, Reason: reason, Body: body}
	if q != nil {
		p.Header.Add("CSeq", q.Header.Get("CSeq"))
	}
	p.Header.Add("Server", v.s.d.maker.server)
	p.Header = append(p.Header, fields...)
	v.write.Lock()
	defer v.write.Unlock()
	v.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
	v.conn.Write(p.Bytes())
}

func (v *viewer) handle(ctx context.Context, q *rtsp.Request) bool {
	if _, _, ok := v.resolve(q.URL); q.Method == "DESCRIBE" && v.s.d.Defects.PathFirst && !ok {
		v.reply(q, 404, "Not Found")
		return true
	}
	if q.Method == "DESCRIBE" && v.redirected(q) {
		return true
	}
	if q.Method != "OPTIONS" && !v.allowed(q) {
		return true
	}
	switch q.Method {
	case "OPTIONS":
		v.reply(q, 200, "OK", rtsp.Field{Name: "Public", Value: "OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN, GET_PARAMETER"})
	case "DESCRIBE":
		v.describe(q)
	case "SETUP":
		v.setup(q)
	case "PLAY":
		v.play(ctx, q)
	case "GET_PARAMETER":
		v.reply(q, 200, "OK", rtsp.Field{Name: "Session", Value: v.session})
	case "TEARDOWN":
		v.halt()
		v.reply(q, 200, "OK")
		return false
	default:
		v.reply(q, 501, "Not Implemented")
	}
	return true
}

func (v *viewer) allowed(q *rtsp.Request) bool {
	schemes, realm := v.s.d.maker.streamAuth, v.s.d.maker.name
	if len(v.s.d.accounts()) == 0 {
		return true
	}
	good := cmp.Or(v.s.d.Defects.StaleSeconds, v.s.d.maker.stale)
	stale := good > 0 && time.Since(v.nonced) > time.Duration(good)*time.Second
	old := v.nonce
	if stale {
		v.nonce, v.nonced = randomHex(), time.Now()
	}
	lines := challenges(schemes, realm, v.nonce)
	if stale && strings.Contains(q.Header.Get("Authorization"), old) {
		for i := range lines {
			lines[i] += ", stale=true"
		}
		q.Header = slices.DeleteFunc(q.Header, func(f rtsp.Field) bool { return f.Name == "Authorization" })
	}
	if given := q.Header.Get("Authorization"); given != "" {
		if a, locked := v.s.d.locked(); locked {
			if a.drop {
				v.conn.Close()
				return false
			}
			var fields []rtsp.Field
			if a.retry != "" {
				fields = append(fields, rtsp.Field{Name: "Retry-After", Value: a.retry})
			}
			v.reply(q, a.status, a.reason, fields...)
			return false
		}
		for _, c := range httpauth.ParseChallenges(lines) {
			if user, ok := httpauth.Check(given, c, q.Method, v.s.d.secret); ok && v.s.d.mayWatch(user) {
				v.s.d.judged(true)
				return true
			}
		}
		v.s.d.judged(false)
	}
	var fields []rtsp.Field
	for _, l := range lines {
		fields = append(fields, rtsp.Field{Name: "WWW-Authenticate", Value: l})
	}
	v.reply(q, 401, "Unauthorized", fields...)
	return false
}

// mayWatch reports whether the streams take a user: where they have users of their own, no administrator is one.
func (d *device) mayWatch(user string) bool {
	return !d.maker.apart || slices.ContainsFunc(d.accounts(), func(u claimed) bool { return u.Name == user && u.Level != "Administrator" })
}

// resolve finds the stream, and the track for SETUP, that a request URL names. Paths compare with their case.
func (v *viewer) resolve(target string) (stream, track int, ok bool) {
	u, err := streamurl.Parse(target)
	if err != nil {
		return 0, 0, false
	}
	path := u.Target()
	if base, n, cut := strings.Cut(path, "/track"); cut {
		if track, err = strconv.Atoi(n); err != nil || track < 1 || track > 2 {
			return 0, 0, false
		}
		path = base
	}
	path = strings.TrimSuffix(strings.TrimSuffix(path, "/"), "/moved")
	for i, f := range v.s.d.sends {
		if v.s.d.path(f) == path {
			return i, track, true
		}
	}
	return 0, track, v.s.d.Defects.AnyPath
}

func (v *viewer) describe(q *rtsp.Request) {
	i, _, ok := v.resolve(q.URL)
	if !ok {
		v.reply(q, 404, "Not Found")
		return
	}
	clip := v.s.d.sends[i].clip
	var b strings.Builder
	fmt.Fprintf(&b, "v=0\r\no=- 1 1 IN IP4 %s\r\ns=%s\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n", v.s.d.Address, v.s.d.maker.name)
	fmtp := fmt.Sprintf("a=fmtp:96 packetization-mode=1; profile-level-id=%X", clip.SPS[1:4])
	if !v.s.d.Defects.NoParameters {
		fmtp += "; sprop-parameter-sets=" + base64.StdEncoding.EncodeToString(clip.SPS) + "," + base64.StdEncoding.EncodeToString(clip.PPS)
	}
	fmt.Fprintf(&b, "%s\r\na=control:track1\r\n", fmtp)
	if v.s.d.sends[i].Audio {
		b.WriteString("m=audio 0 RTP/AVP 0\r\na=control:track2\r\n")
	}
	v.replyBody(q, 200, "OK", []byte(b.String()), rtsp.Field{Name: "Content-Type", Value: "application/sdp"}, rtsp.Field{Name: "Content-Base", Value: strings.TrimSuffix(q.URL, "/") + "/"})
}

func (v *viewer) setup(q *rtsp.Request) {
	i, track, ok := v.resolve(q.URL)
	if !ok || track == 0 {
		v.reply(q, 404, "Not Found")
		return
	}
	transport := q.Header.Get("Transport")
	if !v.takes(transport) {
		v.reply(q, 461, "Unsupported Transport")
		return
	}
	if !v.admitted {
		if v.admitted = v.s.admit(); !v.admitted {
			v.reply(q, 453, "Not Enough Bandwidth")
			return
		}
	}
	if !strings.Contains(transport, "RTP/AVP/TCP") {
		v.stream = i
		answer, err := v.openDatagrams(track, transport)
		if err != nil {
			v.reply(q, 500, "Internal Server Error")
			return
		}
		v.reply(q, 200, "OK", rtsp.Field{Name: "Session", Value: v.session + ";timeout=60"}, rtsp.Field{Name: "Transport", Value: answer})
		return
	}
	channel := byte(2 * (track - 1))
	if _, pair, ok := strings.Cut(transport, "interleaved="); ok {
		low, _, _ := strings.Cut(pair, "-")
		if n, err := strconv.ParseUint(low, 10, 8); err == nil {
			channel = byte(n)
		}
	}
	v.stream, v.channels[track] = i, channel
	v.reply(q, 200, "OK", rtsp.Field{Name: "Session", Value: v.session + ";timeout=60"},
		rtsp.Field{Name: "Transport", Value: fmt.Sprintf("RTP/AVP/TCP;unicast;interleaved=%d-%d;ssrc=%08X", channel, channel+1, track)})
}

func (v *viewer) play(ctx context.Context, q *rtsp.Request) {
	if len(v.channels)+len(v.sockets) == 0 || v.playing != nil {
		v.reply(q, 455, "Method Not Valid in This State")
		return
	}
	v.reply(q, 200, "OK", rtsp.Field{Name: "Session", Value: v.session}, rtsp.Field{Name: "Range", Value: "npt=0.000-"})
	ctx, v.playing = context.WithCancel(ctx)
	v.done = make(chan struct{})
	go func() {
		defer close(v.done)
		v.send(ctx)
	}()
}

// send joins the live stream at its next frame and sends until the session ends.
func (v *viewer) send(ctx context.Context) {
	clip := v.s.d.sends[v.stream].clip
	if len(v.sockets) > 0 {
		v.sendDatagrams(ctx, clip)
		return
	}
	video, hasVideo := v.channels[1]
	audio, hasAudio := v.channels[2]
	p := packetiser{channel: video, ssrc: 1, encrypts: v.s.d.Defects.Encrypts}
	tone := toneSender{channel: audio, began: time.Now()}
	for k := v.s.d.frameAfter(clip, time.Now()); ; k++ {
		due := time.Until(v.s.d.frameTime(clip, k))
		select {
		case <-ctx.Done():
			return
		case <-time.After(due):
		}
		p.out = p.out[:0]
		if hasVideo {
			p.frame(clip.Frames[k%int64(len(clip.Frames))], uint32(k*90000/int64(clip.FPS)))
		}
		if hasAudio {
			p.out = tone.due(p.out)
		}
		if v.s.d.Defects.StrayFrames {
			p.out = append(p.out, '$', 99, 0, 3, 1, 2, 3)
		}
		v.write.Lock()
		v.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
		_, err := v.conn.Write(p.out)
		v.write.Unlock()
		if err != nil {
			return
		}
	}
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

// packetiser writes H.264 frames as interleaved RTP: single NAL units and FU-A (RFC 6184 §5.6, §5.8).
type packetiser struct {
	channel byte
	ssrc    uint32
	seq     uint16
	out     []byte
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
	p.out = append(p.out, '$', p.channel)
	p.out = binary.BigEndian.AppendUint16(p.out, uint16(12+len(head)+len(body)))
	if marker {
		payloadType |= 0x80
	}
	p.out = append(p.out, 0x80, payloadType)
	p.out = binary.BigEndian.AppendUint16(p.out, p.seq)
	p.out = binary.BigEndian.AppendUint32(p.out, stamp)
	p.out = binary.BigEndian.AppendUint32(p.out, p.ssrc)
	p.out = append(append(p.out, head...), body...)
	p.seq++
}

// toneSender writes a quiet 440 Hz tone as G.711 µ-law, 20 ms a packet (RFC 3551 §4.5.14).
type toneSender struct {
	channel byte
	began   time.Time
	p       packetiser
	sent    int64
}

func (t *toneSender) due(out []byte) []byte {
	t.p.channel, t.p.ssrc, t.p.out = t.channel, 2, out
	for want := int64(time.Since(t.began) / (20 * time.Millisecond)); t.sent < want; t.sent++ {
		body := make([]byte, 160)
		for i := range body {
			body[i] = muLaw(int(1200 * math.Sin(2*math.Pi*440*float64(t.sent*160+int64(i))/8000)))
		}
		t.p.packet(0, uint32(t.sent*160), t.sent == 0, nil, body)
	}
	return t.p.out
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
