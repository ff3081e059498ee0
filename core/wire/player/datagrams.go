package player

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/mpegts"
	"unlatch/core/wire/rtsp"
)

// How a transport stream comes.
const (
	TransportStream     rtsp.Transport = "mpeg-ts"          // in datagrams as they are
	TransportStreamRTP  rtsp.Transport = "mpeg-ts over rtp" // RFC 2250 §2
	payloadOfTransports                = 33                 // RFC 3551 §6
)

// A checker knows whose datagrams are listened to; an *address.Guard is one.
type checker interface{ Check(netip.Addr) error }

// datagrams is a transport stream that somebody sends to a group or to this machine. Nothing is sent but the joining of the group (IGMP,
// RFC 3376).
type datagrams struct {
	*carriage
	at           string // where it is listened
	conn         *ipv4.PacketConn
	group        netip.Addr // the unspecified one where the stream comes to this machine
	from         netip.Addr // whose datagrams alone are taken; invalid for anybody's that may be listened to
	check        checker
	buffer       []byte
	others       int          // datagrams of those who may be listened to that hold no transport stream
	also         []netip.Addr // others that send a transport stream to the same place: the first is listened to
	bare, within bool         // how the transport packets have come: as they are, within RTP
}

// openDatagrams listens at the address of a udp or rtp URL until the tables of a transport stream have come and its picture's first unit.
func openDatagrams(ctx context.Context, req Request) (s *Session, err error) {
	s = &Session{Transport: TransportStream, Auth: "none"}
	d := &datagrams{carriage: newCarriage(s, req), at: req.URL.String(), buffer: make([]byte, 64<<10)}
	d.source = d
	d.check, _ = req.Dial.(checker)
	if err := d.listen(ctx, req.URL); err != nil {
		return s, err
	}
	req.Log.Note("listening at %s", req.URL)
	if err := d.await(ctx); err != nil {
		m := d.demux.Measured()
		req.Log.Note("%d transport packets, %d scrambled, %d that cannot be read", m.Packets, m.Scrambled, m.Malformed)
		d.conn.Close()
		return s, err
	}
	s.carriage = d.carriage
	req.Step("connect")
	req.Step("play")
	return s, nil
}

func (d *datagrams) came() int { return d.demux.Packets() }

func (d *datagrams) close() error { return d.conn.Close() }

func (d *datagrams) none() error {
	m := d.demux.Measured()
	_, tables := d.demux.Streams()
	return &NoTransportError{At: d.at, After: d.timeout, Packets: m.Packets, Scrambled: m.Scrambled, Tables: tables, Others: d.others}
}

// listen opens the socket and joins the group, on every interface that lets it: which one leads to the sender is not known.
func (d *datagrams) listen(ctx context.Context, u streamurl.URL) error {
	at, err := netip.ParseAddrPort(u.HostPort())
	if err != nil || !at.Addr().Is4() {
		return &streamurl.SyntaxError{Problem: "its address is no IPv4 address in numbers", Fix: "write it like udp://@239.1.2.4:20000"}
	}
	if u.Source != "" {
		if d.from, err = netip.ParseAddr(u.Source); err != nil {
			return &streamurl.SyntaxError{Problem: "its sender is no address in numbers", Fix: "write it like udp://192.0.2.7@239.1.2.4:20000"}
		}
	}
	lc := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) (err error) {
		cerr := c.Control(func(fd uintptr) { err = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_REUSEADDR, 1) })
		return errors.Join(cerr, err)
	}}
	host := at.Addr()
	if host.IsMulticast() {
		d.group, host = host, netip.IPv4Unspecified()
	}
	opened, err := lc.ListenPacket(ctx, "udp4", netip.AddrPortFrom(host, at.Port()).String())
	if err != nil {
		return fmt.Errorf("listening at %s: %w", at, err)
	}
	socket := opened.(*net.UDPConn)
	socket.SetReadBuffer(4 << 20) // a key frame of a megabyte comes at once
	d.conn = ipv4.NewPacketConn(socket)
	if d.group.IsValid() {
		err = d.join()
	}
	if err == nil {
		err = d.conn.SetControlMessage(ipv4.FlagDst, true)
	}
	if err != nil {
		socket.Close()
	}
	return err
}

func (d *datagrams) join() error {
	cards, err := net.Interfaces()
	if err != nil {
		return err
	}
	group := &net.UDPAddr{IP: d.group.AsSlice()}
	joined, first := false, error(nil)
	for i := range cards {
		if cards[i].Flags&net.FlagUp == 0 {
			continue
		}
		if d.from.IsValid() {
			err = d.conn.JoinSourceSpecificGroup(&cards[i], group, &net.UDPAddr{IP: d.from.AsSlice()})
		} else {
			err = d.conn.JoinGroup(&cards[i], group)
		}
		joined = joined || err == nil
		first = errors.Join(first, err)
	}
	if !joined {
		return fmt.Errorf("joining %s: %w", d.group, errors.Join(first, errors.New("no network interface lets it")))
	}
	return nil
}

func (d *datagrams) next(until time.Time) error {
	d.conn.SetReadDeadline(until)
	n, control, from, err := d.conn.ReadFrom(d.buffer)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return nil
	}
	if err != nil {
		return err
	}
	udp, ok := from.(*net.UDPAddr)
	if !ok {
		return nil
	}
	sender := udp.AddrPort().Addr().Unmap()
	if !d.takes(sender, control) {
		return nil
	}
	d.datagram(sender, d.buffer[:n], time.Now())
	d.choose()
	return nil
}

// takes reports whether a datagram is of the stream: sent to its group, by who may be listened to.
func (d *datagrams) takes(sender netip.Addr, control *ipv4.ControlMessage) bool {
	if d.group.IsValid() && control != nil && control.Dst != nil && !control.Dst.Equal(d.group.AsSlice()) {
		return false // a socket of a port hears all groups that somebody on this machine has joined there
	}
	if d.from.IsValid() {
		return sender == d.from
	}
	return d.check == nil || d.check.Check(sender) == nil
}

// mostSenders bounds the senders that are told of.
const mostSenders = 8

// datagram takes one: transport packets as they are, or behind an RTP header. Once one sender's has come, the others' are left out.
func (d *datagrams) datagram(sender netip.Addr, b []byte, at time.Time) {
	within := len(b) > 12 && b[0]>>6 == 2
	if within && b[1]&0x7f != payloadOfTransports {
		d.others++
		return
	}
	if within {
		head := 12 + 4*int(b[0]&0x0f)
		if b[0]&0x10 != 0 && len(b) >= head+4 {
			head += 4 + 4*int(binary.BigEndian.Uint16(b[head+2:]))
		}
		if head > len(b) {
			return
		}
		b = b[head:]
	}
	if d.session.From.IsValid() && sender != d.session.From {
		if len(d.also) < mostSenders && !slices.Contains(d.also, sender) {
			d.also = append(d.also, sender)
		}
		return
	}
	before := d.came()
	d.demux.Datagram(b, at)
	if d.came() == before {
		return
	}
	d.session.From, d.bare, d.within = sender, d.bare || !within, d.within || within
	if d.session.Transport = TransportStream; within {
		d.session.Transport = TransportStreamRTP
	}
}

// describeSending adds to m what the packets do not say: who sends them, and from where else they come.
func (d *datagrams) describeSending(m *mpegts.Transport) {
	m.Sender = d.session.From.String()
	m.Alternates = d.bare && d.within
	for _, a := range d.also {
		m.Also = append(m.Also, a.String())
	}
}
