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
)

// functions are all that a template may call. Those of text/template that could make text without end are replaced.
func functions(r *run) template.FuncMap {
	gone := func(name string) any {
		return func(...any) (string, error) {
			return "", fmt.Errorf("%s is not among the functions of a template", name)
		}
	}
	return template.FuncMap{
		"tick": r.tick,
		// Text.
		"upper": one(strings.ToUpper), "lower": one(strings.ToLower), "trim": one(strings.TrimSpace),
		"replace": func(from, to string, s any) (string, error) { return short(strings.ReplaceAll(text(s), from, to)) },
		"default": func(other, v any) any {
			if text(v) == "" || text(v) == "0" {
				return other
			}
			return v
		},
		"pad":  func(width int, v any) (string, error) { return pad(width, text(v)) },
		"join": func(sep string, parts ...any) (string, error) { return short(join(sep, parts)) },
		"add":  func(a, b int) int { return a + b },
		// Formats: each writes a value so that it reads back as it is.
		"csv": one(csvField), "json": jsonValue, "yaml": jsonValue, "xml": xmlText, "ini": one(iniValue), "m3u": one(line), "url": one(url.QueryEscape),
		"print":   func(v ...any) (string, error) { return short(fmt.Sprint(v...)) },
		"println": func(v ...any) (string, error) { return short(fmt.Sprintln(v...)) },
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

func short(s string) (string, error) {
	if len(s) > maxText {
		return "", errors.New("a value that is too long")
	}
	return s, nil
}

func one(f func(string) string) func(any) (string, error) {
	return func(v any) (string, error) { return short(f(text(v))) }
}

func pad(width int, s string) (string, error) {
	if width < 0 || width > 200 {
		return "", errors.New("pad takes a width from 0 to 200")
	}
	return s + strings.Repeat(" ", max(0, width-len([]rune(s)))), nil
}

func join(sep string, parts []any) string {
	var out []string
	for _, p := range parts {
		if s := text(p); s != "" {
			out = append(out, s)
		}
	}
	return strings.Join(out, sep)
}

// csvField quotes a field where it has to be (RFC 4180), and keeps a spreadsheet from taking it for a formula.
func csvField(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t", rune(s[0])) {
		s = "'" + s
	}
	if strings.ContainsAny(s, ",\"\r\n;") {
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	}
	return s
}

// jsonValue is a value in JSON, which is YAML as well.
func jsonValue(v any) (string, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	return short(string(raw))
}

func xmlText(v any) (string, error) {
	var b strings.Builder
	if err := xml.EscapeText(&b, []byte(text(v))); err != nil {
		return "", err
	}
	return short(b.String())
}

// iniValue is a value on one line; one with blanks around it or a comment sign in it is quoted.
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
