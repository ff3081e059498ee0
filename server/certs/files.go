package certs

import (
	"context"
	"crypto/tls"
	"fmt"
	"os"
	"time"

	"unlatch/core/decide/doctor"
)

// lookEvery is how often files are looked at.
const lookEvery = 10 * time.Second

// files are a certificate and its key that somebody else renews.
type files struct {
	cert, key string
	seen      [2]time.Time
	have      *tls.Certificate
}

func (f *files) kind() doctor.Source { return doctor.Given }

func (f *files) renewAfter(int, *tls.Certificate, time.Time) time.Duration { return lookEvery }

// get reads the files where one of them has changed.
func (f *files) get(context.Context, time.Time) (*tls.Certificate, error) {
	var at [2]time.Time
	for i, path := range []string{f.cert, f.key} {
		info, err := os.Stat(path)
		if err != nil {
			return nil, fmt.Errorf("the certificate %s with the key %s cannot be used: %w", f.cert, f.key, err)
		}
		at[i] = info.ModTime()
	}
	if f.have != nil && at == f.seen {
		return f.have, nil
	}
	c, err := tls.LoadX509KeyPair(f.cert, f.key)
	if err != nil {
		return nil, fmt.Errorf("the certificate %s with the key %s cannot be used: %w", f.cert, f.key, err)
	}
	have, err := parsed(c)
	if err == nil {
		f.have, f.seen = have, at
	}
	return have, err
}
