package recipe

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"unicode"
)

// placeholder stands where a value goes: {name}, or {name:raw} for a JSON number, true or false.
var placeholder = regexp.MustCompile(`\{([a-z][a-z0-9_]{0,39})(:raw)?\}`)

// tokenName is the placeholder for what a device gives on a page before it takes a request.
const tokenName = "token"

// maxToken bounds a token, in bytes.
const maxToken = 400

// An Exact is a request as it goes out, without the lines that every request has.
type Exact struct {
	Method string
	Target string // path and query
	Header []Field
	Body   []byte
	OK     Success
}

// String returns the request as it goes to a host, line by line: what a dry run shows. A sign-in is not in it.
func (x Exact) String(host string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s HTTP/1.1\nHost: %s\n", x.Method, x.Target, host)
	for _, f := range x.Header {
		fmt.Fprintf(&b, "%s: %s\n", f.Name, f.Value)
	}
	if len(x.Body) > 0 {
		fmt.Fprintf(&b, "Content-Length: %d\n\n%s\n", len(x.Body), x.Body)
	}
	return b.String()
}

// Fill returns the requests that set values, or undo them. Each value is escaped for the place where it stands, so that none can become
// another header, another parameter or another request. token is "" where the device wants none. The error is a *SettingError.
func (c *Command) Fill(list []Request, values map[string]string, token string) (out []Exact, err error) {
	if err := c.Check(values); err != nil {
		return nil, err
	}
	if len(token) > maxToken || strings.ContainsFunc(token, unicode.IsControl) {
		return nil, &SettingError{tokenName, "that the device gives is longer than any, or holds control characters"}
	}
	sent := map[string]string{tokenName: token}
	for _, v := range c.Values {
		sent[v.Name] = v.sent(values[v.Name])
	}
	for _, r := range list {
		x, err := r.fill(sent)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

func (r Request) fill(sent map[string]string) (x Exact, err error) {
	with := func(text string, escape func(string) string) string {
		return placeholder.ReplaceAllStringFunc(text, func(p string) string {
			name, _, _ := strings.Cut(p[1:len(p)-1], ":")
			return escape(sent[name])
		})
	}
	path, query, has := strings.Cut(r.Path, "?")
	x = Exact{Method: r.method(), Target: with(path, url.PathEscape), OK: r.OK}
	if has {
		x.Target += "?" + with(query, url.QueryEscape)
	}
	plain := func(s string) string { return s }
	for _, f := range r.Headers {
		v := with(f.Value, plain)
		if strings.ContainsFunc(v, func(c rune) bool { return c < ' ' || c > '~' }) {
			return x, &SettingError{f.Name, "is a header, which takes printable ASCII characters alone"}
		}
		x.Header = append(x.Header, Field{f.Name, v})
	}
	kind := ""
	switch {
	case len(r.Form) > 0:
		var parts []string
		for _, f := range r.Form {
			parts = append(parts, url.QueryEscape(f.Name)+"="+url.QueryEscape(with(f.Value, plain)))
		}
		kind, x.Body = "application/x-www-form-urlencoded", []byte(strings.Join(parts, "&"))
	case r.JSON != "":
		kind = "application/json"
		x.Body, err = fillJSON(r.JSON, sent, with)
	case r.XML != "":
		kind = "application/xml"
		x.Body = []byte(with(r.XML, func(s string) string {
			var b bytes.Buffer
			xml.EscapeText(&b, []byte(s))
			return b.String()
		}))
	}
	if kind != "" {
		x.Header = append(x.Header, Field{"Content-Type", kind})
	}
	return x, err
}

// method returns the request's method.
func (r Request) method() string {
	switch {
	case r.Method != "":
		return r.Method
	case len(r.Form) > 0 || r.JSON != "" || r.XML != "":
		return "POST"
	}
	return "GET"
}

// fillJSON puts values into the strings of a document, token by token, so that its order stays.
func fillJSON(text string, sent map[string]string, with func(string, func(string) string) string) ([]byte, error) {
	var failed error
	fill := func(s string) string {
		var plain string
		if json.Unmarshal([]byte(s), &plain) != nil {
			return s
		}
		if m := placeholder.FindStringSubmatch(plain); m != nil && m[2] != "" && m[0] == plain {
			raw := sent[m[1]]
			if _, err := strconv.ParseFloat(raw, 64); (err != nil || !json.Valid([]byte(raw))) && raw != "true" && raw != "false" {
				failed = &SettingError{m[1], "is no number, true or false, as the device wants it here"}
			}
			return raw
		}
		out, err := json.Marshal(with(plain, func(v string) string { return v }))
		failed = errors.Join(failed, err)
		return string(out)
	}
	return []byte(jsonString.ReplaceAllStringFunc(text, fill)), failed
}

// jsonString is a string of a JSON document (RFC 8259 §7).
var jsonString = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)
