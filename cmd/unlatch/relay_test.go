package main

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A port that another program has is named, and nothing stays open.
func TestARelayPortThatIsTaken(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	taken := l.Addr().String()
	_, err = (&place{relay: taken}).relays()
	assert.EqualError(t, err, "--relay: "+taken+" is in use by another program: stop that, or choose another port")

	p := &place{relay: "127.0.0.1:0", relayTLS: taken, data: t.TempDir()}
	got, err := p.relays()
	assert.ErrorContains(t, err, "--relay-tls: "+taken+" is in use")
	if got.plain != nil {
		_, err = net.Dial("tcp", got.plain.Addr().String())
		assert.Error(t, err, "the first is closed again")
	}
	_, err = (&place{relay: "nowhere"}).relays()
	assert.ErrorContains(t, err, "--relay: ")
}
