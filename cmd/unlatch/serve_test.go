package main

import (
	"bytes"
	"context"
	"crypto/x509"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

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
		{"loopback, a certificate given", place{cert: "a", key: "b"}, "::1", true, false},
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

func TestOwnCertificate(t *testing.T) {
	dir := t.TempDir()
	first, print, err := certificate("", "", dir, []string{"localhost", "127.0.0.1", "bench.example"})
	require.NoError(t, err)
	assert.Regexp(t, regexp.MustCompile(`^([0-9A-F]{2}:){31}[0-9A-F]{2}$`), print)
	leaf, err := x509.ParseCertificate(first.Certificate[0])
	require.NoError(t, err)
	for _, h := range []string{"localhost", "127.0.0.1", "bench.example"} {
		assert.NoError(t, leaf.VerifyHostname(h))
	}
	assert.Greater(t, time.Until(leaf.NotAfter), 365*24*time.Hour)
	info, err := os.Stat(filepath.Join(dir, "tls-key.pem"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, again, err := certificate("", "", dir, nil)
	require.NoError(t, err)
	assert.Equal(t, print, again, "it is made once")
	_, given, err := certificate(filepath.Join(dir, "tls-cert.pem"), filepath.Join(dir, "tls-key.pem"), t.TempDir(), nil)
	require.NoError(t, err)
	assert.Equal(t, print, given)
	_, _, err = certificate("only-one.pem", "", dir, nil)
	assert.ErrorContains(t, err, "go together")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tls-cert.pem"), []byte("damaged"), 0o644))
	_, _, err = certificate("", "", dir, nil)
	assert.ErrorContains(t, err, "restore it, or remove it", "a damaged one is not replaced silently")
}

func TestWrongServing(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"serve", "--public-url", "bench"}, "--public-url takes an address"},
		{[]string{"serve", "--trusted-proxy", "everybody"}, "--trusted-proxy"},
		{[]string{"serve", "--tls-cert", "a.pem"}, "go together"},
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
