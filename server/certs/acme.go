package certs

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/acme"

	"unlatch/core/decide/doctor"
	"unlatch/core/ground/wiretext"
)

// ACME says where a certificate comes from.
type ACME struct {
	Directory string // URL (RFC 8555 §7.1.1)
	Mail      string // the directory writes there before a certificate ends; "" for nobody
	Host      string // the name that the certificate is for
	Data      string // folder of the server's data
	// Roots are whom the directory is known by; nil means the system's.
	Roots *x509.CertPool
	// ByHTTP has the directory ask back by HTTP (RFC 8555 §8.3), which Challenges answers; otherwise it asks by TLS (RFC 8737), which
	// Get answers.
	ByHTTP bool
	// OwnHosts are what a certificate of the server's own making is for, which is served until there is one by ACME.
	OwnHosts []string
	Log      *slog.Logger
	// Now is the clock; nil means time.Now.
	Now func() time.Time
}

// Bounds of what is asked of a directory.
const (
	orderTime     = 2 * time.Minute // for all of an order
	mostOfAnswer  = 1 << 20
	retryFirst    = time.Minute
	retryMost     = 6 * time.Hour
	challengePath = "/.well-known/acme-challenge/"
)

// WithACME keeps a certificate by ACME. Until there is one, a certificate of the server's own making is served.
func WithACME(a ACME) (*Keeper, error) {
	if a.Now == nil {
		a.Now = time.Now
	}
	u, err := url.Parse(a.Directory)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return nil, errors.New("the ACME directory takes an address such as https://ca.example/directory")
	}
	if a.Host == "" {
		return nil, errors.New("a certificate by ACME is for a name: set public-url to the one that people use")
	}
	source := &order{ACME: a, tokens: map[string]string{}}
	k := &Keeper{from: source, log: a.Log, now: a.Now, kind: doctor.SelfMade, answer: source.overTLS}
	if kept, err := source.kept(); err == nil {
		k.current, k.kind = kept, doctor.FromACME
		return k, nil
	}
	o := newOwn(a.Data, a.OwnHosts)
	k.current, err = o.get(context.Background(), a.Now())
	return k, err
}

// Challenges answers a directory that asks back by HTTP; nil where the keeper has nobody ask so. Everybody else is sent to the server
// itself.
func (k *Keeper) Challenges() http.Handler {
	o, ok := k.from.(*order)
	if !ok || !o.ByHTTP {
		return nil
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, asked := strings.CutPrefix(r.URL.Path, challengePath)
		if !asked {
			http.Redirect(w, r, "https://"+o.Host+r.URL.RequestURI(), http.StatusMovedPermanently)
			return
		}
		o.mu.Lock()
		text, known := o.tokens[token]
		o.mu.Unlock()
		if !known {
			http.NotFound(w, r)
			return
		}
		io.WriteString(w, text)
	})
}

// order gets certificates from a directory.
type order struct {
	ACME
	mu     sync.Mutex
	tokens map[string]string // answers by HTTP
	shown  *tls.Certificate  // the answer by TLS, while one is asked for
}

func (o *order) kind() doctor.Source { return doctor.FromACME }

// renewAfter returns how long to wait before the next renewal: until a third of the certificate's life is left. A directory that refuses
// is asked ever less often, at most once a minute.
func (o *order) renewAfter(failed int, c *tls.Certificate, now time.Time) time.Duration {
	if failed > 0 {
		return min(retryMost, retryFirst<<min(failed-1, 12))
	}
	if kept, err := o.kept(); err != nil || !bytes.Equal(kept.Certificate[0], c.Certificate[0]) {
		return 0 // what is served is of the server's own making
	}
	return max(retryFirst, renewAt(c).Sub(now))
}

// renewAt returns when a third of a certificate's life is left.
func renewAt(c *tls.Certificate) time.Time {
	end := ends(c)
	return end.Add(-end.Sub(c.Leaf.NotBefore) / 3)
}

// get returns the kept certificate, or a new one where that is due. An order that fails leaves the kept one as it is.
func (o *order) get(ctx context.Context, now time.Time) (*tls.Certificate, error) {
	if kept, err := o.kept(); err == nil && now.Before(renewAt(kept)) {
		return kept, nil
	}
	ctx, done := context.WithTimeout(ctx, orderTime)
	defer done()
	c, err := o.obtain(ctx, now)
	if err != nil {
		return nil, fmt.Errorf("the ACME directory %s: %w", o.Directory, directoryError(err))
	}
	if end := ends(c); !now.Before(renewAt(c)) {
		return c, fmt.Errorf("the ACME directory %s: its new certificate ends on %s already", o.Directory, end.UTC().Format(time.RFC3339))
	}
	return c, nil
}

// directoryError returns what a directory has said, as one line.
func directoryError(err error) error {
	var refused *acme.Error
	if errors.As(err, &refused) {
		return fmt.Errorf("it refuses: %s", wiretext.Line(refused.Detail, 200))
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("it has not answered within %s", orderTime)
	}
	return errors.New(wiretext.Line(err.Error(), 300))
}

func (o *order) file(name string) string { return filepath.Join(o.Data, "acme", name) }

// kept reads the certificate that was got last, if it is one for the host that has not ended.
func (o *order) kept() (*tls.Certificate, error) {
	path := o.file("certificate.pem")
	c, err := tls.LoadX509KeyPair(path, path)
	if err != nil {
		return nil, err
	}
	have, err := parsed(c)
	if err != nil {
		return nil, err
	}
	if !o.Now().Before(ends(have)) {
		return nil, errors.New("it has ended")
	}
	return have, have.Leaf.VerifyHostname(o.Host)
}

// client speaks to the directory with the account's key, which is made with the first order.
func (o *order) client(ctx context.Context) (*acme.Client, error) {
	key, err := o.accountKey()
	if err != nil {
		return nil, err
	}
	transport := &http.Transport{TLSClientConfig: &tls.Config{RootCAs: o.Roots, MinVersion: tls.VersionTLS12},
		Proxy:                 http.ProxyFromEnvironment,
		ResponseHeaderTimeout: 30 * time.Second, MaxResponseHeaderBytes: 64 << 10, DisableKeepAlives: true}
	c := &acme.Client{Key: key, DirectoryURL: o.Directory, UserAgent: "unlatch",
		HTTPClient: &http.Client{Transport: bounded{transport}, Timeout: 30 * time.Second,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	account := &acme.Account{}
	if o.Mail != "" {
		account.Contact = []string{"mailto:" + o.Mail}
	}
	if _, err := c.Register(ctx, account, acme.AcceptTOS); err != nil && !errors.Is(err, acme.ErrAccountAlreadyExists) {
		return nil, err
	}
	return c, nil
}

func (o *order) accountKey() (crypto.Signer, error) {
	path := o.file("account.pem")
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		if raw, err = pemKey(key); err != nil {
			return nil, err
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		return key, replace(path, raw, 0o600)
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(raw)
	if block == nil {
		return nil, fmt.Errorf("%s is damaged: remove it to have a new account made", path)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	signer, ok := key.(crypto.Signer)
	if err != nil || !ok {
		return nil, fmt.Errorf("%s is damaged: remove it to have a new account made", path)
	}
	return signer, nil
}

// obtain orders a certificate, proves that the host is this server's, and keeps what comes.
func (o *order) obtain(ctx context.Context, now time.Time) (*tls.Certificate, error) {
	c, err := o.client(ctx)
	if err != nil {
		return nil, err
	}
	made, err := c.AuthorizeOrder(ctx, acme.DomainIDs(o.Host))
	if err != nil {
		return nil, err
	}
	for _, at := range made.AuthzURLs {
		if err := o.prove(ctx, c, at); err != nil {
			return nil, err
		}
	}
	if made, err = c.WaitOrder(ctx, made.URI); err != nil {
		return nil, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{o.Host}}, key)
	if err != nil {
		return nil, err
	}
	chain, _, err := c.CreateOrderCert(ctx, made.FinalizeURL, request, true)
	if err != nil {
		return nil, err
	}
	return o.keep(chain, key, now)
}

// keep checks a chain and writes it with its key.
func (o *order) keep(chain [][]byte, key *ecdsa.PrivateKey, now time.Time) (*tls.Certificate, error) {
	if len(chain) == 0 {
		return nil, errors.New("it gave no certificate")
	}
	leaf, err := x509.ParseCertificate(chain[0])
	if err != nil {
		return nil, fmt.Errorf("its certificate cannot be read: %w", err)
	}
	if public, ok := leaf.PublicKey.(*ecdsa.PublicKey); !ok || !public.Equal(&key.PublicKey) {
		return nil, errors.New("its certificate is for another key")
	}
	if err := leaf.VerifyHostname(o.Host); err != nil {
		return nil, fmt.Errorf("its certificate is for somebody else: %w", err)
	}
	c := &tls.Certificate{Certificate: chain, PrivateKey: key, Leaf: leaf}
	if end := ends(c); !end.After(now) || leaf.NotBefore.After(now) {
		return nil, fmt.Errorf("its certificate is good from %s to %s, which is of no use", leaf.NotBefore.UTC().Format(time.RFC3339),
			end.UTC().Format(time.RFC3339))
	}
	var out bytes.Buffer
	for _, der := range chain {
		pem.Encode(&out, &pem.Block{Type: "CERTIFICATE", Bytes: der})
	}
	raw, err := pemKey(key)
	if err != nil {
		return nil, err
	}
	out.Write(raw)
	if err := replace(o.file("certificate.pem"), out.Bytes(), 0o600); err != nil {
		return nil, err
	}
	return c, nil
}

// prove answers a directory that wants to see that the host is this server's.
func (o *order) prove(ctx context.Context, c *acme.Client, at string) error {
	z, err := c.GetAuthorization(ctx, at)
	if err != nil || z.Status == acme.StatusValid {
		return err
	}
	kind := "tls-alpn-01"
	if o.ByHTTP {
		kind = "http-01"
	}
	i := slices.IndexFunc(z.Challenges, func(x *acme.Challenge) bool { return x.Type == kind })
	if i < 0 {
		return fmt.Errorf("it offers no challenge of kind %s", kind)
	}
	x := z.Challenges[i]
	forget, err := o.show(c, x)
	if err != nil {
		return err
	}
	defer forget()
	if _, err := c.Accept(ctx, x); err != nil {
		return err
	}
	if _, err = c.WaitAuthorization(ctx, z.URI); err == nil {
		return nil
	}
	var failed *acme.AuthorizationError
	if errors.As(err, &failed) && len(failed.Errors) > 0 {
		return failed.Errors[0]
	}
	return err
}

// show has the answer to a challenge ready until forget is called.
func (o *order) show(c *acme.Client, x *acme.Challenge) (forget func(), err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if x.Type == "http-01" {
		text, err := c.HTTP01ChallengeResponse(x.Token)
		o.tokens[x.Token] = text
		return func() {
			o.mu.Lock()
			defer o.mu.Unlock()
			delete(o.tokens, x.Token)
		}, err
	}
	shown, err := c.TLSALPN01ChallengeCert(x.Token, o.Host)
	o.shown = &shown
	return func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.shown = nil
	}, err
}

// overTLS returns the answer to a directory that asks back by TLS; nil for every other handshake.
func (o *order) overTLS(hello *tls.ClientHelloInfo) *tls.Certificate {
	if len(hello.SupportedProtos) != 1 || hello.SupportedProtos[0] != acme.ALPNProto {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.shown
}

// Protocols returns what a server offers in its handshakes (RFC 7301).
func (k *Keeper) Protocols() []string {
	if o, ok := k.from.(*order); ok && !o.ByHTTP {
		return []string{"http/1.1", acme.ALPNProto}
	}
	return []string{"http/1.1"}
}

// bounded cuts answers off that are larger than any that a directory has reason to give.
type bounded struct{ http.RoundTripper }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := b.RoundTripper.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	res.Body = http.MaxBytesReader(nil, res.Body, mostOfAnswer)
	return res, nil
}
