// Package rtsp speaks RTSP 1.0 (RFC 2326): messages for both sides, and a client that signs in, sets up tracks
// interleaved on one TCP connection and reads their packets. Every answer is bounded before it is believed.
package rtsp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/textproto"
	"strconv"
	"strings"

	"unlatch/core/ground/wiretext"
)

// Limits on what a device may send.
const (
	maxLine    = 8 << 10
	maxHeaders = 100
	maxBody    = 256 << 10
)

// A Header is the header lines of a message in order. Names compare without case.
type Header []Field

// A Field is one header line.
type Field struct{ Name, Value string }

// Get returns the first value under name, or "".
func (h Header) Get(name string) string {
	for _, f := range h {
		if strings.EqualFold(f.Name, name) {
			return f.Value
		}
	}
	return ""
}

// Values returns every value under name.
func (h Header) Values(name string) (out []string) {
	for _, f := range h {
		if strings.EqualFold(f.Name, name) {
			out = append(out, f.Value)
		}
	}
	return out
}

// Add appends a line.
func (h *Header) Add(name, value string) { *h = append(*h, Field{name, value}) }

// A Request is an RTSP request (RFC 2326 §6).
type Request struct {
	Method, URL string
	Header      Header
	Body        []byte
}

// A Response is an RTSP response (RFC 2326 §7).
type Response struct {
	Status int
	Reason string
	Header Header
	Body   []byte
}

// A ProtocolError is an answer that is not RTSP, or not within bounds.
type ProtocolError struct {
	Problem string
	Seen    string // the beginning of what came, printable
}

func (e *ProtocolError) Error() string {
	if e.Seen == "" {
		return "the answer is not RTSP: " + e.Problem
	}
	return fmt.Sprintf("the answer is not RTSP: %s (%q)", e.Problem, e.Seen)
}

// A LimitError is an answer larger than any honest device sends.
type LimitError struct {
	What  string
	Limit int
}

func (e *LimitError) Error() string {
	return fmt.Sprintf("the answer is not bounded: %s over %d", e.What, e.Limit)
}

// A WrongProtocolError is an answer in another protocol, mostly HTTP on what was taken for the stream port.
type WrongProtocolError struct{ Spoken string }

func (e *WrongProtocolError) Error() string {
	return "the port speaks " + e.Spoken + ", not RTSP"
}

// ReadRequest reads one request. io.EOF means that the peer closed between messages.
func ReadRequest(r *bufio.Reader) (*Request, error) {
	line, err := startLine(r)
	if err != nil {
		return nil, err
	}
	method, rest, _ := strings.Cut(line, " ")
	target, version, ok := strings.Cut(rest, " ")
	if strings.HasPrefix(version, "HTTP/") {
		return nil, &WrongProtocolError{Spoken: "HTTP"}
	}
	if !ok || method == "" || !strings.HasPrefix(version, "RTSP/") {
		return nil, &ProtocolError{Problem: "no RTSP request line", Seen: clip(line)}
	}
	req := &Request{Method: method, URL: target}
	req.Header, req.Body, err = headerAndBody(r)
	return req, err
}

// ReadResponse reads one response.
func ReadResponse(r *bufio.Reader) (*Response, error) {
	line, err := startLine(r)
	if err != nil {
		return nil, err
	}
	version, rest, _ := strings.Cut(line, " ")
	if strings.HasPrefix(version, "HTTP/") {
		return nil, &WrongProtocolError{Spoken: "HTTP"}
	}
	code, reason, _ := strings.Cut(strings.TrimLeft(rest, " "), " ")
	status, err := strconv.Atoi(code)
	if !strings.HasPrefix(version, "RTSP/") || err != nil || status < 100 || status > 999 {
		return nil, &ProtocolError{Problem: "no RTSP status line", Seen: clip(line)}
	}
	res := &Response{Status: status, Reason: clip(reason)}
	res.Header, res.Body, err = headerAndBody(r)
	return res, err
}

// startLine skips the stray line ends that some devices leave between messages.
func startLine(r *bufio.Reader) (string, error) {
	for range 8 {
		line, err := readLine(r)
		if err != nil || line != "" {
			return line, err
		}
	}
	return "", &ProtocolError{Problem: "nothing but empty lines"}
}

func readLine(r *bufio.Reader) (string, error) {
	var line []byte
	for {
		part, err := r.ReadSlice('\n')
		if len(line)+len(part) > maxLine {
			return "", &LimitError{"line length", maxLine}
		}
		line = append(line, part...)
		switch {
		case err == nil:
			return strings.TrimRight(string(line), "\r\n"), nil
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err == io.EOF && len(line) > 0:
			return "", &ProtocolError{Problem: "the connection closed within a line", Seen: clip(string(line))}
		default:
			return "", err
		}
	}
}

// readTunnelHead reads the head of an HTTP request that carries one half of a session, and leaves the reader where its body begins.
func readTunnelHead(r *bufio.Reader) (*Request, error) {
	line, err := startLine(r)
	if err != nil {
		return nil, err
	}
	parts := strings.Fields(line)
	if len(parts) != 3 || !strings.HasPrefix(parts[2], "HTTP/1.") {
		return nil, &ProtocolError{Problem: "no HTTP request line", Seen: clip(line)}
	}
	q := &Request{Method: parts[0], URL: parts[1]}
	q.Header, err = readHeader(r)
	return q, err
}

// readHeader reads header lines up to the empty one that ends them.
func readHeader(r *bufio.Reader) (Header, error) {
	var h Header
	for {
		line, err := readLine(r)
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return nil, err
		}
		if line == "" {
			return h, nil
		}
		if len(h) == maxHeaders {
			return nil, &LimitError{"header lines", maxHeaders}
		}
		name, value, ok := strings.Cut(line, ":")
		switch {
		case ok && strings.TrimSpace(name) != "":
			h.Add(strings.TrimSpace(name), textproto.TrimString(value))
		case len(h) > 0: // a folded line
			h[len(h)-1].Value += " " + strings.TrimSpace(line)
		}
	}
}

func headerAndBody(r *bufio.Reader) (Header, []byte, error) {
	h, err := readHeader(r)
	if err != nil {
		return nil, nil, err
	}
	length := h.Get("Content-Length")
	if length == "" {
		return h, nil, nil
	}
	n, err := strconv.Atoi(length)
	if err != nil || n < 0 {
		return nil, nil, &ProtocolError{Problem: "Content-Length is no number", Seen: clip(length)}
	}
	if n > maxBody {
		return nil, nil, &LimitError{"body bytes", maxBody}
	}
	body := make([]byte, n)
	if _, err := io.ReadFull(r, body); err != nil {
		return nil, nil, fmt.Errorf("the body is shorter than its Content-Length says: %w", err)
	}
	return h, body, nil
}

// Bytes writes the request for the wire, Content-Length included.
func (q *Request) Bytes() []byte { return message(q.Method+" "+q.URL+" RTSP/1.0", q.Header, q.Body) }

// Bytes writes the response for the wire, Content-Length included.
func (p *Response) Bytes() []byte {
	return message(fmt.Sprintf("RTSP/1.0 %d %s", p.Status, p.Reason), p.Header, p.Body)
}

// oneLine takes line ends out of a value: it cannot add lines to a message.
var oneLine = strings.NewReplacer("\r", "", "\n", "")

func message(start string, h Header, body []byte) []byte {
	b := make([]byte, 0, 512+len(body))
	b = append(append(b, start...), "\r\n"...)
	for _, f := range h {
		if strings.EqualFold(f.Name, "Content-Length") {
			continue // written below, from the body
		}
		b = append(append(b, f.Name...), ": "...)
		b = append(append(b, oneLine.Replace(f.Value)...), "\r\n"...)
	}
	if len(body) > 0 {
		b = fmt.Appendf(b, "Content-Length: %d\r\n", len(body))
	}
	b = append(b, "\r\n"...)
	return append(b, body...)
}

// clip makes one harmless line of what a device says.
func clip(s string) string { return wiretext.Line(s, 80) }
