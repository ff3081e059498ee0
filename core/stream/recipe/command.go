package recipe

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// A Command is what a device can be told on its maker's own page and by no standard: requests as data, with how they are read back and
// undone. Everything of it stays on the device's own web side: its paths begin with a slash and name no host.
type Command struct {
	Name     string `yaml:"name" json:"name"`
	Does     string `yaml:"does" json:"does" doc:"what it does, in words"`
	Maker    string `yaml:"maker" json:"maker" doc:"a pattern with * and ?, without case"`
	Model    string `yaml:"model,omitempty" json:"model,omitempty"`
	Firmware string `yaml:"firmware,omitempty" json:"firmware,omitempty"`
	// Values are what a person chooses.
	Values []Value `yaml:"values" json:"values"`
	// Token is where a device gives the token that its requests want; nil for one that wants none.
	Token *Source `yaml:"token,omitempty" json:"token,omitempty"`
	// Set are the requests that set the values, in order. Undo put back what was before; it is empty where Set does that too.
	Set  []Request `yaml:"set" json:"set"`
	Undo []Request `yaml:"undo,omitempty" json:"undo,omitempty"`
	// Read is the page that shows the values, by which they are read before and after.
	Read Page `yaml:"read" json:"read"`
	// NotWith are commands of the same book with which it must not be on at the same time.
	NotWith  []Exclusion `yaml:"not_with,omitempty" json:"not_with,omitempty"`
	Restarts bool        `yaml:"restarts,omitempty" json:"restarts,omitempty" doc:"the device restarts after it"`
	// Mends are the diagnoses whose button it is.
	Mends []Mend `yaml:"mends,omitempty" json:"mends,omitempty"`
	Note  string `yaml:"note,omitempty" json:"note,omitempty"`
}

// A Value is one thing to choose, with its bounds: one of a few, a number, or a text.
type Value struct {
	Name  string   `yaml:"name" json:"name"`
	OneOf []string `yaml:"one_of,omitempty,flow" json:"one_of,omitempty"`
	// SentAs is how the device spells each of OneOf; as they are where it is missing.
	SentAs []string `yaml:"sent_as,omitempty,flow" json:"sent_as,omitempty"`
	From   float64  `yaml:"from,omitempty" json:"from,omitempty" doc:"the least of a number"`
	To     float64  `yaml:"to,omitempty" json:"to,omitempty" doc:"the most of a number"`
	Text   int      `yaml:"text,omitempty" json:"text,omitempty" doc:"the most characters of a text"`
}

// A Request is one request with {name} where a value goes. At most one of Form, JSON and XML is its body.
type Request struct {
	Method  string  `yaml:"method,omitempty" json:"method,omitempty" doc:"POST where there is a body, else GET"`
	Path    string  `yaml:"path" json:"path" doc:"from the first / on, with its query"`
	Headers []Field `yaml:"headers,omitempty" json:"headers,omitempty"`
	Form    []Field `yaml:"form,omitempty" json:"form,omitempty"`
	JSON    string  `yaml:"json,omitempty" json:"json,omitempty" doc:"{name:raw} as a whole string stands for a number, true or false"`
	XML     string  `yaml:"xml,omitempty" json:"xml,omitempty"`
	OK      Success `yaml:"ok,omitempty" json:"ok,omitzero"`
}

// A Field is a name with its value.
type Field struct {
	Name  string `yaml:"name" json:"name"`
	Value string `yaml:"value" json:"value"`
}

// A Success is how a device tells that it has taken a request. The zero value is any status from 200 to 299.
type Success struct {
	Status   []int  `yaml:"status,omitempty,flow" json:"status,omitempty"`
	Contains string `yaml:"contains,omitempty" json:"contains,omitempty"`
}

// Takes reports whether an answer is a success.
func (s Success) Takes(status int, body []byte) bool {
	good := status >= 200 && status < 300
	if len(s.Status) > 0 {
		good = slices.Contains(s.Status, status)
	}
	return good && strings.Contains(string(body), s.Contains)
}

// A Page is a page with where values stand on it.
type Page struct {
	Path string `yaml:"path" json:"path"`
	Find []Find `yaml:"find" json:"find"`
}

// A Source is a page with where one thing stands on it.
type Source struct {
	Path   string `yaml:"path" json:"path"`
	After  string `yaml:"after,omitempty" json:"after,omitempty"`
	Before string `yaml:"before,omitempty" json:"before,omitempty"`
	JSON   string `yaml:"json,omitempty" json:"json,omitempty"`
}

// A Find says where a value stands: between two texts, or at a place of a JSON document (RFC 6901).
type Find struct {
	Value  string `yaml:"value" json:"value" doc:"its name"`
	After  string `yaml:"after,omitempty" json:"after,omitempty"`
	Before string `yaml:"before,omitempty" json:"before,omitempty"`
	JSON   string `yaml:"json,omitempty" json:"json,omitempty" doc:"a JSON pointer"`
}

// An Exclusion says with what a command must not be on at the same time.
type Exclusion struct {
	Command string            `yaml:"command" json:"command"`
	When    map[string]string `yaml:"when" json:"when" doc:"the values of this command that are meant"`
	Is      map[string]string `yaml:"is" json:"is" doc:"what the other one must not be then"`
	// Set is what the other one is set to first; nil where it is left to the person.
	Set map[string]string `yaml:"set,omitempty" json:"set,omitempty"`
}

// A Mend says of which diagnosis the command is the button, and with which values.
type Mend struct {
	Cause string            `yaml:"cause" json:"cause"`
	Set   map[string]string `yaml:"set" json:"set"`
}

// A SettingError says what is wrong with a value that was chosen.
type SettingError struct{ Name, Problem string }

func (e *SettingError) Error() string { return e.Name + " " + e.Problem }

// CommandNamed returns the command of a name out of a list; nil where there is none.
func CommandNamed(list []Command, name string) *Command {
	i := slices.IndexFunc(list, func(c Command) bool { return c.Name == name })
	if i < 0 {
		return nil
	}
	return &list[i]
}

// Value returns a value by its name.
func (c *Command) Value(name string) (Value, bool) {
	i := slices.IndexFunc(c.Values, func(v Value) bool { return v.Name == name })
	if i < 0 {
		return Value{}, false
	}
	return c.Values[i], true
}

// A Kind is what is known of what a device is.
type Kind struct {
	Makers   []string // as the device itself, its announcement and its stream service name the maker; some may be empty
	Model    string
	Firmware string
}

// Fits reports whether the command is for devices of a kind. What is not known of a device fits nothing: a request that is meant for
// another maker's may do anything.
func (c *Command) Fits(k Kind) bool {
	matches := func(pattern string) func(string) bool {
		return func(text string) bool { return text != "" && Match(pattern, text) }
	}
	return slices.ContainsFunc(k.Makers, matches(c.Maker)) && (c.Model == "" || matches(c.Model)(k.Model)) &&
		(c.Firmware == "" || matches(c.Firmware)(k.Firmware))
}

// Check reports whether values are all there and within their bounds. Its error is a *SettingError.
func (c *Command) Check(values map[string]string) error {
	for name := range values {
		if _, ok := c.Value(name); !ok {
			return &SettingError{name, "is no value of " + c.Name}
		}
	}
	for _, v := range c.Values {
		text, ok := values[v.Name]
		if !ok {
			return &SettingError{v.Name, "is missing"}
		}
		if problem := v.problem(text); problem != "" {
			return &SettingError{v.Name, problem}
		}
	}
	return nil
}

// problem says what is wrong with a value; "" for nothing.
func (v Value) problem(text string) string {
	switch {
	case len(v.OneOf) > 0:
		if !slices.Contains(v.OneOf, text) {
			return "is one of " + strings.Join(v.OneOf, ", ")
		}
	case v.Text > 0:
		if len([]rune(text)) > v.Text {
			return fmt.Sprintf("has at most %d characters", v.Text)
		}
		if strings.ContainsFunc(text, unicode.IsControl) {
			return "holds a line break or another control character"
		}
	default:
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || n < v.From || n > v.To {
			return fmt.Sprintf("is a number from %g to %g", v.From, v.To)
		}
	}
	return ""
}

// sent returns how the device spells a value.
func (v Value) sent(text string) string {
	if i := slices.Index(v.OneOf, text); i >= 0 && i < len(v.SentAs) {
		return v.SentAs[i]
	}
	return text
}

// read returns a value that the device spells so.
func (v Value) read(text string) string {
	if i := slices.Index(v.SentAs, text); i >= 0 && i < len(v.OneOf) {
		return v.OneOf[i]
	}
	return text
}

// Same reports whether two settings of the command are the same: numbers by their worth, all else as written.
func (c *Command) Same(a, b map[string]string) bool {
	for _, v := range c.Values {
		if a[v.Name] == b[v.Name] {
			continue
		}
		x, err := strconv.ParseFloat(a[v.Name], 64)
		y, err2 := strconv.ParseFloat(b[v.Name], 64)
		if len(v.OneOf) > 0 || v.Text > 0 || err != nil || err2 != nil || x != y {
			return false
		}
	}
	return true
}

// Meets reports whether a setting has all of some values.
func Meets(setting, values map[string]string) bool {
	for name, want := range values {
		if setting[name] != want {
			return false
		}
	}
	return len(values) > 0
}

// InWords returns a setting as people read it: "auth digest, second off".
func (c *Command) InWords(setting map[string]string) string {
	var parts []string
	for _, v := range c.Values {
		if text, ok := setting[v.Name]; ok {
			parts = append(parts, strings.TrimSpace(strings.ReplaceAll(v.Name, "_", " ")+" "+text))
		}
	}
	return strings.Join(parts, ", ")
}

// Partners returns the commands of a list that the command must not be on with.
func (c *Command) Partners(all []Command) (out []Command) {
	for _, x := range c.NotWith {
		if other := CommandNamed(all, x.Command); other != nil {
			out = append(out, *other)
		}
	}
	return out
}
