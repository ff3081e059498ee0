package transport

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"slices"
	"syscall"
	"time"

	"unlatch/sim/scene"
)

// Options are what is sent, from where and to where.
type Options struct {
	Clip  *scene.Clip
	From  netip.Addr     // the encoder's own address
	To    netip.AddrPort // a group, or somebody's address
	RTP   bool           // within RTP (RFC 2250 §2)
	Sound [][]byte       // frames of AAC in ADTS at 16 kHz; none for a stream without sound
	// Defect is what is wrong: "" nothing, "loses" one datagram of twenty, "scrambled" pictures, "no_tables", "mpeg2" for a picture of a
	// codec that is not read, "timed" for packets of 192 bytes with a time before each, "parity" for packets of 204, "two_programs",
	// "wrong_pids" for tables that name PIDs on which nothing comes, "alternates" for datagrams within RTP and without in turn.
	Defect string
	// Key is told when a key frame has gone out; nil for nobody.
	Key func(at time.Time)
}

// Bytes returns a clip as a transport stream, so many times over: what Send would send.
func Bytes(c *scene.Clip, times int) []byte {
	m := newMuxer(Options{Clip: c})
	for k := range len(c.Frames) * times {
		f := c.Frames[k%len(c.Frames)]
		if f.Key {
			m.tables()
		}
		m.frame(f, uint64(k)*90000/uint64(c.FPS)+90000)
	}
	return m.take()
}

// mostDatagram is how many transport packets go into one datagram: what an Ethernet frame takes.
const mostDatagram = 7

// Dial opens a socket that sends from an address, to a group on that address's own interface and no further.
func Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	d := net.Dialer{LocalAddr: &net.UDPAddr{IP: from.AsSlice()}, Control: func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) {
			syscall.SetsockoptInet4Addr(int(fd), syscall.IPPROTO_IP, syscall.IP_MULTICAST_IF, from.As4())
			syscall.SetsockoptInt(int(fd), syscall.IPPROTO_IP, syscall.IP_MULTICAST_TTL, 1)
		})
	}}
	return d.DialContext(ctx, "udp4", to.String())
}

// Send sends until ctx ends.
func Send(ctx context.Context, o Options) error {
	conn, err := Dial(ctx, o.From, o.To)
	if err != nil {
		return err
	}
	defer conn.Close()
	s := sender{conn: conn, o: o}
	m := newMuxer(o)
	began := time.Now()
	sounded := 0
	for k := int64(0); ; k++ {
		at := time.Duration(k) * time.Second / time.Duration(o.Clip.FPS)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Until(began.Add(at))):
		}
		f := o.Clip.Frames[k%int64(len(o.Clip.Frames))]
		if (f.Key || k == 0) && o.Defect != "no_tables" {
			m.tables()
		}
		pts := uint64(at.Milliseconds()*90 + 90000)
		m.frame(f, pts)
		for ; len(o.Sound) > 0 && time.Duration(sounded)*64*time.Millisecond <= at; sounded++ {
			m.unit(audioPID, 0xc0, o.Sound[sounded%len(o.Sound)], uint64(sounded)*5760+90000, false)
		}
		if err := s.send(m.take()); err != nil {
			return err
		}
		if f.Key && o.Key != nil {
			o.Key(time.Now())
		}
	}
}

type sender struct {
	conn net.Conn
	o    Options
	seq  uint16
	n    int
}

// send cuts transport packets into datagrams.
func (s *sender) send(b []byte) error {
	if s.o.Defect == "mpeg2" {
		retype(b)
	}
	for len(b) > 0 {
		n := min(len(b), mostDatagram*packetSize)
		datagram := b[:n]
		b = b[n:]
		datagram = reframed(datagram, s.o.Defect)
		if s.o.RTP || s.o.Defect == "alternates" && s.n%2 == 1 {
			head := []byte{0x80, 33}
			head = binary.BigEndian.AppendUint16(head, s.seq)
			head = binary.BigEndian.AppendUint32(head, uint32(s.n*3000))
			datagram = append(append(head, 0, 0, 0, 7), datagram...)
			s.seq++
		}
		if s.n++; s.o.Defect == "loses" && s.n%20 == 19 {
			continue
		}
		if _, err := s.conn.Write(datagram); err != nil && !isRefused(err) {
			return err
		}
	}
	return nil
}

// reframed puts something before or behind each packet.
func reframed(b []byte, defect string) (out []byte) {
	if defect != "timed" && defect != "parity" {
		return b
	}
	for packet := range slices.Chunk(b, packetSize) {
		if defect == "timed" {
			out = append(append(out, 0x47, 0, 0, 1), packet...)
		} else {
			out = append(append(out, packet...), make([]byte, 16)...)
		}
	}
	return out
}

// isRefused reports whether nobody listens at an address that is sent to, which is no matter of the sender's.
func isRefused(err error) bool {
	return errors.Is(err, syscall.ECONNREFUSED)
}

// retype has the PMT name MPEG-2 video.
func retype(b []byte) {
	for ; len(b) >= packetSize; b = b[packetSize:] {
		if p := b[:packetSize]; binary.BigEndian.Uint16(p[1:])&0x1fff == pmtPID {
			section := p[5:]
			section[12] = 0x02
			n := 3 + int(section[2]) - 4
			binary.BigEndian.PutUint32(section[n:], crc(section[:n]))
		}
	}
}
