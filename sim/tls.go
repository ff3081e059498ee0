package sim

import (
	"crypto/tls"
	"net"
	"time"
	"unlatch/sim/selfsigned"

	"golang.org/x/sync/errgroup"
)

// Ports of the TLS variants: the web page, and RTSP over TLS (RFC 7826 §19.2).
const (
	webTLS  = 8443
	rtspTLS = 322
)

// startTLS serves the web side, and the streams where it has some, over TLS too.
func (d *device) startTLS(serveWeb func(net.Listener) error, group *errgroup.Group) error {
	name := d.maker.name
	if d.TLS != "factory" {
		name += " " + d.Serial
	}
	until := time.Date(2049, 1, 1, 0, 0, 0, 0, time.UTC)
	if d.TLS == "expired" {
		until = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	cert, err := selfsigned.Certificate(name, until)
	if err != nil {
		return err
	}
	config := &tls.Config{Certificates: []tls.Certificate{cert}}
	l, _, err := listen(d.Address.String(), webTLS)
	if err != nil {
		return err
	}
	web := tls.NewListener(l, config)
	group.Go(func() error { return ignoreClosed(serveWeb(web)) })
	if d.streams == nil && d.Defects.Transport != "tls" || d.Kind != "camera" && d.streams == nil {
		return nil
	}
	if l, _, err = listen(d.Address.String(), rtspTLS); err != nil {
		return err
	}
	streams := tls.NewListener(l, config)
	d.secure = newStreamServer(d)
	group.Go(func() error { return ignoreClosed(d.secure.Serve(d.world.ctx, streams)) })
	return nil
}
