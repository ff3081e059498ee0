package recipe

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// An example request in parts: those that hold values, and what stands between them.
type exampleRequest struct {
	method string
	kind   string // of the body: "form", "json", "xml" or ""
	parts  []piece
}

// A piece is a part of a request as it is written there.
type piece struct {
	section string // "path", "query", "header", or the kind of the body
	where   string // of a value
	text    string
	value   bool
	quoted  bool // a JSON string
}

// plain returns a value without what the place where it stands has put around it.
func (p piece) plain() string {
	switch p.section {
	case "path":
		if s, err := url.PathUnescape(p.text); err == nil {
			return s
		}
	case "query", "form":
		if s, err := url.QueryUnescape(p.text); err == nil {
			return s
		}
	case "json":
		var s string
		if p.quoted && json.Unmarshal([]byte(p.text), &s) == nil {
			return s
		}
	}
	return p.text
}

// becomes puts a placeholder in place of a value.
func (p *piece) becomes(text string) {
	if p.text = text; p.section == "json" {
		p.text = `"` + text + `"`
	}
}

// skeleton is what stands between the values.
func (r *exampleRequest) skeleton() (out []string) {
	for _, p := range r.parts {
		if p.value {
			out = append(out, "")
		} else {
			out = append(out, p.section+p.text)
		}
	}
	return out
}

// join puts the parts of a section together again.
func (r *exampleRequest) join(section string) string {
	var b strings.Builder
	for _, p := range r.parts {
		if p.section == section {
			b.WriteString(p.text)
		}
	}
	return b.String()
}

// request returns it as a command has it.
func (r *exampleRequest) request() Request {
	q := Request{Method: r.method, Path: r.join("path")}
	if query := r.join("query"); query != "" {
		q.Path += "?" + query
	}
	for _, p := range r.parts {
		if p.section == "header" {
			q.Headers = append(q.Headers, Field{strings.TrimPrefix(p.where, "header "), p.text})
		}
	}
	switch r.kind {
	case "form":
		for pair := range strings.SplitSeq(r.join("form"), "&") {
			name, value, _ := strings.Cut(pair, "=")
			plain := func(s string) string {
				if out, err := url.QueryUnescape(s); err == nil {
					return out
				}
				return s
			}
			q.Form = append(q.Form, Field{plain(name), plain(value)})
		}
	case "json":
		q.JSON = r.join("json")
	case "xml":
		q.XML = r.join("xml")
	}
	if q.Method = ""; q.method() != r.method {
		q.Method = r.method
	}
	return q
}

// parseRequest reads a request as browsers and proxies give it for copying: the request itself, or a curl command. What signs in is left
// out. The error is a *LearnError.
func parseRequest(text string) (*exampleRequest, error) {
	text = strings.ReplaceAll(strings.TrimSpace(text), "\r\n", "\n")
	if strings.HasPrefix(text, "curl ") {
		text = fromCurl(text)
	}
	head, body, _ := strings.Cut(text, "\n\n")
	lines := strings.Split(head, "\n")
	words := strings.Fields(lines[0])
	if len(words) < 2 || !slices.Contains([]string{"GET", "POST", "PUT", "PATCH", "DELETE"}, words[0]) {
		return nil, &LearnError{"a request begins like POST /path HTTP/1.1, or with curl"}
	}
	target := words[1]
	if u, err := url.Parse(target); err == nil && u.IsAbs() {
		target = u.RequestURI()
	}
	if problem := badPath(target); problem != "" {
		return nil, &LearnError{problem}
	}
	r := &exampleRequest{method: words[0]}
	path, query, _ := strings.Cut(target, "?")
	r.split("path", path, pathPiece, func(n int, _ string) string { return fmt.Sprintf("path %d", n) })
	r.pairs("query", query)
	for _, l := range lines[1:] {
		name, value, ok := strings.Cut(l, ":")
		if ok && strings.HasPrefix(strings.ToLower(name), "x-") && headerName.MatchString(name) {
			r.parts = append(r.parts, piece{section: "header", where: "header " + name, text: strings.TrimSpace(value), value: true})
		}
	}
	r.body(strings.TrimSpace(body))
	for _, p := range r.parts {
		if p.value && secretPart(p.where) {
			return nil, &LearnError{fmt.Sprintf("the request holds a password (%s), which a command does not keep", p.where)}
		}
	}
	return r, nil
}

var (
	pathPiece = regexp.MustCompile(`[^/]+`)
	jsonPiece = regexp.MustCompile(`"(?:[^"\\]|\\.)*"|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|true|false|null`)
	xmlPiece  = regexp.MustCompile(`>[^<>]*[^<>\s][^<>]*<|="[^"]*"`)
)

// split parts a text at the pieces of a pattern, which are the values.
func (r *exampleRequest) split(section, text string, pattern *regexp.Regexp, where func(n int, before string) string) {
	at := 0
	for n, m := range pattern.FindAllStringIndex(text, -1) {
		r.parts = append(r.parts, piece{section: section, text: text[at:m[0]]},
			piece{section: section, where: where(n+1, text[:m[0]]), text: text[m[0]:m[1]], value: true})
		at = m[1]
	}
	r.parts = append(r.parts, piece{section: section, text: text[at:]})
}

// pairs parts name=value pairs.
func (r *exampleRequest) pairs(section, text string) {
	for i, pair := range strings.Split(text, "&") {
		name, value, ok := strings.Cut(pair, "=")
		before := name
		if i > 0 {
			before = "&" + before
		}
		if ok {
			before += "="
		}
		r.parts = append(r.parts, piece{section: section, text: before})
		if ok {
			r.parts = append(r.parts, piece{section: section, where: section + " " + name, text: value, value: true})
		}
	}
}

func (r *exampleRequest) body(text string) {
	switch {
	case text == "":
	case json.Valid([]byte(text)) && strings.ContainsAny(text[:1], "{["):
		r.kind = "json"
		at := 0
		key := "value"
		for _, m := range jsonPiece.FindAllStringIndex(text, -1) {
			found, after := text[m[0]:m[1]], strings.TrimLeft(text[m[1]:], " \t\n")
			if strings.HasPrefix(after, ":") && found[0] == '"' {
				key = strings.Trim(found, `"`)
				continue
			}
			r.parts = append(r.parts, piece{section: "json", text: text[at:m[0]]},
				piece{section: "json", where: "json " + key, text: found, value: true, quoted: found[0] == '"'})
			at = m[1]
		}
		r.parts = append(r.parts, piece{section: "json", text: text[at:]})
	case strings.HasPrefix(text, "<"):
		r.kind = "xml"
		at := 0
		for _, m := range xmlPiece.FindAllStringIndex(text, -1) {
			from, to := m[0]+1, m[1]-1
			if text[m[0]] == '=' {
				from++
			}
			r.parts = append(r.parts, piece{section: "xml", text: text[at:from]},
				piece{section: "xml", where: "xml " + lastName(text[:m[0]]), text: text[from:to], value: true})
			at = to
		}
		r.parts = append(r.parts, piece{section: "xml", text: text[at:]})
	default:
		r.kind = "form"
		r.pairs("form", text)
	}
}

// lastName returns the name of the element or attribute that ends before a value.
func lastName(before string) string {
	i := strings.LastIndexAny(before, "<\" \t\n/")
	return strings.Trim(before[i+1:], ">=")
}

// fromCurl turns a curl command into the request that it makes.
func fromCurl(text string) string {
	words := shellWords(text)
	method, at, body := "", "", ""
	var heads []string
	for i := 1; i < len(words); i++ {
		next := func() string {
			if i++; i < len(words) {
				return words[i]
			}
			return ""
		}
		switch w := words[i]; w {
		case "-X", "--request":
			method = next()
		case "-H", "--header":
			heads = append(heads, next())
		case "-d", "--data", "--data-raw", "--data-binary", "--data-ascii":
			if body != "" {
				body += "&"
			}
			body += next()
		case "-u", "--user", "-b", "--cookie", "-A", "-e", "-o", "--max-time", "-m":
			next()
		default:
			if !strings.HasPrefix(w, "-") && at == "" {
				at = w
			}
		}
	}
	if method == "" {
		method = http.MethodGet
		if body != "" {
			method = http.MethodPost
		}
	}
	return method + " " + at + " HTTP/1.1\n" + strings.Join(heads, "\n") + "\n\n" + body
}

// shellWords parts a command into words as a shell does, quotes and backslashes at line ends taken off.
func shellWords(text string) (words []string) {
	var b strings.Builder
	quote, open := rune(0), false
	escaped := false
	for _, c := range text {
		switch {
		case escaped:
			escaped = false
			if c != '\n' {
				b.WriteRune(c)
			}
		case c == '\\' && quote != '\'':
			escaped = true
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '\'' || c == '"'):
			quote, open = c, true
		case quote == 0 && (c == ' ' || c == '\n' || c == '\t'):
			if open || b.Len() > 0 {
				words = append(words, b.String())
			}
			b.Reset()
			open = false
		default:
			b.WriteRune(c)
		}
	}
	if open || b.Len() > 0 {
		words = append(words, b.String())
	}
	return words
}
