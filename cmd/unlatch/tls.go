package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// certificateLife is how long a certificate made here is good. Browsers take two years and a bit at most; one that has run out is made
// anew.
const certificateLife = 800 * 24 * time.Hour

// certificate reads the certificate to serve with: the one that was given, else one of the program's own, which is made with the first
// start and kept in the data folder. fingerprint is the SHA-256 of it, as browsers show it.
func certificate(certFile, keyFile, data string, hosts []string) (cert tls.Certificate, fingerprint string, err error) {
	switch {
	case (certFile == "") != (keyFile == ""):
		return cert, "", usageError{errors.New("--tls-cert and --tls-key go together: a certificate and the key that it was made for")}
	case certFile == "":
		certFile, keyFile = filepath.Join(data, "tls-cert.pem"), filepath.Join(data, "tls-key.pem")
		if err := ownCertificate(certFile, keyFile, hosts); err != nil {
			return cert, "", fmt.Errorf("making a certificate: %w", err)
		}
	}
	if cert, err = tls.LoadX509KeyPair(certFile, keyFile); err != nil {
		return cert, "", fmt.Errorf("the certificate %s with the key %s cannot be used: %w", certFile, keyFile, err)
	}
	sum := sha256.Sum256(cert.Certificate[0])
	parts := make([]string, len(sum))
	for i, b := range sum {
		parts[i] = fmt.Sprintf("%02X", b)
	}
	return cert, strings.Join(parts, ":"), nil
}

// ownCertificate makes a certificate for hosts, unless there is one that is good for another month.
func ownCertificate(certFile, keyFile string, hosts []string) error {
	if old, err := tls.LoadX509KeyPair(certFile, keyFile); err == nil {
		if leaf, err := x509.ParseCertificate(old.Certificate[0]); err == nil && time.Until(leaf.NotAfter) > 30*24*time.Hour {
			return nil
		}
	} else if _, serr := os.Stat(certFile); serr == nil {
		return fmt.Errorf("%s is there and cannot be used (%w): restore it, or remove it to have a new one made", certFile, err)
	} else if !errors.Is(serr, fs.ErrNotExist) {
		return serr
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Unlatch"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(certificateLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true}
	for _, h := range hosts {
		if ip := net.ParseIP(h); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else if h != "" {
			t.DNSNames = append(t.DNSNames, h)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600); err != nil {
		return err
	}
	return os.WriteFile(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644)
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
