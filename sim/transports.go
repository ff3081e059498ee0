package sim

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/ipv4"

	"unlatch/core/rtsp"
	"unlatch/sim/scene"
)

// takes reports whether the device sends over the transport that a SETUP asks for.
func (v *viewer) takes(transport string) bool {
	tcp, group := strings.Contains(transport, "RTP/AVP/TCP"), strings.Contains(transport, "multicast")
	switch v.s.d.Defects.Transport {
	case "udp":
		return !tcp && !group
	case "multicast":
		return group
	}
	return !group
}

// redirected sends a DESCRIBE elsewhere, as a device does whose streams have moved.
func (v *viewer) redirected(q *rtsp.Request) bool {
	d := v.s.d
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
	v.reply(q, 302, "Moved Temporarily", rtsp.Field{Name: "Location", Value: to})
	return true
}

// groupOf is the multicast group of a device: one of its own, in the block for local use (RFC 2365).
func (d *device) groupOf() net.IP {
	a := d.Address.As4()
	return net.IPv4(239, 255, a[2], a[3])
}

const groupPort = 52000

// openDatagrams opens the socket of a track and returns the Transport line of the answer.
func (v *viewer) openDatagrams(track int, transport string) (string, error) {
	own := v.s.d.Address.AsSlice()
	to := &net.UDPAddr{IP: v.s.d.groupOf(), Port: groupPort + 2*(track-1)}
	answer := fmt.Sprintf("RTP/AVP;multicast;destination=%s;port=%d-%d;ttl=1", to.IP, to.Port, to.Port+1)
	if !strings.Contains(transport, "multicast") {
		_, ports, _ := strings.Cut(transport, "client_port=")
		low, _, _ := strings.Cut(ports, "-")
		port, err := strconv.ParseUint(low, 10, 16)
		if err != nil {
			return "", err
		}
		remote := v.conn.RemoteAddr().(*net.TCPAddr)
		to = &net.UDPAddr{IP: remote.IP, Port: int(port)}
	}
	socket, err := net.DialUDP("udp4", &net.UDPAddr{IP: own}, to)
	if err != nil {
		return "", err
	}
	if to.IP.IsMulticast() {
		for _, card := range loopbacks() {
			p := ipv4.NewPacketConn(socket)
			if err := p.SetMulticastInterface(&card); err != nil {
				return "", err
			}
			p.SetMulticastLoopback(true)
		}
	} else {
		from := socket.LocalAddr().(*net.UDPAddr).Port
		answer = fmt.Sprintf("%s;server_port=%d-%d;ssrc=%08X", transport, from, from+1, track)
	}
	if old := v.sockets[track]; old != nil {
		old.Close()
	}
	v.sockets[track] = socket
	return answer, nil
}

func loopbacks() (out []net.Interface) {
	all, _ := net.Interfaces()
	for _, i := range all {
		if i.Flags&net.FlagLoopback != 0 {
			out = append(out, i)
		}
	}
	return out
}

// sendDatagrams is send for a session by datagrams: the same packets, without the frames of RFC 2326 §10.12 around them.
func (v *viewer) sendDatagrams(ctx context.Context, clip *scene.Clip) {
	video, audio := v.sockets[1], v.sockets[2]
	p, tone := packetiser{ssrc: 1}, toneSender{began: time.Now()}
	for k := v.s.d.frameAfter(clip, time.Now()); ; k++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(v.s.d.frameTime(clip, k))):
		}
		if video != nil {
			p.out = p.out[:0]
			p.frame(clip.Frames[k%int64(len(clip.Frames))], uint32(k*90000/int64(clip.FPS)))
			eachPacket(p.out, video)
		}
		if audio != nil {
			eachPacket(tone.due(nil), audio)
		}
	}
}

// eachPacket sends interleaved packets one by one.
func eachPacket(frames []byte, to *net.UDPConn) {
	for len(frames) >= 4 {
		n := 4 + int(binary.BigEndian.Uint16(frames[2:]))
		to.Write(frames[4:n])
		frames = frames[n:]
	}
}

// A tunnelServer carries RTSP within HTTP: it hands the two halves of each session to a stream server as one connection.
type tunnelServer struct{ d *device }

type halfTunnel struct {
	net.Conn // of the GET
	in       *io.PipeReader
	feed     *io.PipeWriter
}

func (h *halfTunnel) Read(b []byte) (int, error) { return h.in.Read(b) }

func (h *halfTunnel) SetReadDeadline(time.Time) error { return nil }

func (h *halfTunnel) Close() error {
	h.feed.Close()
	return h.Conn.Close()
}

// tunnels are the halves that wait for their other, of all paths of all devices, by their cookie.
var tunnels = struct {
	sync.Mutex
	by map[string]*halfTunnel
}{by: map[string]*halfTunnel{}}

func (t *tunnelServer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	cookie := r.Header.Get("x-sessioncookie")
	if cookie == "" {
		http.NotFound(w, r)
		return
	}
	if r.Method == http.MethodPost {
		tunnels.Lock()
		half := tunnels.by[cookie]
		delete(tunnels.by, cookie)
		tunnels.Unlock()
		conn, rest, err := http.NewResponseController(w).Hijack()
		if err != nil || half == nil {
			return
		}
		defer conn.Close()
		feedTunnel(rest.Reader, half.feed)
		return
	}
	conn, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	conn.SetDeadline(time.Time{})
	io.WriteString(conn, "HTTP/1.0 200 OK\r\nServer: "+t.d.maker.server+"\r\nContent-Type: application/x-rtsp-tunnelled\r\nCache-Control: no-cache\r\n\r\n")
	half := &halfTunnel{Conn: conn}
	half.in, half.feed = io.Pipe()
	tunnels.Lock()
	tunnels.by[cookie] = half
	tunnels.Unlock()
	s := newStreamServer(t.d, nil)
	v := &viewer{s: s, conn: half, nonce: randomHex(), nonced: time.Now(), session: randomHex()[:12], channels: map[int]byte{}, sockets: map[int]*net.UDPConn{}}
	stop := context.AfterFunc(t.d.world.ctx, func() { half.Close() })
	defer stop()
	v.run(t.d.world.ctx)
	half.Close()
	tunnels.Lock()
	delete(tunnels.by, cookie)
	tunnels.Unlock()
}

// feedTunnel decodes what comes in groups of four characters, each request padded for itself.
func feedTunnel(r *bufio.Reader, to *io.PipeWriter) {
	group := make([]byte, 4)
	for {
		if _, err := io.ReadFull(r, group); err != nil {
			to.Close()
			return
		}
		var out [3]byte
		n, err := base64.StdEncoding.Decode(out[:], group)
		if err != nil {
			to.CloseWithError(err)
			return
		}
		if _, err := to.Write(out[:n]); err != nil {
			return
		}
	}
}
