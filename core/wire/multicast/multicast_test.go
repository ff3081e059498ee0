package multicast

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"
	"unlatch/core/stream/camera"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/ipv4"
)

func setting(text string, ttl int) camera.GroupSetting {
	at := netip.MustParseAddrPort(text)
	return camera.GroupSetting{Addr: at.Addr(), Port: int(at.Port()), TTL: ttl}
}

func TestPlan(t *testing.T) {
	pool := netip.MustParsePrefix("239.255.8.0/24")
	wishes := []Wish{
		{"its own", setting("239.255.8.1:50000", 4)},
		{"the same", setting("239.255.8.1:50000", 4)},
		{"another port", setting("239.255.8.9:50010", 1)},
		{"outside", setting("224.2.127.254:9875", 4)},
		{"none", camera.GroupSetting{Auto: true}},
	}
	list, err := Plan(wishes, []netip.Addr{netip.MustParseAddr("239.255.8.2"), netip.MustParseAddr("239.127.8.3")}, pool, 50000, 4)
	require.NoError(t, err)
	var got []string
	for _, a := range list {
		got = append(got, a.New.String())
	}
	assert.Equal(t, []string{"239.255.8.1:50000, TTL 4", "239.255.8.4:50000, TTL 4", "239.255.8.9:50000, TTL 4", "239.255.8.5:50000, TTL 4",
		"239.255.8.6:50000, TTL 4, always on"}, got, "239.127.8.3 looks like 239.255.8.3 to a switch")
	assert.True(t, list[0].Keep)
	assert.False(t, list[2].Keep, "its port changes")

	list, err = Plan([]Wish{{"a", camera.GroupSetting{}}, {"b", setting("239.0.0.7:50000", 4)}}, nil,
		netip.MustParsePrefix("239.0.0.0/16"), 50000, 4)
	require.NoError(t, err)
	assert.Equal(t, "239.0.1.0", list[0].New.Addr.String(), "what looks like 224.0.0.x goes to every port of every switch")
	assert.Equal(t, "239.0.1.1", list[1].New.Addr.String())

	for name, c := range map[string]struct {
		pool      string
		port, ttl int
		says      string
	}{
		"too small":  {"239.255.8.0/31", 50000, 4, "no group for 2 of the 3"},
		"outside":    {"232.1.0.0/16", 50000, 4, "not all in 239.0.0.0/8"},
		"wider":      {"224.0.0.0/4", 50000, 4, "not all in 239.0.0.0/8"},
		"no groups":  {"192.0.2.0/24", 50000, 4, "no range of IPv4 groups"},
		"odd port":   {"239.255.8.0/24", 50001, 4, "no port for RTP"},
		"never TTL":  {"239.255.8.0/24", 50000, 0, "TTL of 0"},
		"high TTL":   {"239.255.8.0/24", 50000, 256, "TTL of 256"},
		"low port":   {"239.255.8.0/24", 80, 4, "no port for RTP"},
		"no network": {"239.255.8.0/24", 70000, 4, "no port for RTP"},
	} {
		_, err := Plan([]Wish{{ID: "a"}, {ID: "b"}, {ID: "c"}}, nil, netip.MustParsePrefix(c.pool), c.port, c.ttl)
		var bad *PlanError
		require.ErrorAs(t, err, &bad, name)
		assert.Contains(t, bad.Problem, c.says, name)
		assert.NotEmpty(t, bad.Fix)
	}
}

func TestSame(t *testing.T) {
	at := netip.MustParseAddrPort
	devices := []string{"a", "a", "b", "c"}
	got := Same([]netip.AddrPort{at("239.1.1.1:5000"), at("239.1.1.1:5002"), at("239.1.1.1:5000"), {}},
		func(i int) string { return devices[i] })
	assert.Equal(t, map[int][]int{0: {2}, 2: {0}}, got)
}

func rtp(payloadType byte, seq byte, payload ...byte) []byte {
	return append([]byte{0x80, payloadType, 0, seq, 0, 0, 0, 0, 0, 0, 0, 1}, payload...)
}

func TestKinds(t *testing.T) {
	ts := make([]byte, 7*188)
	ts[0] = 0x47
	for want, packet := range map[string][]byte{
		"H.264 in RTP":   rtp(96, 1, 0x7c, 0x85, 1, 2),
		"H.265 in RTP":   rtp(96, 1, 49<<1, 1, 0x93, 2),
		"MJPEG in RTP":   rtp(26, 1, 0, 0, 0, 0),
		"MPEG-TS in RTP": rtp(33, 1, 0x47, 0, 0, 0),
		"MPEG-TS":        ts,
		"RTP":            rtp(97, 1, 0xff, 0xff, 0, 0),
		"something else": []byte("hello"),
	} {
		c := counter{from: map[netip.AddrPort]*source{}}
		for range 10 {
			c.packet(netip.MustParseAddrPort("192.0.2.1:5000"), 4, packet)
		}
		list := c.sum(time.Second)
		require.Len(t, list, 1)
		assert.Equal(t, want, list[0].Kind)
		assert.Equal(t, []int{10, 4}, []int{list[0].Packets, list[0].TTL})
	}
	c := counter{from: map[netip.AddrPort]*source{}}
	for _, seq := range []byte{1, 2, 5} {
		c.packet(netip.MustParseAddrPort("192.0.2.1:5000"), 1, rtp(96, seq, 0x41, 0, 0, 0))
	}
	for n := range 2 * maxSenders {
		c.packet(netip.AddrPortFrom(netip.MustParseAddr("192.0.2.9"), uint16(n+1)), 1, nil)
	}
	list := c.sum(time.Second)
	assert.Equal(t, 2, list[0].Lost)
	assert.Len(t, list, maxSenders, "nobody fills the memory by making senders up")
}

// A group is heard from whoever sends to it; joined for one source, nobody else is heard. Other groups on the same port are not counted.
func TestListen(t *testing.T) {
	group := netip.MustParseAddrPort("239.255.98.7:52498")
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	send := func(from string, to netip.AddrPort, ttl int) {
		socket, err := net.DialUDP("udp4", &net.UDPAddr{IP: net.ParseIP(from)}, net.UDPAddrFromAddrPort(to))
		require.NoError(t, err)
		p := ipv4.NewPacketConn(socket)
		lo, err := net.InterfaceByName("lo")
		require.NoError(t, err)
		require.NoError(t, p.SetMulticastInterface(lo))
		require.NoError(t, p.SetMulticastTTL(ttl))
		go func() {
			defer socket.Close()
			for seq := byte(0); ctx.Err() == nil; seq++ {
				socket.Write(rtp(96, seq, 0x41, 1, 2, 3))
				time.Sleep(10 * time.Millisecond)
			}
		}()
	}
	send("127.44.98.1", group, 7)
	send("127.44.98.2", group, 1)
	send("127.44.98.3", netip.MustParseAddrPort("239.255.98.8:52498"), 1)
	other, err := Listen(ctx, Request{Group: netip.MustParseAddrPort("239.255.98.8:52498"), Toward: netip.MustParseAddr("127.44.98.1"),
		For: 100 * time.Millisecond})
	require.NoError(t, err)
	assert.Len(t, other.Senders, 1)
	h, err := Listen(ctx, Request{Group: group, Toward: netip.MustParseAddr("127.44.98.1"), For: 400 * time.Millisecond})
	require.NoError(t, err)
	assert.Len(t, h.Senders, 2)
	s, ok := h.Of(netip.MustParseAddr("127.44.98.1"))
	require.True(t, ok)
	assert.Equal(t, []any{"H.264 in RTP", 7, "lo"}, []any{s.Kind, s.TTL, h.Interface})
	assert.Positive(t, s.Kbps)
	h, err = Listen(ctx, Request{Group: group, Source: netip.MustParseAddr("127.44.98.2"), Toward: netip.MustParseAddr("127.44.98.1"),
		For: 400 * time.Millisecond})
	require.NoError(t, err)
	require.Len(t, h.Senders, 1)
	assert.Equal(t, "127.44.98.2", h.Senders[0].From.Addr().String())
	_, ok = (*camera.GroupHeard)(nil).Of(netip.MustParseAddr("127.44.98.2"))
	assert.False(t, ok)
	_, err = Listen(ctx, Request{Group: netip.MustParseAddrPort("192.0.2.1:5000"), For: time.Second})
	assert.ErrorContains(t, err, "no IPv4 group")
	ended, end := context.WithCancel(ctx)
	end()
	for range 100 { // however the two fall: the end of the context counts
		_, err = Listen(ended, Request{Group: group, For: time.Hour})
		assert.ErrorIs(t, err, context.Canceled)
	}
}

func FuzzPacket(f *testing.F) {
	f.Add(rtp(96, 1, 0x41, 1))
	f.Add([]byte{0xbf, 0xff, 0, 1, 0, 0, 0, 0, 0, 0, 0, 1, 1, 2, 3})
	f.Fuzz(func(t *testing.T, b []byte) {
		c := counter{from: map[netip.AddrPort]*source{}}
		c.packet(netip.MustParseAddrPort("192.0.2.1:5000"), 1, b)
		c.packet(netip.MustParseAddrPort("192.0.2.1:5000"), 1, b)
		if list := c.sum(time.Second); len(list) != 1 || list[0].Kind == "" {
			t.Fatal("a packet was not counted")
		}
	})
}

// Somebody floods the camera's group, from more ports than are told apart: every packet of the camera is counted all the same.
func TestAFloodInAGroup(t *testing.T) {
	group := netip.MustParseAddrPort("239.255.60.7:50060")
	send := func(from string) *ipv4.PacketConn {
		c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.ParseIP(from)})
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		p := ipv4.NewPacketConn(c)
		lo, err := net.InterfaceByName("lo")
		require.NoError(t, err)
		require.NoError(t, p.SetMulticastInterface(lo))
		require.NoError(t, p.SetMulticastLoopback(true))
		return p
	}
	to := net.UDPAddrFromAddrPort(group)
	var floods []*ipv4.PacketConn
	for range 2*maxSenders + 10 {
		floods = append(floods, send("127.44.61.66"))
	}
	own := send("127.44.61.11")
	ctx, cancel := context.WithCancel(t.Context())
	heard := make(chan *camera.GroupHeard, 1)
	go func() {
		defer cancel()
		h, err := Listen(ctx, Request{Group: group, Toward: netip.MustParseAddr("127.44.61.11"), For: 2 * time.Second})
		assert.NoError(t, err)
		heard <- h
	}()
	junk := make([]byte, 1400)
	sent := 0
	for ctx.Err() == nil {
		for _, f := range floods {
			f.WriteTo(junk, nil, to)
		}
		if _, err := own.WriteTo(rtp(96, byte(sent), 0x67, 1, 2, 3), nil, to); err == nil {
			sent++
		}
	}
	h := <-heard
	require.NotNil(t, h)
	of, ok := h.Of(netip.MustParseAddr("127.44.61.11"))
	require.True(t, ok, "%d senders", len(h.Senders))
	assert.Zero(t, of.Lost, "of %d packets none was crowded out", of.Packets)
	assert.Greater(t, of.Packets, sent/2)
}
