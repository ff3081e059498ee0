package discovery

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"unlatch/core/address"
	"unlatch/core/onvif"
)

// questionTimeout bounds one harmless question.
const questionTimeout = 1500 * time.Millisecond

// ask finds out what answers on an open port. The first question goes over the connection that found it; both
// protocols answer the other's question with a line of their own, so that one question mostly tells.
func ask(ctx context.Context, dial address.Dialer, to netip.AddrPort, conn net.Conn) Sighting {
	s := Sighting{Method: PortSweep, At: time.Now().UTC(), Addr: to.Addr(), Kind: Other}
	port := Port{Number: to.Port(), Speaks: "unknown"}
	questions := []string{headQuestion(to), optionsQuestion}
	if to.Port()%1000 == 554 {
		questions[0], questions[1] = questions[1], questions[0]
	}
	port.Speaks, port.Server = question(conn, questions[0])
	if port.Speaks == "unknown" && ctx.Err() == nil {
		if again, err := dial.DialContext(ctx, "tcp", to.String()); err == nil {
			port.Speaks, port.Server = question(again, questions[1])
		}
	}
	switch port.Speaks {
	case "rtsp":
		s.Kind = Camera
	case "http":
		service := "http://" + to.String() + "/onvif/device_service"
		c := onvif.New(service, onvif.Options{Dial: dial, Timeout: questionTimeout})
		if _, err := c.Clock(ctx); err == nil {
			port.Speaks, s.Kind, s.XAddr = "device service", Camera, service
		}
		c.Close()
	}
	s.Ports = []Port{port}
	return s
}

const optionsQuestion = "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\nUser-Agent: Unlatch\r\n\r\n"

func headQuestion(to netip.AddrPort) string {
	return "HEAD / HTTP/1.1\r\nHost: " + to.String() + "\r\nUser-Agent: Unlatch\r\nConnection: close\r\n\r\n"
}

// question sends one question, closes the connection and tells by the answer's first line what speaks there.
func question(conn net.Conn, text string) (speaks, server string) {
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(questionTimeout))
	if _, err := io.WriteString(conn, text); err != nil {
		return "unknown", ""
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
		return "rtsp", server
	case strings.HasPrefix(lines[0], "HTTP/"):
		return "http", server
	}
	return "unknown", ""
}

func (p Port) String() string { return fmt.Sprintf("%d (%s)", p.Number, p.Speaks) }
