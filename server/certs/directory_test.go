package certs_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/acme"
)

// A directory is a small ACME server (RFC 8555) with one account and one order at a time. It checks signatures and really asks back.
type directory struct {
	t      *testing.T
	url    string
	roots  *x509.CertPool // trust the directory's server and what it issues
	ca     *ecdsa.PrivateKey
	root   *x509.Certificate
	offers string // the kind of challenge
	host   string // where it asks back: HTTP or TLS, by what it offers

	mu       sync.Mutex
	account  *ecdsa.PublicKey
	token    string
	proven   string // "", "valid" or "invalid"
	chain    []byte
	orders   int
	life     time.Duration // of certificates
	middle   time.Duration // of an intermediate certificate; 0 for none
	lie      string        // another name, or "key" for another key, in certificates
	refuse   string        // why it refuses orders; "" where it does not
	slow     time.Duration
	oversize bool
}

func newDirectory(t *testing.T, offers string) *directory {
	d := &directory{t: t, offers: offers, life: 90 * 24 * time.Hour}
	var err error
	d.ca, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "A small directory"}, IsCA: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(10, 0, 0), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &d.ca.PublicKey, d.ca)
	require.NoError(t, err)
	d.root, err = x509.ParseCertificate(der)
	require.NoError(t, err)
	mux := http.NewServeMux()
	mux.HandleFunc("/directory", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-time.After(d.slow):
		case <-r.Context().Done():
		}
		if d.oversize {
			for range 64 {
				w.Write(make([]byte, 1<<20))
			}
			return
		}
		json.NewEncoder(w).Encode(map[string]string{"newNonce": d.url + "/nonce", "newAccount": d.url + "/account", "newOrder": d.url + "/order"})
	})
	mux.HandleFunc("/nonce", func(http.ResponseWriter, *http.Request) {})
	for path, answer := range map[string]func(payload []byte) (status int, location string, body any){
		"/account": d.newAccount, "/order": d.newOrder, "/order/1": d.orderOne, "/authz/1": d.authorization,
		"/challenge/1": d.challenge, "/finalize/1": d.finalize, "/cert/1": nil,
	} {
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) { d.signed(w, r, answer) })
	}
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Replay-Nonce", rand.Text())
		mux.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	d.url, d.roots = server.URL, x509.NewCertPool()
	d.roots.AddCert(server.Certificate())
	d.roots.AddCert(d.root)
	return d
}

type problemBody struct {
	Type   string `json:"type"`
	Detail string `json:"detail"`
}

// signed checks the signature of a request (RFC 7515) and answers it.
func (d *directory) signed(w http.ResponseWriter, r *http.Request, answer func([]byte) (int, string, any)) {
	var jws struct{ Protected, Payload, Signature string }
	if !assert.NoError(d.t, json.NewDecoder(r.Body).Decode(&jws)) {
		return
	}
	head, err := base64.RawURLEncoding.DecodeString(jws.Protected)
	assert.NoError(d.t, err)
	var of struct {
		Alg, Kid, URL, Nonce string
		JWK                  *struct{ X, Y string }
	}
	assert.NoError(d.t, json.Unmarshal(head, &of))
	assert.Equal(d.t, "ES256", of.Alg)
	assert.Equal(d.t, d.url+r.URL.Path, of.URL)
	d.mu.Lock()
	defer d.mu.Unlock()
	if of.JWK != nil {
		x, _ := base64.RawURLEncoding.DecodeString(of.JWK.X)
		y, _ := base64.RawURLEncoding.DecodeString(of.JWK.Y)
		d.account, err = ecdsa.ParseUncompressedPublicKey(elliptic.P256(), slices.Concat([]byte{4}, x, y))
		assert.NoError(d.t, err)
	}
	signature, _ := base64.RawURLEncoding.DecodeString(jws.Signature)
	sum := sha256.Sum256([]byte(jws.Protected + "." + jws.Payload))
	if !assert.Len(d.t, signature, 64) || !assert.True(d.t, d.account != nil && ecdsa.Verify(d.account, sum[:],
		new(big.Int).SetBytes(signature[:32]), new(big.Int).SetBytes(signature[32:])), "signed by the account") {
		return
	}
	if answer == nil {
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		w.Write(d.chain)
		return
	}
	payload, _ := base64.RawURLEncoding.DecodeString(jws.Payload)
	status, location, body := answer(payload)
	if location != "" {
		w.Header().Set("Location", d.url+location)
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body)
}

func (d *directory) newAccount([]byte) (int, string, any) {
	return 201, "/account/1", map[string]string{"status": "valid"}
}

func (d *directory) newOrder([]byte) (int, string, any) {
	d.orders++
	if d.refuse != "" {
		return 403, "", problemBody{"urn:ietf:params:acme:error:rejectedIdentifier", d.refuse}
	}
	d.token, d.proven, d.chain = rand.Text(), "", nil
	return 201, "/order/1", d.order()
}

func (d *directory) orderOne([]byte) (int, string, any) { return 200, "/order/1", d.order() }

func (d *directory) order() any {
	status := map[string]string{"": "pending", "valid": "ready", "invalid": "invalid"}[d.proven]
	o := map[string]any{"status": status, "authorizations": []string{d.url + "/authz/1"}, "finalize": d.url + "/finalize/1",
		"identifiers": []map[string]string{{"type": "dns", "value": "bench.example"}}}
	if d.chain != nil {
		o["status"], o["certificate"] = "valid", d.url+"/cert/1"
	}
	return o
}

func (d *directory) theChallenge() map[string]any {
	c := map[string]any{"type": d.offers, "url": d.url + "/challenge/1", "token": d.token, "status": "pending"}
	if d.proven != "" {
		c["status"] = d.proven
	}
	if d.proven == "invalid" {
		c["error"] = problemBody{"urn:ietf:params:acme:error:unauthorized", "the answer there is another's"}
	}
	return c
}

func (d *directory) authorization([]byte) (int, string, any) {
	status := d.proven
	if status == "" {
		status = "pending"
	}
	return 200, "", map[string]any{"status": status, "identifier": map[string]string{"type": "dns", "value": "bench.example"},
		"challenges": []any{d.theChallenge()}}
}

// challenge asks back, as the directory of an authority does.
func (d *directory) challenge([]byte) (int, string, any) {
	d.proven = "invalid"
	thumb, _ := acme.JWKThumbprint(d.account)
	want := d.token + "." + thumb
	if d.offers == "http-01" {
		if res, err := http.Get("http://" + d.host + "/.well-known/acme-challenge/" + d.token); err == nil {
			got, _ := io.ReadAll(res.Body)
			res.Body.Close()
			if strings.TrimSpace(string(got)) == want {
				d.proven = "valid"
			}
		}
	} else if conn, err := tls.Dial("tcp", d.host, &tls.Config{InsecureSkipVerify: true, ServerName: "bench.example",
		NextProtos: []string{acme.ALPNProto}}); err == nil {
		sum := sha256.Sum256([]byte(want))
		for _, x := range conn.ConnectionState().PeerCertificates[0].Extensions {
			if x.Critical && strings.HasSuffix(string(x.Value), string(sum[:])) { // RFC 8737 §3
				d.proven = "valid"
			}
		}
		conn.Close()
	}
	return 200, "", d.theChallenge()
}

func (d *directory) finalize(payload []byte) (int, string, any) {
	var in struct{ CSR string }
	assert.NoError(d.t, json.Unmarshal(payload, &in))
	der, _ := base64.RawURLEncoding.DecodeString(in.CSR)
	request, err := x509.ParseCertificateRequest(der)
	if !assert.NoError(d.t, err) || !assert.NoError(d.t, request.CheckSignature()) {
		return 400, "", problemBody{Detail: "no request"}
	}
	assert.Equal(d.t, []string{"bench.example"}, request.DNSNames)
	names, public := request.DNSNames, request.PublicKey
	switch d.lie {
	case "":
	case "key":
		other, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		public = &other.PublicKey
	default:
		names = []string{d.lie}
	}
	parent, key := d.root, d.ca
	var between []byte
	if d.middle > 0 {
		key, _ = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		parent, between = d.issue(&x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "Between"}, IsCA: true,
			BasicConstraintsValid: true, NotAfter: time.Now().Add(d.middle), KeyUsage: x509.KeyUsageCertSign}, d.root, &key.PublicKey, d.ca)
	}
	_, leaf := d.issue(&x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), DNSNames: names, NotAfter: time.Now().Add(d.life)},
		parent, public, key)
	d.chain = append(leaf, between...)
	return 200, "/order/1", d.order()
}

func (d *directory) issue(x, parent *x509.Certificate, public any, key *ecdsa.PrivateKey) (*x509.Certificate, []byte) {
	x.NotBefore = time.Now().Add(-time.Minute)
	der, err := x509.CreateCertificate(rand.Reader, x, parent, public, key)
	assert.NoError(d.t, err)
	c, err := x509.ParseCertificate(der)
	assert.NoError(d.t, err)
	return c, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

// listen returns a free address on loopback with a listener on it.
func listen(t *testing.T) net.Listener {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l
}
