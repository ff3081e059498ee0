package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"unlatch/server/certs"
)

// A certificateFlags says where the certificate to serve with is from.
type certificateFlags struct {
	cert, key string // files of a certificate of the person's own; "" for one made here
	// directory is the URL of an ACME directory, "" for none; roots is a file with whom it is known by.
	directory, mail, roots string
	// plainAt is where the directory asks back by HTTP; "" for one that asks by TLS.
	plainAt string
}

func (f *certificateFlags) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.cert, "tls-cert", "",
		"certificate to serve with (PEM), read again when it changes; one is made where none is given")
	c.Flags().StringVar(&f.key, "tls-key", "", "key of that certificate (PEM)")
	c.Flags().StringVar(&f.directory, "acme-directory", "",
		"URL of an ACME directory (RFC 8555) to get the certificate of --public-url from; it asks back on port 443 unless --acme-http is given")
	c.Flags().StringVar(&f.mail, "acme-mail", "", "address to which the directory writes before the certificate ends")
	c.Flags().StringVar(&f.roots, "acme-roots", "", "file with the certificates (PEM) that a directory of your own is known by")
	c.Flags().StringVar(&f.plainAt, "acme-http", "",
		"address and port where the directory asks back by HTTP, such as 0.0.0.0:80; everybody else is sent on to --public-url")
}

// wanted reports whether a certificate was asked for.
func (f *certificateFlags) wanted() bool { return f.cert != "" || f.key != "" || f.directory != "" }

func (f *certificateFlags) check() error {
	switch {
	case (f.cert == "") != (f.key == ""):
		return usageError{errors.New("--tls-cert and --tls-key go together: a certificate and the key that it was made for")}
	case f.cert != "" && f.directory != "":
		return usageError{errors.New("give either --tls-cert or --acme-directory")}
	case f.directory == "" && f.plainAt+f.mail+f.roots != "":
		return usageError{errors.New("--acme-http, --acme-mail and --acme-roots go with --acme-directory")}
	}
	return nil
}

// keeper begins to keep the certificate of a server that listens at l.
func (p *place) keeper(l net.Addr) (*certs.Keeper, error) {
	public, err := p.publicURL()
	if err != nil {
		return nil, err
	}
	host := ""
	if public != nil {
		host = public.Hostname()
	}
	hosts := ownHosts(l, host)
	switch {
	case p.certificate.cert != "":
		return certs.Given(p.certificate.cert, p.certificate.key, p.log)
	case p.certificate.directory == "":
		return certs.Own(p.data, hosts, p.log)
	}
	a := certs.ACME{Directory: p.certificate.directory, Mail: p.certificate.mail, Host: host, Data: p.data,
		ByHTTP: p.certificate.plainAt != "", OwnHosts: hosts, Log: p.log}
	if p.certificate.roots != "" {
		raw, err := readSmall(p.certificate.roots)
		if err != nil {
			return nil, err
		}
		if a.Roots = x509.NewCertPool(); !a.Roots.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("%s holds no certificate", p.certificate.roots)
		}
	}
	k, err := certs.WithACME(a)
	if err != nil {
		return nil, usageError{err}
	}
	return k, nil
}

// overTLS returns l with TLS, by a certificate that is kept until ctx ends.
func (p *place) overTLS(ctx context.Context, l net.Listener) (net.Listener, *certs.Keeper, error) {
	k, err := p.keeper(l.Addr())
	if err != nil {
		return nil, nil, err
	}
	if h := k.Challenges(); h != nil {
		plain, err := net.Listen("tcp", p.certificate.plainAt)
		if err != nil {
			return nil, nil, fmt.Errorf("--acme-http: %w", err)
		}
		s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 10 * time.Second, MaxHeaderBytes: 16 << 10}
		go s.Serve(plain)
		context.AfterFunc(ctx, func() { s.Close() })
	}
	go k.Keep(ctx)
	return tls.NewListener(l, &tls.Config{GetCertificate: k.Get, MinVersion: tls.VersionTLS12, NextProtos: k.Protocols()}), k, nil
}

// ownHosts returns the names and addresses by which this machine may be reached at a listening address.
func ownHosts(l net.Addr, public string) []string {
	hosts := []string{"localhost", "127.0.0.1", "::1"}
	if public != "" {
		hosts = append(hosts, public)
	}
	a, ok := l.(*net.TCPAddr)
	if !ok || a.IP.IsLoopback() {
		return hosts
	}
	if !a.IP.IsUnspecified() {
		return append(hosts, a.IP.String())
	}
	all, _ := net.InterfaceAddrs()
	for _, x := range all {
		if n, ok := x.(*net.IPNet); ok && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
			hosts = append(hosts, n.IP.String())
		}
	}
	return hosts
}

// shownAt returns the host and port at which people find a server that listens at l: "every address" is none that a browser can open.
func shownAt(l net.Addr, public *url.URL) string {
	a, ok := l.(*net.TCPAddr)
	if !ok || !a.IP.IsUnspecified() {
		return l.String()
	}
	if public != nil {
		return public.Host
	}
	host := "127.0.0.1"
	if hosts := ownHosts(l, ""); len(hosts) > 3 { // behind the names of loopback
		host = hosts[3]
	}
	return net.JoinHostPort(host, strconv.Itoa(a.Port))
}
