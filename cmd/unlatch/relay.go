package main

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"unlatch/server/certs"
)

// relayPorts are where the workers of a process serve streams on; nil ones are not open.
type relayPorts struct{ plain, secure net.Listener }

// relays opens the ports that the settings name.
func (p *place) relays() (r relayPorts, err error) {
	if p.relay != "" {
		if r.plain, err = net.Listen("tcp", p.relay); err != nil {
			return r, fmt.Errorf("--relay: %w", err)
		}
	}
	if p.relayTLS == "" {
		return r, nil
	}
	l, err := net.Listen("tcp", p.relayTLS)
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
	return r, fmt.Errorf("--relay-tls: %w", err)
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
