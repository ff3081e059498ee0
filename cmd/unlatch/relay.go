package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"unlatch/core/decide/doctor"
	"unlatch/jobs"
	"unlatch/server/certs"
)

// relayPorts are where the workers of a process serve streams on; nil ones are not open.
type relayPorts struct {
	plain, secure, pages net.Listener
	datagrams            net.PacketConn
	url                  string // under which browsers reach the pages
}

// relays opens the ports that the settings name.
func (p *place) relays() (r relayPorts, err error) {
	if p.relayPages != "" && p.relay == "" {
		return r, usageError{errors.New("--relay-pages wants --relay, whose streams the pages show")}
	}
	if p.relay != "" {
		if r.plain, err = listenFor("--relay", p.relay); err != nil {
			return r, err
		}
	}
	if err = p.pages(&r); err == nil {
		err = p.relaySecure(&r)
	}
	if err != nil {
		r.close()
	}
	return r, err
}

// pages opens the ports for web pages: one of TCP, and the same of UDP for WebRTC.
func (p *place) pages(r *relayPorts) (err error) {
	if p.relayPages == "" {
		return nil
	}
	if r.pages, err = listenFor("--relay-pages", p.relayPages); err != nil {
		return err
	}
	at := r.pages.Addr().String()
	if r.datagrams, err = net.ListenPacket("udp", at); err != nil {
		return fmt.Errorf("--relay-pages: %w", err)
	}
	if r.url = "http://" + at; p.relayPagesURL != "" {
		u, err := url.Parse(p.relayPagesURL)
		if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || strings.Trim(u.Path, "/") != "" {
			return usageError{fmt.Errorf("--relay-pages-url is an address without a path, such as https://view.example, not %q", p.relayPagesURL)}
		}
		r.url = u.Scheme + "://" + u.Host
	}
	return nil
}

// close closes what is open.
func (r relayPorts) close() {
	for _, l := range []net.Listener{r.plain, r.secure, r.pages} {
		if l != nil {
			l.Close()
		}
	}
	if r.datagrams != nil {
		r.datagrams.Close()
	}
}

// relaySecure opens the port for TLS.
func (p *place) relaySecure(r *relayPorts) error {
	if p.relayTLS == "" {
		return nil
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
			return nil
		}
		l.Close()
	}
	return err
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

// tell says in a process's options where the ports are.
func (r relayPorts) tell(o *jobs.Options) {
	where := func(l net.Listener) string {
		if l == nil {
			return ""
		}
		return l.Addr().String()
	}
	o.Relay, o.RelayTLS, o.PagesAt, o.Pages = where(r.plain), where(r.secure), where(r.pages), r.url
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
