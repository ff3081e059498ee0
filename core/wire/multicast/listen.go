package multicast

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/sync/errgroup"

	"unlatch/core/ground/udpfrom"
	"unlatch/core/stream/camera"
)

// A Request is what to listen to.
type Request struct {
	Group  netip.AddrPort
	Source netip.Addr // join for this source alone (RFC 4607); invalid for any
	// Toward is the device whose stream it is: the group is joined on the card that leads there.
	Toward netip.Addr
	For    time.Duration
}

// Bounds on what is listened to.
const (
	maxSenders = 64
	maxPackets = 200_000
)

// Listen joins a group and counts what comes, until the time is up. Nothing is sent but the join itself (IGMP, RFC 3376). Other programs
// may listen to the same group at once.
func Listen(ctx context.Context, q Request) (*camera.GroupHeard, error) {
	if !q.Group.Addr().Is4() || !q.Group.Addr().IsMulticast() {
		return nil, fmt.Errorf("%s is no IPv4 group", q.Group)
	}
	h := &camera.GroupHeard{Group: q.Group, Source: q.Source}
	card := cardToward(q.Toward)
	if card != nil {
		h.Interface = card.Name
	}
	sockets, err := q.sockets(ctx, card)
	defer func() {
		for _, s := range sockets {
			s.Close()
		}
	}()
	if err != nil {
		return nil, err
	}
	began := time.Now()
	count := counter{device: q.Toward, from: map[netip.AddrPort]*source{}}
	group, within := errgroup.WithContext(ctx)
	for i, s := range sockets {
		// The end comes first: a context that has ended already brings it forward, and nothing may put it back.
		s.SetReadDeadline(began.Add(q.For))
		stop := context.AfterFunc(within, func() { s.SetReadDeadline(time.Now()) })
		defer stop()
		most := maxPackets
		if i == 0 && len(sockets) > 1 {
			most = math.MaxInt // the device's own: the time is its bound
		}
		group.Go(func() error { return count.read(s, q.Group.Addr(), most) })
	}
	if err := group.Wait(); err != nil && ctx.Err() == nil {
		return nil, err
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	took := time.Since(began)
	h.ForMS = int(took.Milliseconds())
	h.Senders = count.sum(took)
	return h, nil
}

// sockets returns the sockets to listen on: one for what the device sends and one for everybody else, so that whoever floods the group
// cannot crowd the device out. If the device is not known there is one for all.
func (q Request) sockets(ctx context.Context, card *net.Interface) (out []joinedGroup, err error) {
	sorts := []func(*net.UDPConn) error{nil}
	if q.Toward.Is4() {
		sorts = []func(*net.UDPConn) error{
			func(c *net.UDPConn) error { return udpfrom.Only(c, q.Toward) },
			func(c *net.UDPConn) error { return udpfrom.Except(c, q.Toward) },
		}
	}
	for _, sort := range sorts {
		s, err := q.join(ctx, card)
		if err != nil {
			return out, err
		}
		out = append(out, s)
		if sort != nil {
			if err := sort(s.UDPConn); err != nil { // the system cannot: one socket hears all
				return out[:1], nil
			}
		}
	}
	return out, nil
}

// A joinedGroup is a socket that has joinedGroup a group, with what tells where its datagrams went and with which TTL.
type joinedGroup struct {
	*net.UDPConn
	told *ipv4.PacketConn
}

// join opens a socket on the port of the group and joins it. Other programs may listen to the same group at once.
func (q Request) join(ctx context.Context, card *net.Interface) (joinedGroup, error) {
	lc := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) (err error) {
		cerr := c.Control(func(fd uintptr) { err = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_REUSEADDR, 1) })
		return errors.Join(cerr, err)
	}}
	opened, err := lc.ListenPacket(ctx, "udp4", fmt.Sprintf("0.0.0.0:%d", q.Group.Port()))
	if err != nil {
		return joinedGroup{}, fmt.Errorf("listening on port %d: %w", q.Group.Port(), err)
	}
	socket := opened.(*net.UDPConn)
	socket.SetReadBuffer(1 << 20)
	conn := ipv4.NewPacketConn(socket)
	group := &net.UDPAddr{IP: q.Group.Addr().AsSlice()}
	if q.Source.IsValid() {
		err = conn.JoinSourceSpecificGroup(card, group, &net.UDPAddr{IP: q.Source.AsSlice()})
	} else {
		err = conn.JoinGroup(card, group)
	}
	if err == nil {
		err = conn.SetControlMessage(ipv4.FlagTTL|ipv4.FlagDst, true)
	}
	if err != nil {
		socket.Close()
		return joinedGroup{}, fmt.Errorf("joining %s: %w", q.Group.Addr(), err)
	}
	return joinedGroup{socket, conn}, nil
}

// read counts what comes on a socket until its deadline, and no more packets than most.
func (c *counter) read(socket joinedGroup, group netip.Addr, most int) error {
	buffer := make([]byte, 64<<10)
	for n := 0; n < most; n++ {
		size, control, from, err := socket.told.ReadFrom(buffer)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			return nil
		}
		if err != nil {
			return err
		}
		// A socket of a port hears all groups that somebody on this machine has joined there.
		if control != nil && control.Dst != nil && !control.Dst.Equal(group.AsSlice()) {
			continue
		}
		at, ok := from.(*net.UDPAddr)
		if !ok {
			continue
		}
		ttl := 0
		if control != nil {
			ttl = control.TTL
		}
		c.packet(at.AddrPort(), ttl, buffer[:size])
	}
	return nil
}

// counter keeps what came, by sender. It is safe for concurrent use.
type counter struct {
	device netip.Addr // whose packets are counted however many others send
	mu     sync.Mutex
	from   map[netip.AddrPort]*source
}

type source struct {
	camera.GroupSender
	bytes      int
	seq        uint16
	any        bool
	rtp, ts    int
	h264, h265 int // packets whose payloads begin as that codec's
	jpeg, tsin int // by payload type
}

func (c *counter) packet(from netip.AddrPort, ttl int, b []byte) {
	from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.from[from]
	if s == nil {
		if len(c.from) >= maxSenders && (from.Addr() != c.device || len(c.from) >= 2*maxSenders) {
			return
		}
		s = &source{GroupSender: camera.GroupSender{From: from}}
		c.from[from] = s
	}
	s.Packets++
	s.bytes += len(b)
	s.TTL = ttl
	switch {
	case len(b) >= 188 && len(b)%188 == 0 && b[0] == 0x47: // ISO/IEC 13818-1 §2.4.3.2
		s.ts++
	case len(b) > 14 && b[0]>>6 == 2:
		s.rtp++
		seq := binary.BigEndian.Uint16(b[2:])
		if gap := seq - s.seq - 1; s.any && gap > 0 && gap < 1000 {
			s.Lost += int(gap)
		}
		s.seq, s.any = seq, true
		s.payload(b)
	}
}

// payload guesses the codec: a bare group has no description that would name it.
func (s *source) payload(b []byte) {
	head := 12 + 4*int(b[0]&0x0f)
	if len(b) < head+2 {
		return
	}
	p := b[head:]
	switch b[1] & 0x7f {
	case 26: // RFC 3551 §6
		s.jpeg++
		return
	case 33:
		s.tsin++
		return
	}
	// An H.265 header has layer 0 and temporal ID 1 in all but exotic streams (RFC 7798 §1.1.4).
	if p[0]&0x81 == 0 && p[1] == 1 {
		s.h265++
	}
	if kind := p[0] & 0x1f; p[0]&0x80 == 0 && (kind >= 1 && kind <= 9 || kind == 24 || kind == 28) { // RFC 6184 §5.2
		s.h264++
	}
}

func (s *source) kind() string {
	most := s.Packets * 9 / 10
	switch {
	case s.ts > 0 && s.ts >= most:
		return "MPEG-TS"
	case s.jpeg > 0 && s.jpeg >= most:
		return "MJPEG in RTP"
	case s.tsin > 0 && s.tsin >= most:
		return "MPEG-TS in RTP"
	case s.h265 > 0 && s.h265 >= most:
		return "H.265 in RTP"
	case s.h264 > 0 && s.h264 >= most:
		return "H.264 in RTP"
	case s.rtp >= most && s.rtp > 0:
		return "RTP"
	}
	return "something else"
}

func (c *counter) sum(took time.Duration) []camera.GroupSender {
	out := []camera.GroupSender{}
	for _, s := range c.from {
		s.Kind = s.kind()
		if seconds := took.Seconds(); seconds > 0 {
			s.Kbps = math.Round(float64(s.bytes)*8/seconds/100) / 10
		}
		out = append(out, s.GroupSender)
	}
	slices.SortFunc(out, func(a, b camera.GroupSender) int {
		if a.Packets != b.Packets {
			return b.Packets - a.Packets
		}
		return a.From.Compare(b.From)
	})
	return out
}

// cardToward returns the network card whose subnet a device is in; nil for the one that the system chooses.
func cardToward(to netip.Addr) *net.Interface {
	all, _ := net.Interfaces()
	for i := range all {
		addrs, _ := all[i].Addrs()
		for _, a := range addrs {
			if p, err := netip.ParsePrefix(a.String()); err == nil && p.Contains(to) {
				return &all[i]
			}
		}
	}
	return nil
}
