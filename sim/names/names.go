// Package names is the stand-in of a name server: it answers what a test says, over real datagrams (RFC 1035).
package names

import (
	"net"
	"net/netip"
	"strings"
	"sync"

	"golang.org/x/net/dns/dnsmessage"
)

// A Server answers questions for addresses. What it does not know does not exist.
type Server struct {
	conn  net.PacketConn
	mu    sync.Mutex
	known map[string]func() []netip.Addr
	asked int
}

// Start listens on a loopback address.
func Start(at string) (*Server, error) {
	conn, err := net.ListenPacket("udp", at)
	if err != nil {
		return nil, err
	}
	s := &Server{conn: conn, known: map[string]func() []netip.Addr{}}
	go s.serve()
	return s, nil
}

// Addr returns where it listens.
func (s *Server) Addr() string { return s.conn.LocalAddr().String() }

// Close ends it.
func (s *Server) Close() error { return s.conn.Close() }

// Set has a name lead to addresses from now on; to none where there are none.
func (s *Server) Set(name string, list ...netip.Addr) {
	s.SetEach(name, func() []netip.Addr { return list })
}

// SetEach has a name lead to what a function says at each question.
func (s *Server) SetEach(name string, list func() []netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known[strings.ToLower(name)] = list
}

// Asked returns the number of questions so far.
func (s *Server) Asked() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.asked
}

func (s *Server) serve() {
	b := make([]byte, 1500)
	for {
		n, from, err := s.conn.ReadFrom(b)
		if err != nil {
			return
		}
		if out, ok := s.answer(b[:n]); ok {
			s.conn.WriteTo(out, from)
		}
	}
}

// answer writes the answer to one question.
func (s *Server) answer(b []byte) ([]byte, bool) {
	var q dnsmessage.Message
	if q.Unpack(b) != nil || len(q.Questions) != 1 {
		return nil, false
	}
	question := q.Questions[0]
	s.mu.Lock()
	s.asked++
	each := s.known[strings.ToLower(strings.TrimSuffix(question.Name.String(), "."))]
	s.mu.Unlock()
	out := dnsmessage.Message{Header: dnsmessage.Header{ID: q.ID, Response: true, Authoritative: true}, Questions: q.Questions}
	if each == nil {
		out.RCode = dnsmessage.RCodeNameError
	} else {
		for _, a := range each() {
			head := dnsmessage.ResourceHeader{Name: question.Name, Type: question.Type, Class: dnsmessage.ClassINET}
			switch {
			case a.Is4() && question.Type == dnsmessage.TypeA:
				out.Answers = append(out.Answers, dnsmessage.Resource{Header: head, Body: &dnsmessage.AResource{A: a.As4()}})
			case a.Is6() && question.Type == dnsmessage.TypeAAAA:
				out.Answers = append(out.Answers, dnsmessage.Resource{Header: head, Body: &dnsmessage.AAAAResource{AAAA: a.As16()}})
			}
		}
	}
	raw, err := out.Pack()
	return raw, err == nil
}
