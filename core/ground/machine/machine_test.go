package machine

import (
	"context"
	"net"
	"net/netip"
	"os/exec"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
)

func TestThisComputerIsSeen(t *testing.T) {
	t.Parallel()
	held, err := net.ListenPacket("udp4", "0.0.0.0:0") // does not share its port
	require.NoError(t, err)
	defer held.Close()
	taken := held.LocalAddr().(*net.UDPAddr).Port
	f := Look(context.Background(), Options{Folder: t.TempDir(), Ranges: address.MustParse("127.9.0.0/24"), Ports: []int{taken}})
	assert.NotEmpty(t, f.Name)
	assert.Equal(t, runtime.NumCPU(), f.Processors)
	assert.Greater(t, f.MemorySize, f.MemoryFree)
	assert.NotZero(t, f.MemoryFree)
	assert.NotZero(t, f.Disk.Size)
	assert.False(t, f.Disk.ReadOnly)
	assert.Positive(t, f.OpenFiles)
	_, err = exec.LookPath("ffmpeg")
	assert.Equal(t, err == nil, f.FFmpeg != "")
	assert.Contains(t, f.Shut[taken], "address already in use")
	require.Len(t, f.Routes, 1)
	assert.Equal(t, Route{Range: "127.9.0.0/24", Card: f.Routes[0].Card}, f.Routes[0])
	var loopback *Card
	for i, c := range f.Cards {
		if c.Loopback {
			loopback = &f.Cards[i]
		} else {
			assert.Empty(t, c.MulticastProblem, "%s leads to no range and was not tried", c.Name)
		}
	}
	require.NotNil(t, loopback)
	assert.Empty(t, loopback.MulticastProblem, "multicast works on loopback")
	assert.Equal(t, f.Routes[0].Card, loopback.Name)
}

func TestWhereARangeLies(t *testing.T) {
	t.Parallel()
	cards := []Card{{Interface: address.Interface{Name: "lo", Loopback: true, Prefixes: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8")}}},
		{Interface: address.Interface{Name: "eth0", Prefixes: []netip.Prefix{netip.MustParsePrefix("192.0.2.7/24")}}}}
	for _, c := range []struct {
		own, to, card string
		beyond        bool
	}{
		{"127.0.0.1", "127.9.0.1", "lo", false},
		{"192.0.2.7", "192.0.2.99", "eth0", false},
		{"192.0.2.7", "198.51.100.1", "eth0", true},
		{"203.0.113.5", "198.51.100.1", "", false},
	} {
		card, beyond := leads(netip.MustParseAddr(c.own), netip.MustParseAddr(c.to), cards)
		assert.Equal(t, c.card, card, c.to)
		assert.Equal(t, c.beyond, beyond, c.to)
	}
}
