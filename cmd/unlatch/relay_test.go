package main

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/doctor"
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

func TestThePortsOfFaces(t *testing.T) {
	host, ports, err := (&place{relay: "0.0.0.0:8554", relayFaces: "192.0.2.5:8580-8599"}).faces()
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.5", host)
	assert.Equal(t, doctor.Ports{First: 8580, Last: 8599}, ports)
	_, ports, err = (&place{relay: "0.0.0.0:8554", relayFaces: "0.0.0.0:8580"}).faces()
	require.NoError(t, err)
	assert.Equal(t, doctor.Ports{First: 8580, Last: 8580}, ports)
	for _, bad := range []string{"8580", "0.0.0.0:x", "0.0.0.0:9-8", "0.0.0.0:1-60000", "0.0.0.0:-", "0.0.0.0:70000"} {
		_, _, err = (&place{relay: "0.0.0.0:8554", relayFaces: bad}).faces()
		assert.ErrorContains(t, err, "--relay-faces is an address with ports", bad)
	}
	_, _, err = (&place{relayFaces: "0.0.0.0:8580"}).faces()
	assert.ErrorContains(t, err, "wants --relay")
}
