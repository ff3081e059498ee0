package discovery

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/onvif"
)

// questionTimeout bounds one harmless question.
const questionTimeout = 1500 * time.Millisecond

// askPort connects to a port and asks what answers there; a closed one is nothing to report.
func askPort(ctx context.Context, dial address.Dialer, to netip.AddrPort, found func(sighting.Sighting)) {
	if conn, err := dial.DialContext(ctx, "tcp", to.String()); err == nil {
		found(ask(ctx, dial, to, conn))
	}
}

// ask finds out what answers on an open port. The first question goes over the connection that found it; both
// protocols answer the other's question with a line of their own, so that one question mostly tells.
func ask(ctx context.Context, dial address.Dialer, to netip.AddrPort, conn net.Conn) sighting.Sighting {
	s := sighting.Sighting{Method: sighting.PortSweep, At: time.Now().UTC(), Addr: to.Addr(), Kind: sighting.Other}
	port := sighting.Port{Number: to.Port(), Speaks: "unknown"}
	questions := []string{headQuestion(to), optionsQuestion}
	if to.Port()%1000 == 554 {
		questions[0], questions[1] = questions[1], questions[0]
	}
	var line string
	port.Speaks, port.Server, line = question(conn, questions[0])
	if port.Speaks == "unknown" && ctx.Err() == nil {
		if again, err := dial.DialContext(ctx, "tcp", to.String()); err == nil {
			port.Speaks, port.Server, line = question(again, questions[1])
		}
	}
	// Some TLS ports answer a plain question with a plain 400.
	if (port.Speaks == "unknown" || port.Speaks == "http" && strings.Contains(line, " 400")) && ctx.Err() == nil {
		if speaks, server, certificate := askTLS(ctx, dial, to); certificate != "" {
			port.Speaks, port.Server, s.Certificate = speaks, server, certificate
		}
	}
	switch port.Speaks {
	case "rtsp", "rtsps":
		s.Kind = sighting.Camera
	case "http", "https":
		service := port.Speaks + "://" + to.String() + "/onvif/device_service"
		c := onvif.New(service, onvif.Options{Dial: dial, Timeout: questionTimeout})
		if _, err := c.Clock(ctx); err == nil {
			s.Kind, s.XAddr = sighting.Camera, service
			if port.Speaks == "http" { // of one over TLS, that counts first
				port.Speaks = "device service"
			}
		}
		c.Close()
	}
	s.Ports = []sighting.Port{port}
	return s
}

// askTLS asks over TLS, and takes note of the certificate: who signed it matters nothing here, that it is the same as before does.
func askTLS(ctx context.Context, dial address.Dialer, to netip.AddrPort) (speaks, server, certificate string) {
	speaks = "unknown"
	for _, q := range []struct{ text, speaks, means string }{{headQuestion(to), "http", "https"}, {optionsQuestion, "rtsp", "rtsps"}} {
		raw, err := dial.DialContext(ctx, "tcp", to.String())
		if err != nil {
			return speaks, server, certificate
		}
		raw.SetDeadline(time.Now().Add(questionTimeout))
		conn := tls.Client(raw, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10})
		if conn.HandshakeContext(ctx) != nil {
			conn.Close()
			return speaks, server, certificate
		}
		if certs := conn.ConnectionState().PeerCertificates; len(certs) > 0 {
			certificate = fmt.Sprintf("%x", sha256.Sum256(certs[0].Raw))
		}
		var said string
		if said, server, _ = question(conn, q.text); said == q.speaks {
			return q.means, server, certificate
		}
	}
	return speaks, server, certificate
}

const optionsQuestion = "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\nUser-Agent: Unlatch\r\n\r\n"

func headQuestion(to netip.AddrPort) string {
	return "HEAD / HTTP/1.1\r\nHost: " + to.String() + "\r\nUser-Agent: Unlatch\r\nConnection: close\r\n\r\n"
}

// question sends one question, closes the connection and tells by the answer's first line what speaks there.
func question(conn net.Conn, text string) (speaks, server, line string) {
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(questionTimeout))
	if _, err := io.WriteString(conn, text); err != nil {
		return "unknown", "", ""
	}
	var answer []byte
	buf := make([]byte, 2048)
	for len(answer) < 8192 && !strings.Contains(string(answer), "\r\n\r\n") {
		n, err := conn.Read(buf)
		answer = append(answer, buf[:n]...)
		if err != nil {
			break
		}
	}
	lines := strings.Split(string(answer), "\r\n")
	for _, l := range lines[1:] {
		if name, value, ok := strings.Cut(l, ":"); ok && strings.EqualFold(name, "Server") {
			server = clip(strings.TrimSpace(value))
		}
	}
	switch {
	case strings.HasPrefix(lines[0], "RTSP/"):
		return "rtsp", server, lines[0]
	case strings.HasPrefix(lines[0], "HTTP/"):
		return "http", server, lines[0]
	}
	return "unknown", "", ""
}
