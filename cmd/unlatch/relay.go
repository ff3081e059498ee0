package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"unlatch/core/decide/doctor"
	"unlatch/server/certs"
)

// relayPorts are where the workers of a process serve streams on; nil ones are not open.
type relayPorts struct{ plain, secure net.Listener }

// relays opens the ports that the settings name.
func (p *place) relays() (r relayPorts, err error) {
	if p.relay != "" {
		if r.plain, err = listenFor("--relay", p.relay); err != nil {
			return r, err
		}
	}
	if p.relayTLS == "" {
		return r, nil
	}
	l, err := listenFor("--relay-tls", p.relayTLS)
	if err == nil {
		// The certificate of the pages is another: it may be given, or be for other names.
		folder := filepath.Join(p.data, "relay")
		err = os.MkdirAll(folder, 0o700)
		var k *certs.Keeper
		if err == nil {
			k, err = certs.Own(folder, ownHosts(l.Addr(), ""), p.log)
		}
		if err == nil {
			go k.Keep(context.Background())
			r.secure = tls.NewListener(l, &tls.Config{GetCertificate: k.Get, MinVersion: tls.VersionTLS12})
			return r, nil
		}
		l.Close()
	}
	if r.plain != nil {
		r.plain.Close()
	}
	return r, err
}

// listenFor opens the port that a flag names.
func listenFor(flag, at string) (net.Listener, error) {
	l, err := net.Listen("tcp", at)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fmt.Errorf("%s: %s is in use by another program: stop that, or choose another port", flag, at)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", flag, err)
	}
	return l, nil
}

// at returns the addresses of the ports.
func (r relayPorts) at() (plain, secure string) {
	if r.plain != nil {
		plain = r.plain.Addr().String()
	}
	if r.secure != nil {
		secure = r.secure.Addr().String()
	}
	return plain, secure
}

func (r relayPorts) listeners() (list []net.Listener) {
	for _, l := range []net.Listener{r.plain, r.secure} {
		if l != nil {
			list = append(list, l)
		}
	}
	return list
}

// mostFaces bounds the ports of one worker's faces.
const mostFaces = 200

// faces reads where relays have ONVIF devices of their own.
func (p *place) faces() (host string, ports doctor.Ports, err error) {
	if p.relayFaces == "" {
		return "", ports, nil
	}
	if p.relay == "" {
		return "", ports, usageError{errors.New("--relay-faces wants --relay, whose streams they show")}
	}
	host, span, err := net.SplitHostPort(p.relayFaces)
	if err == nil {
		first, last, many := strings.Cut(span, "-")
		if ports.First, err = strconv.Atoi(first); err == nil && many {
			ports.Last, err = strconv.Atoi(last)
		} else if err == nil {
			ports.Last = ports.First
		}
	}
	if err != nil || ports.First < 1 || ports.Last < ports.First || ports.Last > 65535 || ports.Last-ports.First >= mostFaces {
		return "", ports, usageError{fmt.Errorf("--relay-faces is an address with ports, such as 0.0.0.0:8580-8599, at most %d of them; it is %q",
			mostFaces, p.relayFaces)}
	}
	return host, ports, nil
}
