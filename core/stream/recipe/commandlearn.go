package recipe

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"unlatch/core/ground/redact"
)

// An Example is a request that worked, as it was copied out of a browser, and the page that has shown the setting after it.
type Example struct {
	Request string // "POST /path HTTP/1.1" with its headers and body, or a curl command
	Page    string // the body of the page
}

// A Varying is a part of the request that is another one in the second example.
type Varying struct {
	Where  string `json:"where" doc:"form signing, query size, json veil, header X-A, path 2"`
	Name   string `json:"name" doc:"what it is called in the command"`
	First  string `json:"first"`
	Second string `json:"second"`
	Token  bool   `json:"token,omitempty" doc:"it looks like a token that the device gives for each request"`
	Read   string `json:"read,omitempty" doc:"where the page shows it; empty where it does not"`
}

// A LearnError says why two examples give no command.
type LearnError struct{ Problem string }

func (e *LearnError) Error() string { return e.Problem }

// A Lesson is what two examples are learned with.
type Lesson struct {
	First, Second Example
	PagePath      string   // of the page that shows the setting
	Fixed         []string // parts, by Where, that are left as they are in the first example
	Tokens        []string // parts that are a token of the device, which TokenPath gives
	TokenPath     string
	TokenPage     string // the body of that page, with the token of the second example in it
}

// mostExample bounds one example, in bytes.
const mostExample = 64 << 10

// Learn makes a command of two requests that worked and of the pages that showed what they had set. What differs between them is what can
// be chosen. The command's name, maker and words are for a person to fill in. The error is a *LearnError.
func (l Lesson) Learn() (*Command, []Varying, error) {
	for _, text := range []string{l.First.Request, l.Second.Request, l.First.Page, l.Second.Page, l.TokenPage} {
		if len(text) > mostExample {
			return nil, nil, &LearnError{fmt.Sprintf("an example has at most %d kB", mostExample>>10)}
		}
	}
	a, err := parseRequest(l.First.Request)
	if err != nil {
		return nil, nil, err
	}
	b, err := parseRequest(l.Second.Request)
	if err != nil {
		return nil, nil, err
	}
	if a.method != b.method || a.kind != b.kind || len(a.parts) != len(b.parts) || !slices.Equal(a.skeleton(), b.skeleton()) {
		return nil, nil, &LearnError{"the two requests are not of one form: they must differ in values alone"}
	}
	c := &Command{Read: Page{Path: l.PagePath}}
	var all []Varying
	for i := range a.parts {
		p, q := &a.parts[i], b.parts[i]
		if p.text == q.text || !p.value {
			continue
		}
		v := Varying{Where: p.where, Name: nameFor(p.where, c.Values), First: p.plain(), Second: q.plain()}
		v.Token = slices.Contains(l.Tokens, v.Where) || tokenish.MatchString(v.Where) && !slices.Contains(l.Fixed, v.Where)
		switch {
		case slices.Contains(l.Fixed, v.Where):
			continue
		case v.Token:
			p.becomes("{" + tokenName + "}")
			c.Token = l.token(v.Second)
		default:
			how := ""
			if p.section == "json" && !p.quoted { // a number, true or false
				how = ":raw"
			}
			p.becomes("{" + v.Name + how + "}")
			c.Values = append(c.Values, Value{Name: v.Name, OneOf: []string{v.First, v.Second}})
			if f, ok := l.where(v); ok {
				f.Value = v.Name
				c.Read.Find = append(c.Read.Find, f)
				v.Read = f.JSON + f.After
			}
		}
		all = append(all, v)
	}
	if len(c.Values) == 0 {
		return nil, all, &LearnError{"the two requests do not differ in anything that could be chosen: make the second one with another value"}
	}
	c.Set = []Request{a.request()}
	return c, all, nil
}

// tokenish are names of what devices give for each request.
var tokenish = regexp.MustCompile(`(?i)token|csrf|nonce|session|ticket|stamp`)

// token says where a token stands on the page that gives it.
func (l Lesson) token(text string) *Source {
	f, ok := findIn(l.TokenPage, text, l.TokenPage, text)
	if !ok {
		return &Source{Path: l.TokenPath}
	}
	return &Source{Path: l.TokenPath, After: f.After, Before: f.Before, JSON: f.JSON}
}

// where says where a value stands on the pages.
func (l Lesson) where(v Varying) (Find, bool) {
	return findIn(l.First.Page, v.First, l.Second.Page, v.Second)
}

// findIn finds a place that holds one value on one page and the other on the other.
func findIn(first, a, second, b string) (f Find, ok bool) {
	var x, y any
	if json.Unmarshal([]byte(first), &x) == nil && json.Unmarshal([]byte(second), &y) == nil {
		f.JSON = pointerTo(x, y, a, b, "", 0)
		return f, f.JSON != ""
	}
	for at := 0; a != ""; at++ {
		i := strings.Index(first[at:], a)
		if i < 0 {
			return f, false
		}
		at += i
		line := strings.LastIndexAny(first[:at], "\r\n") + 1
		for from := at - 3; from >= max(line, at-40); from-- { // the shortest text before it that leads to it on both pages
			after := first[from:at]
			j := strings.Index(second, after)
			if strings.Index(first, after) != from || j < 0 || !strings.HasPrefix(second[j+len(after):], b) {
				continue
			}
			rest, other := first[at+len(a):], second[j+len(after)+len(b):]
			n := 0
			for n < min(len(rest), len(other), 8) && rest[n] == other[n] && rest[n] != '\n' {
				n++
			}
			return Find{After: after, Before: rest[:n]}, n > 0 || rest == "" && other == ""
		}
	}
	return f, false
}

// pointerTo returns the pointer to a leaf that is a in one document and b in the other; "" for none.
func pointerTo(x, y any, a, b, at string, depth int) string {
	if depth > 16 {
		return ""
	}
	escape := strings.NewReplacer("~", "~0", "/", "~1")
	switch v := x.(type) {
	case map[string]any:
		w, ok := y.(map[string]any)
		if !ok {
			return ""
		}
		for _, k := range slices.Sorted(maps.Keys(v)) {
			if p := pointerTo(v[k], w[k], a, b, at+"/"+escape.Replace(k), depth+1); p != "" {
				return p
			}
		}
	case []any:
		w, ok := y.([]any)
		for i := 0; ok && i < min(len(v), len(w)); i++ {
			if p := pointerTo(v[i], w[i], a, b, fmt.Sprintf("%s/%d", at, i), depth+1); p != "" {
				return p
			}
		}
	default:
		if at != "" && fmt.Sprint(x) == a && fmt.Sprint(y) == b {
			return at
		}
	}
	return ""
}

// nameFor makes the name of a value out of where it stands.
func nameFor(where string, have []Value) string {
	_, last, _ := strings.Cut(where, " ")
	name := strings.Trim(regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(last), "_"), "_")
	if !valueName.MatchString(name) || name == tokenName {
		name = "value"
	}
	for n, base := 2, name; slices.ContainsFunc(have, func(v Value) bool { return v.Name == name }); n++ {
		name = fmt.Sprintf("%s_%d", base, n)
	}
	return name
}

// secretPart reports whether the part of a request holds a password by its name.
func secretPart(where string) bool {
	_, name, _ := strings.Cut(where, " ")
	return redact.IsSecretName(name)
}
