package main

import (
	"bytes"
	"context"
	"net"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// On anything but loopback TLS is used unless somebody says otherwise; on loopback only when asked for.
func TestWhenTLSIsUsed(t *testing.T) {
	for _, c := range []struct {
		name   string
		p      place
		listen string
		secure bool
		wrong  bool
	}{
		{"loopback", place{}, "127.0.0.1", false, false},
		{"loopback, asked for", place{tls: true}, "127.0.0.1", true, false},
		{"loopback, by ACME", place{certificate: certificateFlags{directory: "https://ca.example"}}, "127.0.0.1", true, false},
		{"loopback, a certificate given", place{certificate: certificateFlags{cert: "a", key: "b"}}, "::1", true, false},
		{"every address", place{}, "0.0.0.0", true, false},
		{"the network", place{}, "192.0.2.7", true, false},
		{"the network, plain by an explicit word", place{plain: true}, "192.0.2.7", false, false},
		{"both at once", place{plain: true, tls: true}, "192.0.2.7", false, true},
	} {
		secure, err := c.p.secure(net.ParseIP(c.listen))
		assert.Equal(t, c.secure, secure, c.name)
		assert.Equal(t, c.wrong, err != nil, c.name)
	}
}

func TestWrongServing(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"serve", "--public-url", "bench"}, "--public-url takes an address"},
		{[]string{"serve", "--trusted-proxy", "everybody"}, "--trusted-proxy"},
		{[]string{"serve", "--tls-cert", "a.pem"}, "go together"},
		{[]string{"serve", "--tls-cert", "a", "--tls-key", "b", "--acme-directory", "https://ca.example/dir"}, "give either"},
		{[]string{"serve", "--acme-mail", "keeper@bench.example"}, "go with --acme-directory"},
		{[]string{"serve", "--tls", "--acme-directory", "https://ca.example/dir"}, "set public-url"},
		{[]string{"serve", "--backup-to", "/srv", "--backup-without-key", "--backup-at", "25:00"}, "--backup-at takes a time of day"},
		{[]string{"serve", "--backup-to", "/srv", "--backup-without-key", "--backup-every", "5m"}, "at least 1h"},
		{[]string{"serve", "--backup-to", "/srv", "--backup-without-key", "--backup-keep-days", "-1"}, "from 0 on"},
		{[]string{"serve", "--backup-to", "/srv"}, "say who may open the key file"},
		{[]string{"serve", "--trace-endpoint", "somewhere"}, "--trace-endpoint takes an address"},
		{[]string{"serve", "--log-level", "loud"}, `"loud" for "--log-level"`},
	} {
		code, _, complaint := unlatch("", append(c.args, "--data", t.TempDir(), "--listen", "127.0.0.1:0")...)
		assert.Equal(t, exitUsage, code, "%v", c.args)
		assert.Contains(t, complaint, c.says)
	}
}

// What a device says cannot move the cursor of a terminal.
func TestTerminalOutputIsHarmless(t *testing.T) {
	l, err := net.Listen("tcp4", "127.44.9.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			buf := make([]byte, 4096)
			c.Read(buf)
			c.Write([]byte("RTSP/1.0 404 \x1b]0;owned\x07 not\x9b here\r\nCSeq: 1\r\nServer: \x1b[31m\r\n\r\n"))
		}
	}()
	var out, complain bytes.Buffer
	execute(context.Background(), []string{"prove", "rtsp://" + l.Addr().String() + "/x", "--exchange"}, strings.NewReader(""), &out,
		&complain)
	assert.NotEmpty(t, out.String())
	for _, b := range append(out.Bytes(), complain.Bytes()...) {
		assert.False(t, b < ' ' && b != '\n' && b != '\t', "%q", b)
	}
}

// An address that nobody can open is shown as one that somebody can.
func TestWhereAServerIsFound(t *testing.T) {
	every := &net.TCPAddr{IP: net.IPv6unspecified, Port: 8470}
	public, err := url.Parse("https://bench.example")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:99", shownAt(&net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 99}, public))
	assert.Equal(t, "bench.example", shownAt(every, public))
	host, port, err := net.SplitHostPort(shownAt(every, nil))
	require.NoError(t, err)
	assert.Equal(t, "8470", port)
	assert.False(t, net.ParseIP(host).IsUnspecified(), host)
}
