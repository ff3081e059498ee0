// Package words holds what papers say, by language: message files with one sentence or word for each key, and how a language writes
// dates and numbers. English and German are there; another language is one more file.
package words

import (
	"embed"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"
)

//go:embed *.yaml
var files embed.FS

// Languages are the languages that papers can be written in, by their tags (BCP 47).
var Languages = []string{"en", "de"}

// A Language is what papers say in one language.
type Language struct {
	Tag      string
	messages map[string]string
}

// read reads a message file once.
var read = map[string]func() *Language{}

func init() {
	for _, tag := range Languages {
		read[tag] = sync.OnceValue(func() *Language { return load(tag) })
	}
}

// In returns a language by its tag; English where it is not known.
func In(tag string) *Language {
	if !slices.Contains(Languages, tag) {
		tag = Languages[0]
	}
	return read[tag]()
}

// load reads a message file. A file that cannot be read is a mistake of the program, which its tests find.
func load(tag string) *Language {
	raw, err := files.ReadFile(tag + ".yaml")
	if err != nil {
		panic(err)
	}
	var tree map[string]any
	if err := yaml.Unmarshal(raw, &tree); err != nil {
		panic(err)
	}
	l := &Language{Tag: tag, messages: map[string]string{}}
	l.add("", tree)
	return l
}

// add flattens the tree of a file: the keys of a message are joined by dots.
func (l *Language) add(prefix string, tree map[string]any) {
	for k, v := range tree {
		switch v := v.(type) {
		case map[string]any:
			l.add(prefix+k+".", v)
		default:
			l.messages[prefix+k] = strings.TrimSpace(fmt.Sprint(v))
		}
	}
}

// Has reports whether there is a message.
func (l *Language) Has(key string) bool { _, ok := l.messages[key]; return ok }

// Text returns a message with its placeholders filled: values are pairs of a name and its value. A key without a message is returned as
// it is, so that a reader sees which one is missing.
func (l *Language) Text(key string, values ...any) string {
	text, ok := l.messages[key]
	if !ok {
		return key
	}
	pairs := make([]string, 0, len(values))
	for i := 0; i+1 < len(values); i += 2 {
		pairs = append(pairs, "{"+fmt.Sprint(values[i])+"}", l.value(values[i+1]))
	}
	return strings.NewReplacer(pairs...).Replace(text) // in one pass: a value may look like a placeholder
}

// Count is Text in the form for a number: KEY.one for one, KEY.many otherwise. The number is {n}.
func (l *Language) Count(key string, n int, values ...any) string {
	form := ".many"
	if n == 1 {
		form = ".one"
	}
	return l.Text(key+form, append([]any{"n", n}, values...)...)
}

// value writes a value into a message.
func (l *Language) value(v any) string {
	switch v := v.(type) {
	case int:
		return l.Number(float64(v), 0)
	case int64:
		return l.Number(float64(v), 0)
	case float64:
		return l.Number(v, 1)
	case time.Time:
		return l.Date(v)
	}
	return fmt.Sprint(v)
}

// Number writes a number with its thousands parted and at most digits behind the decimal mark.
func (l *Language) Number(v float64, digits int) string {
	text := strconv.FormatFloat(v, 'f', digits, 64)
	whole, part, _ := strings.Cut(text, ".")
	sign := ""
	if strings.HasPrefix(whole, "-") {
		sign, whole = "−", whole[1:]
	}
	var parted strings.Builder
	for i, r := range whole {
		if i > 0 && (len(whole)-i)%3 == 0 {
			parted.WriteString(l.messages["locale.thousands"])
		}
		parted.WriteRune(r)
	}
	if part = strings.TrimRight(part, "0"); part != "" {
		parted.WriteString(l.messages["locale.decimal"] + part)
	}
	return sign + parted.String()
}

// Plain writes a number as programs read it: with a point and without parted thousands.
func Plain(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// Date writes a day, in UTC.
func (l *Language) Date(t time.Time) string {
	t = t.UTC()
	return l.Text("locale.date", "day", strconv.Itoa(t.Day()), "month", l.Text("locale.month."+strconv.Itoa(int(t.Month()))),
		"year", strconv.Itoa(t.Year()))
}

// Time writes a day with the time of day, in UTC, which it names.
func (l *Language) Time(t time.Time) string { return l.Date(t) + t.UTC().Format(", 15:04 UTC") }

// Keys returns the keys of all messages, sorted.
func (l *Language) Keys() []string {
	out := make([]string, 0, len(l.messages))
	for k := range l.messages {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
