package player

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/media"
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
	conn    *ipv4.PacketConn
	group   netip.Addr // the unspecified one where the stream comes to this machine
	source  netip.Addr // whose datagrams alone are taken; invalid for anybody's that may be listened to
	check   checker
	demux   mpegts.Demuxer
	buffer  []byte
	streams map[uint16]*carried
	timeout time.Duration
	each    func(Packet)
	session *Session
}

// carried is an elementary stream that is played.
type carried struct {
	elementary *media.Elementary
	kind       string
	track      int // index in Session.Tracks; -1 before it is known
}

// codecs are the elementary streams that are read, by what rtpmaps call them.
var codecs = map[mpegts.StreamType]string{mpegts.H264: "H264", mpegts.H265: "H265", mpegts.ADTS: "MPEG4-GENERIC",
	mpegts.MPEG1Audio: "MPA", mpegts.MPEG2Audio: "MPA"}

// openDatagrams listens at the address of a udp or rtp URL until the tables of a transport stream have come and its picture's first unit.
func openDatagrams(ctx context.Context, req Request) (s *Session, err error) {
	s = &Session{Transport: TransportStream, Auth: "none"}
	d := &datagrams{timeout: req.Timeout, session: s, streams: map[uint16]*carried{}, buffer: make([]byte, 64<<10)}
	if d.timeout == 0 {
		d.timeout = 5 * time.Second
	}
	d.check, _ = req.Dial.(checker)
	d.demux.Each = d.unit
	if err := d.listen(ctx, req.URL); err != nil {
		return s, err
	}
	req.Log.Note("listening at %s", req.URL)
	s.datagrams = d
	defer func() {
		if err != nil {
			d.conn.Close()
		}
	}()
	wanted := map[string]bool{}
	for _, k := range req.Kinds {
		wanted[k] = true
	}
	d.each = func(p Packet) {
		if len(s.early) < maxEarly {
			p.Payload = append([]byte(nil), p.Payload...)
			s.early = append(s.early, p)
		}
	}
	var picture time.Time // when the first unit of the picture came
	for end := time.Now().Add(d.timeout); picture.IsZero() || d.missing() && time.Since(picture) < soundWait; {
		if err := ctx.Err(); err != nil {
			return s, err
		}
		if picture.IsZero() && time.Now().After(end) {
			return s, d.silent(req)
		}
		if err := d.read(time.Now().Add(200 * time.Millisecond)); err != nil {
			return s, err
		}
		if err := d.choose(wanted); err != nil {
			return s, err
		}
		if picture.IsZero() && s.First("video") >= 0 {
			picture = time.Now()
		}
	}
	d.leaveOut()
	req.Step("connect")
	req.Step("play")
	return s, nil
}

// soundWait is how long sound is waited for that the tables name, once the picture comes.
const soundWait = time.Second

// missing reports whether a stream that is to be played has not come yet.
func (d *datagrams) missing() bool {
	for _, c := range d.streams {
		if c.track < 0 {
			return true
		}
	}
	return false
}

// leaveOut plays without what has not come.
func (d *datagrams) leaveOut() {
	maps.DeleteFunc(d.streams, func(_ uint16, c *carried) bool { return c.track < 0 })
}

// silent says that no picture came, and what came instead.
func (d *datagrams) silent(req Request) error {
	m := d.demux.Measured()
	_, tables := d.demux.Streams()
	req.Log.Note("%d transport packets, %d scrambled, %d that cannot be read", m.Packets, m.Scrambled, m.Malformed)
	return &NoTransportError{At: req.URL.String(), After: d.timeout, Packets: m.Packets, Scrambled: m.Scrambled, Tables: tables}
}

// listen opens the socket and joins the group, on every interface that lets it: which one leads to the sender is not known.
func (d *datagrams) listen(ctx context.Context, u streamurl.URL) error {
	at, err := netip.ParseAddrPort(u.HostPort())
	if err != nil || !at.Addr().Is4() {
		return &streamurl.SyntaxError{Problem: "its address is no IPv4 address in numbers", Fix: "write it like udp://@239.1.2.4:20000"}
	}
	if u.Source != "" {
		if d.source, err = netip.ParseAddr(u.Source); err != nil {
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
		if d.source.IsValid() {
			err = d.conn.JoinSourceSpecificGroup(&cards[i], group, &net.UDPAddr{IP: d.source.AsSlice()})
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

// read takes what comes until a moment, or the first datagram before it.
func (d *datagrams) read(until time.Time) error {
	d.conn.SetReadDeadline(until)
	n, control, from, err := d.conn.ReadFrom(d.buffer)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return nil
	}
	if err != nil {
		return err
	}
	sender, ok := from.(*net.UDPAddr)
	if !ok || !d.takes(sender.AddrPort().Addr().Unmap(), control) {
		return nil
	}
	d.take(d.buffer[:n], time.Now())
	return nil
}

// takes reports whether a datagram is of the stream: sent to its group, by who may be listened to.
func (d *datagrams) takes(sender netip.Addr, control *ipv4.ControlMessage) bool {
	if d.group.IsValid() && control != nil && control.Dst != nil && !control.Dst.Equal(d.group.AsSlice()) {
		return false // a socket of a port hears all groups that somebody on this machine has joined there
	}
	if d.source.IsValid() {
		return sender == d.source
	}
	return d.check == nil || d.check.Check(sender) == nil
}

// take takes one datagram: transport packets as they are, or behind an RTP header.
func (d *datagrams) take(b []byte, at time.Time) {
	if len(b) > 12 && b[0]>>6 == 2 && b[1]&0x7f == payloadOfTransports {
		d.session.Transport = TransportStreamRTP
		head := 12 + 4*int(b[0]&0x0f)
		if b[0]&0x10 != 0 && len(b) >= head+4 {
			head += 4 + 4*int(binary.BigEndian.Uint16(b[head+2:]))
		}
		if head > len(b) {
			return
		}
		b = b[head:]
	}
	d.demux.Datagram(b, at)
}

// choose sets up what of the program is played, once its tables have come: the first stream of each kind that is wanted and read.
func (d *datagrams) choose(wanted map[string]bool) error {
	streams, known := d.demux.Streams()
	if !known || len(d.streams) > 0 {
		return nil
	}
	have := map[string]bool{}
	var unread string
	for _, s := range streams {
		kind := "audio"
		if s.Type.Video() {
			kind = "video"
		}
		e, ok := media.NewElementary(codecs[s.Type])
		if !ok || have[kind] || !wanted[kind] {
			if kind == "video" && !ok {
				unread = s.Type.String()
			}
			continue
		}
		have[kind] = true
		d.streams[s.PID] = &carried{elementary: e, kind: kind, track: -1}
	}
	switch {
	case have["video"]:
		return nil
	case unread != "":
		return &UnreadError{Codec: unread}
	}
	return &NoTrackError{Kind: "video"}
}

// unit takes one unit of an elementary stream.
func (d *datagrams) unit(u mpegts.Unit) {
	c := d.streams[u.Stream.PID]
	if c == nil || c.kind != "video" && d.session.First("video") < 0 { // the picture is the first track
		return
	}
	c.elementary.Unit(u.Data, u.PTS, u.HasPTS, u.Damaged, func(b []byte) {
		if c.track < 0 {
			t, _ := c.elementary.Track()
			c.track = len(d.session.Tracks)
			d.session.Tracks = append(d.session.Tracks, Track{Track: t})
		}
		if d.each != nil {
			d.each(Packet{Track: c.track, Payload: b, At: u.At})
		}
	})
}

// run hands on packets until done reports true.
func (d *datagrams) run(ctx context.Context, each func(Packet), done func() bool) error {
	d.each = each
	heard := time.Now()
	for before := d.demux.Measured().Packets; !done(); {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := d.read(time.Now().Add(200 * time.Millisecond)); err != nil {
			return err
		}
		if n := d.demux.Measured().Packets; n != before {
			before, heard = n, time.Now()
		} else if time.Since(heard) > d.timeout {
			return &NoTransportError{At: "where it came", After: d.timeout}
		}
	}
	return nil
}
