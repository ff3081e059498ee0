package camlist

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"text/template"

	"unlatch/core/ground/table"
)

// functions returns all that a template may call. Those of text/template that could make text without end are replaced.
func functions(r *run) template.FuncMap {
	gone := func(name string) any {
		return func(...any) (string, error) {
			return "", fmt.Errorf("%s is not among the functions of a template", name)
		}
	}
	return template.FuncMap{
		"tick": r.tick,
		// Text.
		"upper": r.boundedFunction(strings.ToUpper), "lower": r.boundedFunction(strings.ToLower), "trim": r.boundedFunction(strings.TrimSpace),
		"replace": func(from, to string, s any) (string, error) { return r.replace(from, to, text(s)) },
		"default": func(other, v any) any {
			if text(v) == "" || text(v) == "0" {
				return other
			}
			return v
		},
		"pad":  func(width int, v any) (string, error) { return r.pad(width, text(v)) },
		"join": r.join,
		"add":  func(a, b int) int { return a + b },
		// Formats: each writes a value so that it reads back as it is.
		"csv": r.boundedFunction(csvField), "json": r.json, "yaml": r.json, "xml": r.xml,
		"ini": r.boundedFunction(iniValue), "m3u": r.boundedFunction(line),
		"url":     r.boundedFunction(url.QueryEscape),
		"print":   func(v ...any) (string, error) { return r.made(fmt.Sprint(v...)) },
		"println": func(v ...any) (string, error) { return r.made(fmt.Sprintln(v...)) },
		"printf":  gone("printf"), "call": gone("call"), "html": gone("html"), "js": gone("js"), "urlquery": gone("urlquery"),
	}
}

func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

var (
	errLong = errors.New("a value that is too long")
	errMade = fmt.Errorf("more than %d MB of values", maxMade>>20)
)

// make counts n bytes that a function is about to make: whatever becomes of them, they cost time and memory.
func (r *run) make(n int) error {
	if n > maxText {
		return errLong
	}
	if r.bytes += n; r.bytes > maxMade {
		return errMade
	}
	return nil
}

// made counts a value that was made.
func (r *run) made(s string) (string, error) { return s, r.make(len(s)) }

// boundedFunction makes a function of a template of boundedFunction that makes no more than a few times its argument.
func (r *run) boundedFunction(f func(string) string) func(any) (string, error) {
	return func(v any) (string, error) {
		s := text(v)
		if len(s) > maxText {
			return "", errLong
		}
		return r.made(f(s))
	}
}

func (r *run) replace(from, to, s string) (string, error) {
	if len(s) > maxText {
		return "", errLong
	}
	if err := r.make(len(s) + strings.Count(s, from)*(len(to)-len(from))); err != nil {
		return "", err
	}
	return strings.ReplaceAll(s, from, to), nil
}

func (r *run) pad(width int, s string) (string, error) {
	if width < 0 || width > 200 {
		return "", errors.New("pad takes a width from 0 to 200")
	}
	return r.made(s + strings.Repeat(" ", max(0, width-len([]rune(s)))))
}

func (r *run) join(sep string, parts ...any) (string, error) {
	var out []string
	n := 0
	for _, p := range parts {
		if s := text(p); s != "" {
			out = append(out, s)
			n += len(s) + len(sep)
		}
	}
	if err := r.make(n); err != nil {
		return "", err
	}
	return strings.Join(out, sep), nil
}

// csvField quotes a field where it has to be (RFC 4180), and keeps a spreadsheet from taking it for a formula.
func csvField(s string) string {
	s = table.Inert(s)
	if strings.ContainsAny(s, ",\"\r\n;") {
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	}
	return s
}

// json returns a value in JSON, which is YAML as well.
func (r *run) json(v any) (string, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	return r.made(string(raw))
}

func (r *run) xml(v any) (string, error) {
	var b strings.Builder
	if err := xml.EscapeText(&b, []byte(text(v))); err != nil {
		return "", err
	}
	return r.made(b.String())
}

// iniValue returns a value on one line; one with blanks around it or a comment sign in it is quoted.
func iniValue(s string) string {
	s = line(s)
	if s != strings.TrimSpace(s) || strings.ContainsAny(s, ";#\"=") {
		return `"` + strings.ReplaceAll(s, `"`, `\"`) + `"`
	}
	return s
}

// line is text on one line: a line break in a name must not begin an entry of its own.
func line(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r == '\r' || r == '\n' || r == 0x2028 || r == 0x2029 }), " ")
}
