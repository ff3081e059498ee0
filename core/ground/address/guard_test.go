package address

import (
	"context"
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A target's stated address lets out to that port alone; its host is no more in scope than before.
func TestTheGuardKnowsTargets(t *testing.T) {
	l, err := net.Listen("tcp", "127.99.0.9:0")
	require.NoError(t, err)
	defer l.Close()
	at := netip.MustParseAddrPort(l.Addr().String())
	g := &Guard{Allowed: MustParse("192.0.2.0/24")}
	_, err = g.DialContext(context.Background(), "tcp", at.String())
	assert.ErrorAs(t, err, new(*OutOfScopeError))
	g.Targets = []netip.AddrPort{at}
	c, err := g.DialContext(context.Background(), "tcp", at.String())
	require.NoError(t, err)
	c.Close()
	_, err = g.DialContext(context.Background(), "tcp", netip.AddrPortFrom(at.Addr(), at.Port()+1).String())
	assert.ErrorAs(t, err, new(*OutOfScopeError))
	assert.Error(t, g.Check(at.Addr()))
}
