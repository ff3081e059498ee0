package address_test

import (
	"context"
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/address"
	"unlatch/sim/names"
)

func TestHostNames(t *testing.T) {
	for text, want := range map[string]bool{"vault.tarnside.example": true, "vault": true, "VAULT-2.example.": true, "1and1.example": true,
		"": false, "192.0.2.10": false, "2001:db8::1": false, "-x.example": false, "x..example": false, "a_b.example": false, "300.1": false,
		"vault example": false, "xn--bcher-kva.example": true} {
		assert.Equal(t, want, address.HostName(text), text)
	}
}

// nameServer is one of the test's own, and a resolver that asks it.
func nameServer(t *testing.T) (*names.Server, address.Resolver) {
	s, err := names.Start("127.43.60.53:0")
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, address.NameServer(s.Addr())
}

func addrs(list ...string) (out []netip.Addr) {
	for _, a := range list {
		out = append(out, netip.MustParseAddr(a))
	}
	return out
}

func TestLookup(t *testing.T) {
	s, r := nameServer(t)
	s.Set("vault.example", addrs("127.43.60.9", "127.43.60.2", "127.43.60.9", "2001:db8::1")...)
	s.Set("nowhere.example")
	s.Set("group.example", addrs("239.1.2.3", "0.0.0.0")...)
	var many []netip.Addr
	for a := netip.MustParseAddr("127.43.61.1"); len(many) <= address.MaxAddresses; a = a.Next() {
		many = append(many, a)
	}
	s.Set("many.example", many...)
	got, err := address.Lookup(context.Background(), r, "vault.example")
	require.NoError(t, err)
	assert.Equal(t, addrs("127.43.60.2", "127.43.60.9", "2001:db8::1"), got, "in order, and each once")
	for _, name := range []string{"nowhere.example", "group.example", "unknown.example"} {
		_, err := address.Lookup(context.Background(), r, name)
		assert.ErrorAs(t, err, new(*address.NoAddressError), name)
	}
	_, err = address.Lookup(context.Background(), r, "many.example")
	assert.ErrorAs(t, err, new(*address.TooManyAddressesError))
}

// A name that a person has looked at is reached at the addresses that were shown, whatever it leads to meanwhile. Only when none of them
// answers is it looked up again, and where it leads elsewhere by then that is told, and nothing is sent there.
func TestANameIsPinned(t *testing.T) {
	s, r := nameServer(t)
	answers := func(at string) (net.Listener, func() int) {
		l, err := net.Listen("tcp", at)
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		came := make(chan struct{}, 10)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				c.Close()
				came <- struct{}{}
			}
		}()
		return l, func() int { return len(came) }
	}
	own, _ := answers("127.43.60.2:0")
	_, port, err := net.SplitHostPort(own.Addr().String())
	require.NoError(t, err)
	_, stranger := answers("127.43.60.66:" + port)
	at := func(a string) netip.AddrPort { return netip.MustParseAddrPort(a + ":" + port) }
	g := &address.Guard{Allowed: address.MustParse("192.0.2.0/24"), Targets: []netip.AddrPort{at("127.43.60.2"), at("127.43.60.3")},
		Names: map[string][]netip.Addr{"vault.example": addrs("127.43.60.2", "127.43.60.3")}, Resolver: r}
	dial := func() error {
		c, err := g.DialContext(context.Background(), "tcp", "Vault.example:"+port)
		if err == nil {
			c.Close()
		}
		return err
	}
	n := 0
	s.SetEach("vault.example", func() []netip.Addr { // another one each time
		n++
		return addrs("127.43.60.66", "127.43.60."+string(rune('0'+n%10)))
	})
	require.NoError(t, dial())
	assert.Zero(t, s.Asked(), "while it answers, no name server is asked")
	own.Close()
	for range 2 {
		var moved *address.MovedNameError
		require.ErrorAs(t, dial(), &moved)
		assert.Contains(t, moved.Error(), "127.43.60.66")
		assert.Equal(t, addrs("127.43.60.2", "127.43.60.3"), moved.Was)
	}
	assert.Zero(t, stranger(), "nothing is sent where it leads now")
	s.Set("vault.example", addrs("127.43.60.2", "127.43.60.3")...)
	err = dial()
	require.Error(t, err)
	assert.NotErrorAs(t, err, new(*address.MovedNameError), "it is where it was, and does not answer")
	s.Set("vault.example")
	assert.NotErrorAs(t, dial(), new(*address.MovedNameError))

	// A name that nobody has looked at leads nowhere beyond the ranges.
	g.Names = nil
	assert.Error(t, dial())
	assert.Zero(t, stranger())
}
