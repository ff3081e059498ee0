package sim

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/sync/errgroup"

	"unlatch/sim/transport"
)

// A Cast is how a stream is sent to a group.
type Cast struct {
	Group netip.Addr `yaml:"group"`
	Port  int        `yaml:"port"`
	TTL   int        `yaml:"ttl"`
	Auto  bool       `yaml:"auto"` // from the start
	As    string     `yaml:"as"`   // "ts" for a transport stream in place of RTP, "ts in rtp" for one within RTP
	// Defect is "elsewhere" for one that has a group of its own for whoever asks by RTSP, "silent" for one whose packets a switch eats.
	Defect string `yaml:"defect"`
}

// configuration returns the setting in an encoder configuration; "" for a stream that is not sent to a group.
func (c *Cast) configuration() string {
	if c == nil {
		return ""
	}
	return fmt.Sprintf("<T:Multicast><T:Address><T:Type>IPv4</T:Type><T:IPv4Address>%s</T:IPv4Address></T:Address><T:Port>%d</T:Port>"+
		"<T:TTL>%d</T:TTL>"+
		"<T:AutoStart>%t</T:AutoStart></T:Multicast>", c.Group, c.Port, c.TTL, c.Auto)
}

// casting are the streams that the device sends to their groups now, by their place.
type casting struct {
	mu    sync.Mutex
	ends  map[int]context.CancelFunc
	group *errgroup.Group
	ctx   context.Context
	end   context.CancelFunc
}

func (c *casting) stop() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.end != nil {
		c.end()
	}
	for i, end := range c.ends {
		end()
		delete(c.ends, i)
	}
}

func (d *device) casts() bool {
	for _, f := range d.sending() {
		if f.Cast != nil {
			return true
		}
	}
	return false
}

// castTo reports whether a stream goes to its group now, where RTSP names the same one.
func (d *device) castTo(f feed) bool {
	if f.Cast == nil || f.Cast.Defect == "elsewhere" {
		return false
	}
	d.casting.mu.Lock()
	defer d.casting.mu.Unlock()
	for i := range d.casting.ends {
		if now := d.sending()[i]; now.channel == f.channel && now.tier == f.tier {
			return true
		}
	}
	return false
}

// castAlways begins to send what is always sent.
func (d *device) castAlways(ctx context.Context, group *errgroup.Group) {
	d.casting.ctx, d.casting.end = context.WithCancel(ctx)
	d.casting.group, d.casting.ends = group, map[int]context.CancelFunc{}
	for i, f := range d.sending() {
		if f.Cast != nil && f.Cast.Auto && (i > 0 || d.setup.of("first") != "0") {
			d.castOne(i, true)
		}
	}
	d.setup.second = nil
	if d.setup.of("second") == "1" {
		d.followSetup()
	}
}

// cast answers Start- and StopMulticastStreaming.
func (d *device) cast(profile string, on bool) (string, *fault) {
	var i int
	if _, err := fmt.Sscanf(profile, "prof_%d", &i); err != nil || i < 0 || i >= len(d.sending()) || d.sending()[i].Cast == nil {
		return unsupported(operation{name: "StartMulticastStreaming"})
	}
	d.castOne(i, on)
	return "", nil
}

func (d *device) castOne(i int, on bool) {
	d.casting.mu.Lock()
	defer d.casting.mu.Unlock()
	if end := d.casting.ends[i]; end != nil && !on {
		end()
		delete(d.casting.ends, i)
		return
	}
	if !on || d.casting.ends[i] != nil {
		return
	}
	ctx, end := context.WithCancel(d.casting.ctx)
	d.casting.ends[i] = end
	d.casting.group.Go(func() error {
		if as := d.sending()[i].Cast.As; as != "" {
			d.sendTransport(ctx, i)
		} else {
			d.sendToGroup(ctx, i)
		}
		return nil
	})
}

// sendToGroup sends a stream to the group that it is set to, until ctx ends.
func (d *device) sendToGroup(ctx context.Context, i int) {
	var to netip.AddrPort
	var socket *net.UDPConn
	defer func() {
		if socket != nil {
			socket.Close()
		}
	}()
	send := func(packet []byte) {
		if socket != nil {
			socket.Write(packet) // a lost datagram is the network's business
		}
	}
	video := packetiser{send: send, ssrc: 1}
	for k := d.frameAfter(d.sending()[i].clip, time.Now()); ; k++ {
		f := d.sending()[i]
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(d.frameTime(f.clip, k))):
		}
		if at := netip.AddrPortFrom(f.Cast.Group, uint16(f.Cast.Port)); at != to {
			if socket != nil {
				socket.Close()
			}
			to, socket = at, d.groupSocket(at, f.Cast.TTL)
		}
		if f.Cast.Defect == "silent" {
			continue
		}
		video.frame(f.clip, f.clip.Frames[k%int64(len(f.clip.Frames))], uint32(k*90000/int64(f.clip.FPS)))
	}
}

// sendTransport sends a stream to its group as a transport stream, until ctx ends. One that is set to another group is begun anew there.
func (d *device) sendTransport(ctx context.Context, i int) {
	for ctx.Err() == nil {
		f := d.sending()[i]
		to := netip.AddrPortFrom(f.Cast.Group, uint16(f.Cast.Port))
		while, end := context.WithCancel(ctx)
		done := make(chan struct{})
		go func() {
			defer close(done)
			transport.Send(while, transport.Options{Clip: f.clip, From: d.Address, To: to, RTP: f.Cast.As == "ts in rtp"})
		}()
		for now := f; ctx.Err() == nil && now.clip == f.clip && *now.Cast == *f.Cast; now = d.sending()[i] {
			select {
			case <-ctx.Done():
			case <-time.After(100 * time.Millisecond):
			}
		}
		end()
		<-done
	}
}

func (d *device) groupSocket(to netip.AddrPort, ttl int) *net.UDPConn {
	socket, err := net.DialUDP("udp4", &net.UDPAddr{IP: d.Address.AsSlice()}, net.UDPAddrFromAddrPort(to))
	if err != nil {
		return nil
	}
	p := ipv4.NewPacketConn(socket)
	if lo, err := net.InterfaceByName("lo"); err == nil {
		p.SetMulticastInterface(lo)
	}
	p.SetMulticastTTL(ttl)
	p.SetMulticastLoopback(true)
	return socket
}
