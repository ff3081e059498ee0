// Package selfsigned makes the certificates that stand-ins show.
package selfsigned

import (
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"time"
)

// Certificate makes the certificate of a name, the same at every start: a stand-in's key is nobody's secret.
func Certificate(name string, until time.Time) (tls.Certificate, error) {
	seed := sha256.Sum256([]byte("stand-in " + name))
	key := ed25519.NewKeyFromSeed(seed[:])
	template := &x509.Certificate{SerialNumber: new(big.Int).SetBytes(seed[:8]), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC), NotAfter: until}
	raw, err := x509.CreateCertificate(nil, template, template, key.Public(), key)
	return tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key}, err
}
