// Package redact takes secrets out of text before it is kept or shown: out of exchanges, evidence and progress. It is the one
// place where that is done. It knows the places in which protocols carry a secret, and, once told, the secrets in use in each
// spelling in which they go over a wire, so that a device that repeats a password somewhere else does not publish it.
package redact

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"

	"unlatch/core/ground/signin"
)

// Mark stands where a secret was.
const Mark = "•••"

// Shortest is the length in bytes from which on a known secret is looked for anywhere in a text. A shorter one is taken out of
// the places that protocols have for it and of no others: it would be found in half of all words.
const Shortest = 4

// A Redactor knows secrets. The zero value knows none; a nil *Redactor redacts the usual places all the same.
type Redactor struct {
	mu    sync.RWMutex
	forms []string // longest first
}

// Know adds the secret of a sign-in in its spellings: plain, percent-encoded (RFC 3986 §2.1, and as HTML forms do), as XML and
// JSON text, base64 and hexadecimal, alone and as "user:secret" (RFC 7617 §2).
func (r *Redactor) Know(in signin.SignIn) {
	secret := in.Secret.Reveal()
	if r == nil || len(secret) < Shortest {
		return
	}
	forms := []string{secret, url.QueryEscape(secret), url.PathEscape(secret), hex.EncodeToString([]byte(secret))}
	var x bytes.Buffer
	xml.EscapeText(&x, []byte(secret))
	forms = append(forms, x.String())
	if j, err := json.Marshal(secret); err == nil {
		forms = append(forms, strings.Trim(string(j), `"`))
	}
	for _, text := range []string{secret, in.User + ":" + secret} {
		for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			forms = append(forms, e.EncodeToString([]byte(text)))
		}
	}
	forms = append(forms, strings.ToUpper(forms[3]), percentAll(secret))
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, f := range forms {
		if len(f) >= Shortest && !slices.Contains(r.forms, f) {
			r.forms = append(r.forms, f)
		}
	}
	slices.SortStableFunc(r.forms, func(a, b string) int { return len(b) - len(a) })
}

// percentAll encodes everything but the unreserved characters of RFC 3986 §2.3, as stream URLs do here.
func percentAll(s string) string {
	return strings.ReplaceAll(url.QueryEscape(s), "+", "%20")
}

var (
	authLine   = regexp.MustCompile(`(?mi)^((?:proxy-)?authorization:[ \t]*)(.*)$`)
	authSecret = regexp.MustCompile(`(?i)(response|cnonce)="[^"]*"`)
	xmlSecret  = regexp.MustCompile(`(?s)(<(?:[\w.-]+:)?(?:Password|Nonce)(?:\s[^>]*)?>).*?(</|\z)`)
	userInfo   = regexp.MustCompile(`(://)[^/\s"'<>]+@`)
	query      = regexp.MustCompile(`(?i)([?&;](?:` + strings.Join(secretNames, "|") + `)=)[^&;\s"'<>#]*`)
	// ingest is what stands behind the application of an RTMP address: platforms write the stream key there.
	ingest = regexp.MustCompile(`(?i)(rtmps?://[^/\s"'<>]+/[^/?\s"'<>]+)[/?][^\s"'<>]+`)
)

var word = regexp.MustCompile(`^[a-z_]*$`)

// secretNames are the query parameters in which devices are known to carry a secret.
var secretNames = []string{"password", "passwd", "passwort", "pass", "pwd", "psw", "pw", "secret", "token", "auth", "authbasic",
	"authorization", "apikey", "api_key",
	"access_token", "credential", "credentials", "loginpas", "loginpass", "userpwd", "userpass", "user_pass",
	"usr_pwd", "session", "sessionid"}

// IsSecretName reports whether a query parameter of this name usually carries a secret.
func IsSecretName(name string) bool {
	return slices.Contains(secretNames, strings.ToLower(name))
}

// Text returns s without secrets.
func (r *Redactor) Text(s string) string { return r.hideKnown(hidePlaces(s, lookFor(s))) }

// hidePlaces hides the secrets in some of the places where protocols carry them.
func hidePlaces(s string, at places) string {
	if at.auth {
		s = authLine.ReplaceAllStringFunc(s, func(line string) string {
			m := authLine.FindStringSubmatch(line)
			if strings.HasPrefix(strings.ToLower(m[2]), "digest") {
				return m[1] + authSecret.ReplaceAllString(m[2], `$1="`+Mark+`"`)
			}
			scheme, _, _ := strings.Cut(m[2], " ")
			return m[1] + scheme + " " + Mark
		})
	}
	if at.xml {
		s = xmlSecret.ReplaceAllString(s, "${1}"+Mark+"${2}")
	}
	if at.user {
		s = userInfo.ReplaceAllString(s, "${1}"+Mark+"@")
	}
	if at.query {
		s = query.ReplaceAllString(s, "${1}"+Mark)
	}
	if at.ingest {
		s = ingest.ReplaceAllString(s, "${1}/"+Mark)
	}
	return s
}

func (r *Redactor) hideKnown(s string) string {
	if r == nil {
		return s
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, f := range r.forms {
		s = strings.ReplaceAll(s, f, Mark)
	}
	return s
}

// Text redacts what stands in the usual places, for text that no sign-in was used for.
func Text(s string) string { return (*Redactor)(nil).Text(s) }

// JSON redacts the string values of a JSON document and leaves its names, numbers and shape as they are. A value that is one
// lower-case word and nothing else stays: it may be a word of the document's own vocabulary, such as "main" or "camera", which
// somebody has taken for a password too. Text that is no JSON comes back as it was.
func (r *Redactor) JSON(raw []byte) []byte {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil {
		return raw
	}
	out, changed := r.walk(v)
	if !changed {
		return raw
	}
	text, err := json.Marshal(out)
	if err != nil {
		return raw
	}
	return text
}

func (r *Redactor) walk(v any) (out any, changed bool) {
	switch v := v.(type) {
	case string:
		if word.MatchString(v) {
			return v, false
		}
		s := r.Text(v)
		return s, s != v
	case []any:
		for i := range v {
			x, c := r.walk(v[i])
			v[i], changed = x, changed || c
		}
		return v, changed
	case map[string]any:
		for k := range v {
			x, c := r.walk(v[k])
			v[k], changed = x, changed || c
		}
		return v, changed
	}
	return v, false
}
