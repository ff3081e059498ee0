package httpauth

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"strings"
)

// An Answer signs requests in answer to one challenge. It counts the uses of the nonce (RFC 7616 §3.4) and is
// not safe for concurrent use.
type Answer struct {
	challenge    Challenge
	user, secret string
	cnonce       string
	uses         int
}

// NewAnswer prepares answers to c for a sign-in.
func NewAnswer(c Challenge, user, secret string) *Answer {
	raw := make([]byte, 12)
	rand.Read(raw)
	return &Answer{challenge: c, user: user, secret: secret, cnonce: hex.EncodeToString(raw)}
}

// Scheme returns the challenge's name for people.
func (a *Answer) Scheme() string { return a.challenge.Name() }

// OutOfDate reports whether a challenge that came in answer to a says that nothing but its nonce was too old (RFC 7616 §3.3, stale).
// One that calls the very nonce stale that it gives again is a refusal: answering it would send the same wrong sign-in without end.
func (a *Answer) OutOfDate(c Challenge) bool {
	return c.Stale() && c.Params["nonce"] != a.challenge.Params["nonce"]
}

// Header returns the value of the Authorization line for one request. The uri must be exactly what stands on the
// request line: devices compare the two as text.
func (a *Answer) Header(method, uri string) string {
	if a.challenge.Scheme == "basic" {
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(a.user+":"+a.secret))
	}
	a.uses++
	p := a.challenge.Params
	d := digest{
		algorithm: a.challenge.Algorithm(), user: a.user, realm: p["realm"], secret: a.secret, nonce: p["nonce"],
		method: method, uri: uri, cnonce: a.cnonce, nc: fmt.Sprintf("%08x", a.uses),
	}
	if offersAuth(p["qop"]) {
		d.qop = "auth"
	}
	var b strings.Builder
	fmt.Fprintf(&b, `Digest username=%s, realm=%s, nonce=%s, uri=%s, response="%s"`,
		quote(a.user), quote(p["realm"]), quote(p["nonce"]), quote(uri), d.response())
	if p["algorithm"] != "" {
		fmt.Fprintf(&b, `, algorithm=%s`, p["algorithm"])
	}
	if _, ok := p["opaque"]; ok {
		fmt.Fprintf(&b, `, opaque=%s`, quote(p["opaque"]))
	}
	if d.qop != "" || d.session() {
		fmt.Fprintf(&b, `, cnonce="%s"`, d.cnonce)
	}
	if d.qop != "" {
		fmt.Fprintf(&b, `, qop=%s, nc=%s`, d.qop, d.nc)
	}
	return b.String()
}

// offersAuth reports whether a qop list offers plain "auth"; without a qop the older RFC 2069 form is used.
func offersAuth(qop string) bool {
	for _, q := range strings.Split(qop, ",") {
		if strings.EqualFold(strings.TrimSpace(q), "auth") {
			return true
		}
	}
	return false
}

// quoted escapes what a quoted string (RFC 9110 §5.6.4) may not hold, and drops line ends.
var quoted = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\r", "", "\n", "")

func quote(s string) string {
	return `"` + quoted.Replace(s) + `"`
}

type digest struct {
	algorithm, user, realm, secret, nonce, method, uri, cnonce, nc, qop string
}

func (d digest) session() bool { return strings.HasSuffix(strings.ToUpper(d.algorithm), "-SESS") }

// response computes RFC 7616 §3.4.1.
func (d digest) response() string {
	var fresh func() hash.Hash = md5.New
	if strings.HasPrefix(strings.ToUpper(d.algorithm), "SHA-256") {
		fresh = sha256.New
	}
	h := func(parts ...string) string {
		sum := fresh()
		sum.Write([]byte(strings.Join(parts, ":")))
		return hex.EncodeToString(sum.Sum(nil))
	}
	ha1 := h(d.user, d.realm, d.secret)
	if d.session() {
		ha1 = h(ha1, d.nonce, d.cnonce)
	}
	ha2 := h(d.method, d.uri)
	if d.qop == "" {
		return h(ha1, d.nonce, ha2)
	}
	return h(ha1, d.nonce, d.nc, d.cnonce, d.qop, ha2)
}

// Check is the server's side of a challenge: it reports whether an Authorization value answers challenge c for the sign-in that
// lookup returns for its user name. The caller compares the nonce's age.
func Check(authorization string, c Challenge, method string, lookup func(user string) (secret string, ok bool)) (user string, ok bool) {
	given := parseLine(authorization)
	if len(given) == 0 || given[0].Scheme != c.Scheme {
		return basicCheck(authorization, c, lookup)
	}
	if c.Scheme != "digest" {
		return basicCheck(authorization, c, lookup)
	}
	p := given[0].Params
	secret, known := lookup(p["username"])
	d := digest{
		algorithm: c.Algorithm(), user: p["username"], realm: c.Realm(), secret: secret, nonce: p["nonce"],
		method: method, uri: p["uri"], cnonce: p["cnonce"], nc: p["nc"], qop: p["qop"],
	}
	same := subtle.ConstantTimeCompare([]byte(d.response()), []byte(p["response"])) == 1
	return p["username"], known && same && p["nonce"] == c.Params["nonce"]
}

func basicCheck(authorization string, c Challenge, lookup func(string) (string, bool)) (string, bool) {
	scheme, coded, _ := strings.Cut(authorization, " ")
	if c.Scheme != "basic" || !strings.EqualFold(scheme, "basic") {
		return "", false
	}
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(coded))
	if err != nil {
		return "", false
	}
	user, secret, _ := strings.Cut(string(raw), ":")
	want, known := lookup(user)
	return user, known && subtle.ConstantTimeCompare([]byte(secret), []byte(want)) == 1
}
