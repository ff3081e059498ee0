// Package recipe is the language of URL shapes: how a kind of device puts channel, stream and transport into the paths of its streams. A
// recipe expands into the URL of any channel and stream, and a URL inverts into the values that made it, exactly: what expands from
// values inverts to them, and what inverts expands to the same text. The grammar stands in docs/recipes.md.
package recipe

import (
	"fmt"
	"strings"
)

// Limits that keep hostile path books cheap.
const (
	MaxLength   = 500  // of a template and of a path
	maxParts    = 64   // of a template
	maxDepth    = 8    // of brackets in a number
	MaxChannel  = 256  // channels are counted from 1 to this
	MaxStream   = 3    // main, sub, third
	maxOptional = 4    // optional parts: each doubles the spellings
	maxNumber   = 1e12 // that a number may grow to
)

// Values are what a recipe puts into a path.
type Values struct {
	Channel   int  `json:"channel" doc:"video source, counted from 1"`
	Stream    int  `json:"stream" doc:"1 for main, 2 for sub, 3 for third"`
	Multicast bool `json:"multicast,omitempty"`
	Optional  int  `json:"optional,omitempty" doc:"which optional parts stand in it, a bit each"`
}

// A Template is a parsed shape. The zero value is the empty path.
type Template struct {
	text     string
	parts    []part
	optional int // how many optional parts it has
	uses     uses
}

// uses tells which values a template depends on.
type uses struct {
	channel, stream, cast bool
	streams               int // how many streams its words tell apart
}

type kind int

const (
	literal kind = iota
	number
	tier
	cast
	group // an optional part
)

// part is one piece of a template.
type part struct {
	kind  kind
	text  string   // literal
	expr  expr     // number
	width int      // number: zero padded to this
	words []string // tier: one a stream; cast: unicast, multicast
	inner []part   // group
	bit   int      // group: its bit in Values.Optional
}

// A SyntaxError says where a template cannot be read.
type SyntaxError struct {
	Column  int // counted from 1
	Problem string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("column %d: %s", e.Column, e.Problem) }

// Parse reads a template.
func Parse(text string) (Template, error) {
	if len(text) > MaxLength {
		return Template{}, &SyntaxError{MaxLength, fmt.Sprintf("a shape has at most %d characters", MaxLength)}
	}
	p := parser{text: text}
	parts, err := p.parts(false)
	if err != nil {
		return Template{}, err
	}
	t := Template{text: text, parts: parts, optional: p.optional, uses: p.uses}
	if t.uses.stream && t.uses.streams == 0 {
		t.uses.streams = MaxStream
	}
	return t, nil
}

// MustParse is Parse for shapes that are known to be right.
func MustParse(text string) Template {
	t, err := Parse(text)
	if err != nil {
		panic(fmt.Sprintf("recipe %q: %v", text, err))
	}
	return t
}

func (t Template) String() string { return t.text }

// HasChannel reports whether the channel stands in the path: then one URL gives all its siblings.
func (t Template) HasChannel() bool { return t.uses.channel }

// Streams returns how many streams the path tells apart; 1 where the stream does not stand in it.
func (t Template) Streams() int {
	if !t.uses.stream {
		return 1
	}
	return t.uses.streams
}

// HasCast reports whether unicast and multicast differ in the path.
func (t Template) HasCast() bool { return t.uses.cast }

// A ValueError says that a recipe has no path for values.
type ValueError struct{ Problem string }

func (e *ValueError) Error() string { return e.Problem }

// Expand writes the path of values. Values that the template does not use are passed over; those it has no word or number for are a
// *ValueError.
func (t Template) Expand(v Values) (string, error) {
	if v.Channel < 1 || v.Channel > MaxChannel || v.Stream < 1 || t.uses.stream && v.Stream > t.uses.streams {
		return "", &ValueError{fmt.Sprintf("there is no channel %d, stream %d of this recipe", v.Channel, v.Stream)}
	}
	var b strings.Builder
	if err := expand(&b, t.parts, v); err != nil {
		return "", err
	}
	return b.String(), nil
}

func expand(b *strings.Builder, parts []part, v Values) error {
	for _, p := range parts {
		switch p.kind {
		case literal:
			b.WriteString(p.text)
		case number:
			n := p.expr.eval(v)
			if n < 0 {
				return &ValueError{fmt.Sprintf("channel %d, stream %d would make a number below zero", v.Channel, v.Stream)}
			}
			fmt.Fprintf(b, "%0*d", p.width, n)
		case tier:
			b.WriteString(p.words[v.Stream-1])
		case cast:
			b.WriteString(p.words[bit(v.Multicast)])
		case group:
			if v.Optional&p.bit != 0 {
				if err := expand(b, p.inner, v); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// All lists the paths of a number of channels, main streams before subs, without optional parts; multicast forms only where asked for. A
// recipe without a channel has one.
func (t Template) All(channels int, multicast bool) []Values {
	if !t.uses.channel {
		channels = 1
	}
	var out []Values
	for c := 1; c <= min(channels, MaxChannel); c++ {
		for s := 1; s <= t.Streams(); s++ {
			out = append(out, Values{Channel: c, Stream: s})
			if multicast && t.uses.cast {
				out = append(out, Values{Channel: c, Stream: s, Multicast: true})
			}
		}
	}
	return out
}
