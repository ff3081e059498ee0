package rtsp

import (
	"context"
	"net"

	"unlatch/core/ground/certificate"
)

// secure speaks TLS on a connection (RFC 7826 §19.2) and holds the certificate to the pin.
func (c *Conn) secure(ctx context.Context, conn net.Conn, host string) (_ net.Conn, err error) {
	ctx, cancel := context.WithTimeout(ctx, c.opt.Timeout)
	defer cancel()
	conn, c.Certificate, err = certificate.Agree(ctx, conn, host, c.opt.Pin, c.opt.Log)
	return conn, err
}
