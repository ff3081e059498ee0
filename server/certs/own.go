package certs

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
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
	"time"

	"unlatch/core/decide/doctor"
)

// life is how long a certificate made here is good. Browsers take two years and a bit at most.
const life = 800 * 24 * time.Hour

// ownLeft is how long a certificate made here must still be good; otherwise another is made.
const ownLeft = 30 * 24 * time.Hour

// own is a certificate of the server's own making, in the data folder.
type own struct {
	files
	hosts []string
}

func newOwn(data string, hosts []string) *own {
	return &own{files{cert: filepath.Join(data, "tls-cert.pem"), key: filepath.Join(data, "tls-key.pem")}, hosts}
}

func (o *own) kind() doctor.Source { return doctor.SelfMade }

func (o *own) renewAfter(int, *tls.Certificate, time.Time) time.Duration { return time.Hour }

// get makes the certificate, unless there is one that is good for another month.
func (o *own) get(ctx context.Context, now time.Time) (*tls.Certificate, error) {
	if err := o.make(now); err != nil {
		return nil, fmt.Errorf("making a certificate: %w", err)
	}
	return o.files.get(ctx, now)
}

func (o *own) make(now time.Time) error {
	if old, err := tls.LoadX509KeyPair(o.cert, o.key); err == nil {
		if leaf, err := x509.ParseCertificate(old.Certificate[0]); err == nil && leaf.NotAfter.Sub(now) > ownLeft {
			return nil
		}
	} else if _, serr := os.Stat(o.cert); serr == nil {
		return fmt.Errorf("%s is there and cannot be used (%w): restore it, or remove it to have a new one made", o.cert, err)
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
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Unlatch"}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(life),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true}
	for _, h := range o.hosts {
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
	raw, err := pemKey(key)
	if err != nil {
		return err
	}
	if err := replace(o.key, raw, 0o600); err != nil {
		return err
	}
	return replace(o.cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644)
}

// pemKey returns a private key as a file holds it (RFC 5958).
func pemKey(key any) ([]byte, error) {
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), nil
}

// replace writes a file as a whole: whoever reads it meanwhile has the old one or the new one.
func replace(path string, raw []byte, mode fs.FileMode) error {
	part := path + ".part"
	if err := os.WriteFile(part, raw, mode); err != nil {
		return err
	}
	return os.Rename(part, path)
}
