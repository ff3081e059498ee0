package recipe

import (
	"fmt"
	"strings"
)

// parser reads a template left to right. Every position it reports is counted in bytes from 1.
type parser struct {
	text     string
	at       int
	optional int
	count    int
	uses     uses
}

func (p *parser) fail(format string, args ...any) error {
	return &SyntaxError{p.at + 1, fmt.Sprintf(format, args...)}
}

// parts reads until the end, or inside an optional part until its bracket closes.
func (p *parser) parts(inside bool) ([]part, error) {
	var out []part
	var lit strings.Builder
	flush := func() {
		if lit.Len() > 0 {
			out = append(out, part{kind: literal, text: lit.String()})
			lit.Reset()
		}
	}
	for p.at < len(p.text) {
		if p.count++; p.count > maxParts*16 || len(out) > maxParts {
			return nil, p.fail("too many parts")
		}
		c := p.text[p.at]
		double := p.at+1 < len(p.text) && p.text[p.at+1] == c
		switch {
		case strings.IndexByte("{}[]", c) >= 0 && double: // written twice it stands for itself
			lit.WriteByte(c)
			p.at += 2
		case c == '{':
			flush()
			one, err := p.field()
			if err != nil {
				return nil, err
			}
			out = append(out, one)
		case c == '[':
			flush()
			one, err := p.group(inside)
			if err != nil {
				return nil, err
			}
			out = append(out, one)
		case c == ']' && inside:
			flush()
			return out, nil
		case c == '}' || c == ']':
			return nil, p.fail("%q closes nothing; write it twice where it stands for itself", c)
		case c <= ' ' || c == 0x7f:
			return nil, p.fail("a path holds no blank or control character")
		default:
			lit.WriteByte(c)
			p.at++
		}
	}
	if inside {
		return nil, p.fail("an optional part is not closed: ] is missing")
	}
	flush()
	return out, nil
}

func (p *parser) group(inside bool) (part, error) {
	if inside {
		return part{}, p.fail("an optional part cannot stand in another")
	}
	if p.optional == maxOptional {
		return part{}, p.fail("at most %d optional parts", maxOptional)
	}
	g := part{kind: group, bit: 1 << p.optional}
	p.optional++
	p.at++
	var err error
	if g.inner, err = p.parts(true); err != nil {
		return part{}, err
	}
	p.at++ // ]
	if len(g.inner) == 0 {
		return part{}, p.fail("the optional part before this is empty")
	}
	return g, nil
}

// field reads {expression}, {expression:02}, {tier:a|b|c} or {cast:a|b}.
func (p *parser) field() (part, error) {
	p.at++
	rest := p.text[p.at:]
	for _, words := range []struct {
		name     string
		kind     kind
		min, max int
	}{{"tier:", tier, 1, MaxStream}, {"cast:", cast, 2, 2}} {
		if strings.HasPrefix(rest, words.name) {
			p.at += len(words.name)
			return p.words(words.kind, words.min, words.max)
		}
	}
	out := part{kind: number}
	var err error
	if out.expr, err = p.sum(0); err != nil {
		return out, err
	}
	if !out.expr.channel && !out.expr.stream {
		return out, p.fail("a number holds channel or stream; a fixed one stands without braces")
	}
	p.uses.channel = p.uses.channel || out.expr.channel
	p.uses.stream = p.uses.stream || out.expr.stream
	if p.at < len(p.text) && p.text[p.at] == ':' {
		p.at++
		if p.at+1 >= len(p.text) || p.text[p.at] != '0' || p.text[p.at+1] < '2' || p.text[p.at+1] > '9' {
			return out, p.fail("after : stands 0 and a width from 2 to 9, as in {channel:02}")
		}
		out.width = int(p.text[p.at+1] - '0')
		p.at += 2
	}
	if p.at >= len(p.text) || p.text[p.at] != '}' {
		return out, p.fail("a number is not closed: } is missing")
	}
	p.at++
	return out, nil
}

func (p *parser) words(k kind, least, most int) (part, error) {
	end := strings.IndexByte(p.text[p.at:], '}')
	if end < 0 {
		return part{}, p.fail("words are not closed: } is missing")
	}
	list := strings.Split(p.text[p.at:p.at+end], "|")
	if len(list) < least || len(list) > most {
		return part{}, p.fail("here stand %d to %d words, parted by |", least, most)
	}
	for i, w := range list {
		if strings.ContainsAny(w, "{[]") || strings.ContainsFunc(w, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
			return part{}, p.fail("the word %q cannot stand in a path", w)
		}
		for _, other := range list[:i] {
			if other == w {
				return part{}, p.fail("the word %q stands here twice", w)
			}
		}
	}
	if k == tier {
		if p.uses.streams == 0 || len(list) < p.uses.streams {
			p.uses.streams = len(list)
		}
		p.uses.stream = true
	} else {
		p.uses.cast = true
	}
	p.at += end + 1
	return part{kind: k, words: list}, nil
}
