package recipe

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"unlatch/core/ground/yamlfile"
)

// Limits of a command.
const (
	MaxCommands = 1000 // of a book
	maxRequests = 8    // of one command
	maxValues   = 16
	maxList     = 64 // entries of any other list
	maxBody     = 16 << 10
)

var valueName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)

// A reading reads one mapping, and keeps the first error with its line.
type reading struct{ err error }

// fail keeps an error at a node, the first alone.
func (r *reading) fail(n *yaml.Node, format string, args ...any) {
	if r.err == nil {
		r.err = yamlfile.At(n, fmt.Sprintf(format, args...))
	}
}

// each reads a mapping key by key, each with its reader. A key that has no reader, or that stands twice, is a mistake.
func (r *reading) each(n *yaml.Node, what string, readers map[string]func(*yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		r.fail(n, "%s is written as name: value pairs", what)
		return
	}
	seen := map[string]bool{}
	for key, value := range yamlfile.Pairs(n) {
		read, ok := readers[key.Value]
		switch {
		case !ok:
			r.fail(key, "%s has no %q", what, key.Value)
		case seen[key.Value]:
			r.fail(key, "%q stands twice", key.Value)
		default:
			seen[key.Value] = true
			read(value)
		}
	}
}

func (r *reading) text(into *string) func(*yaml.Node) { return r.long(into, 2000) }

// long reads a text of at most so many characters.
func (r *reading) long(into *string, most int) func(*yaml.Node) {
	return func(n *yaml.Node) {
		switch {
		case n.Kind != yaml.ScalarNode:
			r.fail(n, "this is one text")
		case len(n.Value) > most:
			r.fail(n, "this is longer than %d characters", most)
		}
		*into = n.Value
	}
}

func (r *reading) list(n *yaml.Node, most int, each func(*yaml.Node)) {
	nodes, err := yamlfile.List("this", n, most)
	if err != nil {
		r.fail(n, "%s", strings.TrimPrefix(err.Error(), fmt.Sprintf("line %d, column %d: ", n.Line, n.Column)))
		return
	}
	for _, c := range nodes {
		each(c)
	}
}

func (r *reading) texts(into *[]string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		r.list(n, maxList, func(c *yaml.Node) {
			var s string
			r.text(&s)(c)
			*into = append(*into, s)
		})
	}
}

func (r *reading) number(into *float64) func(*yaml.Node) {
	return func(n *yaml.Node) {
		v, err := yamlfile.Number("this", n, -1e12, 1e12)
		if err != nil {
			r.fail(n, "this is a number")
		}
		*into = v
	}
}

// setting reads values by name.
func (r *reading) setting(into *map[string]string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.MappingNode || len(n.Content) > 2*maxValues {
			r.fail(n, "values are written as {name: value}")
			return
		}
		*into = map[string]string{}
		for key, value := range yamlfile.Pairs(n) {
			var s string
			r.text(&s)(value)
			(*into)[key.Value] = s
		}
	}
}

// readCommands reads the commands of a book. Its errors are *BookError.
func readCommands(n *yaml.Node) (out []Command, err error) {
	nodes, err := yamlfile.List("commands", n, MaxCommands)
	if err != nil {
		return nil, err
	}
	for _, c := range nodes {
		one, err := readCommand(c)
		if err != nil {
			return nil, err
		}
		if CommandNamed(out, one.Name) != nil {
			return nil, yamlfile.At(c, fmt.Sprintf("%q stands in the book twice", one.Name))
		}
		out = append(out, one)
	}
	if problem := together(out); problem != "" {
		return nil, yamlfile.At(n, problem)
	}
	return out, nil
}

// readCommand reads one command of a book. Its errors are *BookError.
func readCommand(n *yaml.Node) (Command, error) {
	c := Command{}
	r := &reading{}
	r.each(n, "a command", map[string]func(*yaml.Node){
		"name": r.text(&c.Name), "does": r.text(&c.Does), "maker": r.text(&c.Maker), "model": r.text(&c.Model),
		"firmware": r.text(&c.Firmware), "note": r.text(&c.Note),
		"restarts": func(n *yaml.Node) {
			if n.Value != "true" && n.Value != "false" {
				r.fail(n, "restarts is true or false")
			}
			c.Restarts = n.Value == "true"
		},
		"values": func(n *yaml.Node) {
			r.list(n, maxValues, func(n *yaml.Node) { c.Values = append(c.Values, r.value(n)) })
		},
		"token":    func(n *yaml.Node) { c.Token = r.source(n) },
		"set":      func(n *yaml.Node) { c.Set = r.requests(n) },
		"undo":     func(n *yaml.Node) { c.Undo = r.requests(n) },
		"read":     func(n *yaml.Node) { c.Read = r.page(n) },
		"not_with": func(n *yaml.Node) { c.NotWith = r.exclusions(n) },
		"mends":    func(n *yaml.Node) { c.Mends = r.mends(n) },
	})
	if r.err != nil {
		return c, r.err
	}
	if problem := c.problem(); problem != "" {
		return c, yamlfile.At(n, problem)
	}
	return c, nil
}

func (r *reading) value(n *yaml.Node) (v Value) {
	var most float64
	r.each(n, "a value", map[string]func(*yaml.Node){"name": r.text(&v.Name), "one_of": r.texts(&v.OneOf), "sent_as": r.texts(&v.SentAs),
		"from": r.number(&v.From), "to": r.number(&v.To), "text": r.number(&most)})
	v.Text = int(most)
	switch kinds := len(v.OneOf) > 0; {
	case !valueName.MatchString(v.Name) || v.Name == tokenName:
		r.fail(n, "the name of a value is written in small letters, digits and _, and is not token")
	case len(v.SentAs) > 0 && len(v.SentAs) != len(v.OneOf):
		r.fail(n, "sent_as has one spelling for each of one_of")
	case kinds && (v.Text != 0 || v.From != v.To) || v.Text != 0 && v.From != v.To:
		r.fail(n, "a value is one of a few, a number or a text, and not two of them")
	case !kinds && v.Text == 0 && v.From >= v.To:
		r.fail(n, "a value needs its bounds: one_of, from and to, or text")
	case v.Text < 0 || v.Text > 1000:
		r.fail(n, "a text has 1 to 1000 characters")
	}
	return v
}

func (r *reading) source(n *yaml.Node) *Source {
	s := &Source{}
	r.each(n, "a token", map[string]func(*yaml.Node){"path": r.path(&s.Path), "after": r.text(&s.After), "before": r.text(&s.Before),
		"json": r.pointer(&s.JSON)})
	if (s.After == "") == (s.JSON == "") {
		r.fail(n, "say where the token stands: after a text, or by json")
	}
	return s
}

func (r *reading) page(n *yaml.Node) (p Page) {
	r.each(n, "read", map[string]func(*yaml.Node){"path": r.path(&p.Path), "find": func(n *yaml.Node) {
		r.list(n, maxValues, func(n *yaml.Node) {
			var f Find
			r.each(n, "find", map[string]func(*yaml.Node){"value": r.text(&f.Value), "after": r.text(&f.After), "before": r.text(&f.Before),
				"json": r.pointer(&f.JSON)})
			if (f.After == "") == (f.JSON == "") {
				r.fail(n, "say where the value stands: after a text, or by json")
			}
			p.Find = append(p.Find, f)
		})
	}})
	return p
}

func (r *reading) requests(n *yaml.Node) (out []Request) {
	r.list(n, maxRequests, func(n *yaml.Node) {
		var q Request
		r.each(n, "a request", map[string]func(*yaml.Node){"method": r.text(&q.Method), "path": r.path(&q.Path),
			"headers": r.fields(&q.Headers), "form": r.fields(&q.Form), "json": r.long(&q.JSON, maxBody), "xml": r.long(&q.XML, maxBody),
			"ok": func(n *yaml.Node) { q.OK = r.success(n) }})
		if problem := q.problem(); problem != "" {
			r.fail(n, "%s", problem)
		}
		out = append(out, q)
	})
	return out
}

func (r *reading) success(n *yaml.Node) (s Success) {
	r.each(n, "ok", map[string]func(*yaml.Node){"contains": r.text(&s.Contains), "status": func(n *yaml.Node) {
		r.list(n, maxList, func(n *yaml.Node) {
			v, err := yamlfile.Number("this", n, 100, 599)
			if err != nil {
				r.fail(n, "a status is a number from 100 to 599")
			}
			s.Status = append(s.Status, int(v))
		})
	}})
	return s
}

// fields reads names with values, as a list of {name, value} or as name: value pairs.
func (r *reading) fields(into *[]Field) func(*yaml.Node) {
	return func(n *yaml.Node) {
		add := func(name, value *yaml.Node) {
			var f Field
			r.text(&f.Name)(name)
			r.text(&f.Value)(value)
			*into = append(*into, f)
		}
		if n.Kind == yaml.MappingNode && len(n.Content) <= 2*maxList {
			for key, value := range yamlfile.Pairs(n) {
				add(key, value)
			}
			return
		}
		r.list(n, maxList, func(n *yaml.Node) {
			var f Field
			r.each(n, "a field", map[string]func(*yaml.Node){"name": r.text(&f.Name), "value": r.text(&f.Value)})
			*into = append(*into, f)
		})
	}
}

func (r *reading) exclusions(n *yaml.Node) (out []Exclusion) {
	r.list(n, maxValues, func(n *yaml.Node) {
		var x Exclusion
		r.each(n, "not_with", map[string]func(*yaml.Node){"command": r.text(&x.Command), "when": r.setting(&x.When), "is": r.setting(&x.Is),
			"set": r.setting(&x.Set)})
		if x.Command == "" || len(x.When) == 0 || len(x.Is) == 0 {
			r.fail(n, "not_with names a command, when it counts, and what that command must not be")
		}
		out = append(out, x)
	})
	return out
}

func (r *reading) mends(n *yaml.Node) (out []Mend) {
	r.list(n, maxValues, func(n *yaml.Node) {
		var m Mend
		r.each(n, "mends", map[string]func(*yaml.Node){"cause": r.text(&m.Cause), "set": r.setting(&m.Set)})
		out = append(out, m)
	})
	return out
}

// path reads a path of the device's own web side.
func (r *reading) path(into *string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		r.text(into)(n)
		if problem := badPath(*into); problem != "" {
			r.fail(n, "%s", problem)
		}
	}
}

func badPath(path string) string {
	if !strings.HasPrefix(path, "/") || strings.HasPrefix(path, "//") || strings.ContainsAny(path, " \t\r\n#\\") {
		return "a path begins with one / and holds no blank: a command stays on the device's own web side"
	}
	return ""
}

func (r *reading) pointer(into *string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		r.text(into)(n)
		if *into != "" && !strings.HasPrefix(*into, "/") {
			r.fail(n, "a JSON pointer begins with /")
		}
	}
}

// ownHeaders are those that a command may not set: they are the sign-in, or belong to the connection.
var ownHeaders = []string{"authorization", "proxy-authorization", "cookie", "host", "connection", "content-length", "transfer-encoding",
	"content-type", "upgrade", "te", "trailer"}

var headerName = regexp.MustCompile(`^[A-Za-z0-9-]{1,60}$`)

// problem says what is wrong with a request; "" for nothing.
func (r Request) problem() string {
	bodies := 0
	for _, has := range []bool{len(r.Form) > 0, r.JSON != "", r.XML != ""} {
		if has {
			bodies++
		}
	}
	for _, h := range r.Headers {
		if !headerName.MatchString(h.Name) || slices.Contains(ownHeaders, strings.ToLower(h.Name)) {
			return fmt.Sprintf("a command does not set the header %q", h.Name)
		}
	}
	switch {
	case r.Path == "":
		return "a request has a path"
	case r.Method != "" && !slices.Contains([]string{"GET", "POST", "PUT", "PATCH", "DELETE"}, r.Method):
		return "the method is GET, POST, PUT, PATCH or DELETE"
	case bodies > 1:
		return "a request has one body: form, json or xml"
	case bodies == 1 && r.Method == "GET":
		return "GET has no body"
	case r.JSON != "" && !json.Valid([]byte(r.JSON)):
		return "the json cannot be read"
	case r.XML != "" && badXML(r.XML):
		return "the xml cannot be read"
	}
	return ""
}

func badXML(text string) bool {
	d := xml.NewDecoder(strings.NewReader(text))
	for {
		_, err := d.Token()
		if err != nil {
			return !errors.Is(err, io.EOF)
		}
	}
}

// texts returns all that placeholders may stand in.
func (r Request) texts() []string {
	out := []string{r.Path, r.JSON, r.XML}
	for _, f := range slices.Concat(r.Headers, r.Form) {
		out = append(out, f.Value)
	}
	return out
}

// problem says what is wrong with a command as a whole; "" for nothing.
func (c *Command) problem() string {
	switch {
	case strings.TrimSpace(c.Name) == "" || c.Maker == "" || c.Does == "":
		return "a command has a name, says in words what it does, and for which maker"
	case len(c.Values) == 0 || len(c.Set) == 0:
		return "a command has values and the requests that set them"
	case c.Read.Path == "" || len(c.Read.Find) == 0:
		return "a command is read back: it has no read, and nothing is believed that is not read back"
	}
	names := map[string]bool{}
	for _, v := range c.Values {
		if names[v.Name] {
			return fmt.Sprintf("the value %q stands twice", v.Name)
		}
		names[v.Name] = true
		if !slices.ContainsFunc(c.Read.Find, func(f Find) bool { return f.Value == v.Name }) {
			return fmt.Sprintf("read does not find %s: what was before could not be put back", v.Name)
		}
	}
	for _, f := range c.Read.Find {
		if !names[f.Value] {
			return fmt.Sprintf("read finds %q, which is no value", f.Value)
		}
	}
	used := map[string]bool{}
	for _, q := range slices.Concat(c.Set, c.Undo) {
		for _, text := range q.texts() {
			for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
				if used[m[1]] = true; !names[m[1]] && m[1] != tokenName {
					return fmt.Sprintf("{%s} is no value of the command", m[1])
				}
			}
		}
	}
	for _, v := range c.Values {
		if !used[v.Name] {
			return fmt.Sprintf("no request sets %s", v.Name)
		}
	}
	if used[tokenName] != (c.Token != nil) {
		return "a token that is read is used as {token}, and none is used that is not read"
	}
	return c.settingsProblem()
}

// settingsProblem checks the settings that stand in a command.
func (c *Command) settingsProblem() string {
	own := func(setting map[string]string) string {
		for name, text := range setting {
			v, ok := c.Value(name)
			if !ok {
				return fmt.Sprintf("%q is no value of the command", name)
			}
			if problem := v.problem(text); problem != "" {
				return name + " " + problem
			}
		}
		return ""
	}
	for _, x := range c.NotWith {
		if problem := own(x.When); problem != "" {
			return "not_with: " + problem
		}
		if x.Command == c.Name {
			return "a command is not with itself"
		}
	}
	for _, m := range c.Mends {
		if err := c.Check(m.Set); err != nil {
			return "mends: " + err.Error()
		}
	}
	return ""
}

// together checks the commands of a book against each other: that those named are there, and that none switches another on that would
// switch it back.
func together(list []Command) string {
	for i := range list {
		for _, x := range list[i].NotWith {
			other := CommandNamed(list, x.Command)
			if other == nil {
				return fmt.Sprintf("%q is not with %q, which is not in the book", list[i].Name, x.Command)
			}
			for what, setting := range map[string]map[string]string{"is": x.Is, "set": x.Set} {
				for name, text := range setting {
					v, ok := other.Value(name)
					if !ok || v.problem(text) != "" {
						return fmt.Sprintf("not_with of %q: %s names no value of %q: %s %s", list[i].Name, what, other.Name, name, text)
					}
				}
			}
			if Meets(x.Set, x.Is) {
				return fmt.Sprintf("not_with of %q sets %q to what it must not be", list[i].Name, other.Name)
			}
			for _, back := range other.NotWith {
				if back.Command == list[i].Name && len(x.Set) > 0 && Meets(x.Set, back.When) {
					return fmt.Sprintf("%q and %q switch each other without end", list[i].Name, other.Name)
				}
			}
		}
	}
	return ""
}
