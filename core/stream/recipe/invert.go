package recipe

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
)

// Invert returns the values whose path is the text, in order of channel and stream; none where the template does not fit. A value that the
// template does not use is 1.
func (t Template) Invert(text string) []Values {
	if len(text) > MaxLength {
		return nil
	}
	m := matcher{t: &t, seen: map[Values]bool{}}
	for optional := range 1 << t.optional {
		m.v = Values{Optional: optional}
		m.run(flatten(t.parts, optional), text)
	}
	sortValues(m.found)
	return m.found
}

// flatten leaves out the optional parts that are not taken.
func flatten(parts []part, optional int) []part {
	var out []part
	for _, p := range parts {
		if p.kind != group {
			out = append(out, p)
		} else if optional&p.bit != 0 {
			out = append(out, p.inner...)
		}
	}
	return out
}

// matcher walks a path along a template. Words bind stream and cast at once; numbers are kept as equations and solved at the end, when
// everything else fits.
type matcher struct {
	t     *Template
	v     Values // Stream 0 while it is open
	cast  int    // 0 open, 1 unicast, 2 multicast
	eqs   []equation
	found []Values
	seen  map[Values]bool
	steps int
}

type equation struct {
	e *expr
	n int64
}

// maxSteps bounds the walk; a template that needs more would have to be made for it.
const maxSteps = 20000

func (m *matcher) run(parts []part, text string) {
	if m.steps++; m.steps > maxSteps {
		return
	}
	if len(parts) == 0 {
		if text == "" {
			m.solve()
		}
		return
	}
	p := &parts[0]
	switch p.kind {
	case literal:
		if rest, ok := strings.CutPrefix(text, p.text); ok {
			m.run(parts[1:], rest)
		}
	case tier:
		for i, w := range p.words {
			rest, ok := strings.CutPrefix(text, w)
			if !ok || m.v.Stream != 0 && m.v.Stream != i+1 {
				continue
			}
			before := m.v.Stream
			m.v.Stream = i + 1
			m.run(parts[1:], rest)
			m.v.Stream = before
		}
	case cast:
		for i, w := range p.words {
			rest, ok := strings.CutPrefix(text, w)
			if !ok || m.cast != 0 && m.cast != i+1 {
				continue
			}
			before := m.cast
			m.cast = i + 1
			m.run(parts[1:], rest)
			m.cast = before
		}
	case number:
		m.number(parts, text)
	}
}

// number tries every length of digits that this number could have been written with.
func (m *matcher) number(parts []part, text string) {
	p := &parts[0]
	for n := 1; n <= len(text) && n <= 13 && text[n-1] >= '0' && text[n-1] <= '9'; n++ {
		if n < p.width || text[0] == '0' && n > max(p.width, 1) {
			continue // written otherwise it would be longer or shorter
		}
		value, err := strconv.ParseInt(text[:n], 10, 64)
		if err != nil {
			return
		}
		m.eqs = append(m.eqs, equation{&p.expr, value})
		m.run(parts[1:], text[n:])
		m.eqs = m.eqs[:len(m.eqs)-1]
	}
}

// solve finds every channel and stream that makes all numbers what was read.
func (m *matcher) solve() {
	v := m.v
	v.Multicast = m.cast == 2
	channels, first, last := 1, 1, 1
	if m.t.uses.channel {
		channels = MaxChannel
	}
	if v.Stream != 0 {
		first, last = v.Stream, v.Stream
	} else if m.t.uses.stream {
		last = m.t.uses.streams
	}
	for v.Channel = 1; v.Channel <= channels; v.Channel++ {
		for v.Stream = first; v.Stream <= last; v.Stream++ {
			fits := true
			for _, q := range m.eqs {
				if q.e.eval(v) != q.n {
					fits = false
					break
				}
			}
			if fits && !m.seen[v] && len(m.found) < MaxChannel*MaxStream {
				m.seen[v] = true
				m.found = append(m.found, v)
			}
		}
	}
}

func sortValues(list []Values) {
	slices.SortFunc(list, func(a, b Values) int {
		return cmp.Or(cmp.Compare(a.Channel, b.Channel), cmp.Compare(a.Stream, b.Stream), cmp.Compare(bit(a.Multicast), bit(b.Multicast)),
			cmp.Compare(a.Optional, b.Optional))
	})
}
