package udpfrom_test

import (
	"fmt"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/udpfrom"
)

func sender(t testing.TB, from string, to net.Addr) *net.UDPConn {
	c, err := net.DialUDP("udp4", &net.UDPAddr{IP: net.ParseIP(from)}, to.(*net.UDPAddr))
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

// A flood from elsewhere fills no buffer: every datagram of the one who is listened to is there afterwards, and none of the flood.
func TestAFloodIsSortedOut(t *testing.T) {
	socket, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.ParseIP("127.44.60.1")})
	require.NoError(t, err)
	defer socket.Close()
	require.NoError(t, socket.SetReadBuffer(64<<10))
	require.NoError(t, udpfrom.Only(socket, netip.MustParseAddr("127.44.60.11")))
	camera, flood := sender(t, "127.44.60.11", socket.LocalAddr()), sender(t, "127.44.60.66", socket.LocalAddr())
	junk := make([]byte, 1400)
	for i := range 20 {
		for range 500 {
			flood.Write(junk)
		}
		_, err := fmt.Fprintf(camera, "picture %d", i)
		require.NoError(t, err)
	}
	socket.SetReadDeadline(time.Now().Add(5 * time.Second))
	buffer := make([]byte, 2000)
	for i := range 20 {
		n, err := socket.Read(buffer)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("picture %d", i), string(buffer[:n]))
	}
}

func TestEverybodyButOne(t *testing.T) {
	socket, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.ParseIP("127.44.60.2")})
	require.NoError(t, err)
	defer socket.Close()
	require.NoError(t, udpfrom.Except(socket, netip.MustParseAddr("127.44.60.11")))
	fmt.Fprint(sender(t, "127.44.60.11", socket.LocalAddr()), "left out")
	fmt.Fprint(sender(t, "127.44.60.66", socket.LocalAddr()), "taken")
	socket.SetReadDeadline(time.Now().Add(5 * time.Second))
	buffer := make([]byte, 100)
	n, err := socket.Read(buffer)
	require.NoError(t, err)
	assert.Equal(t, "taken", string(buffer[:n]))
}

func ExampleOnly() {
	socket, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.ParseIP("127.0.0.1")})
	if err != nil {
		return
	}
	defer socket.Close()
	fmt.Println(udpfrom.Only(socket, netip.MustParseAddr("192.0.2.7")))
	// Output: <nil>
}
