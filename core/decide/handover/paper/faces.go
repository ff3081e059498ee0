package paper

import (
	"embed"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/image/font/sfnt"
	"golang.org/x/text/unicode/bidi"
	"golang.org/x/text/unicode/runenames"
)

//go:embed fonts/*.ttf
var fonts embed.FS

// A face is one cut of a typeface, by the name of its file.
type face string

const (
	sans    face = "sans"
	bold    face = "bold"
	mono    face = "mono"
	scripts face = "scripts" // Greek, Cyrillic, Hebrew, Arabic and signs
	cjk     face = "cjk"     // Chinese, Japanese, Korean
)

// fallbacks are asked in this order for a character that the wanted face lacks.
// Sans returns the file of the usual typeface, in TrueType.
func Sans() []byte {
	b, err := fonts.ReadFile("fonts/sans.ttf")
	if err != nil {
		panic(err) // it is compiled in
	}
	return b
}

var fallbacks = []face{sans, scripts, cjk}

// glyphs says which characters each face has. A face is read when it is asked first.
var glyphs = map[face]func(rune) bool{}

func init() {
	for _, f := range []face{sans, bold, mono, scripts, cjk} {
		font := sync.OnceValue(func() *sfnt.Font {
			parsed, err := sfnt.Parse(f.data())
			if err != nil {
				panic(err) // it is part of the program
			}
			return parsed
		})
		var mu sync.Mutex
		known := map[rune]bool{}
		glyphs[f] = func(r rune) bool {
			if r < 0x7f && r >= ' ' {
				return true
			}
			mu.Lock()
			defer mu.Unlock()
			has, ok := known[r]
			if !ok {
				i, err := font().GlyphIndex(nil, r)
				has = err == nil && i != 0 && r <= 0xffff // the library that writes the paper knows no more
				known[r] = has
			}
			return has
		}
	}
}

func (f face) data() []byte {
	raw, err := fonts.ReadFile("fonts/" + string(f) + ".ttf")
	if err != nil {
		panic(err) // it is part of the program
	}
	return raw
}

// A run is a piece of a line that one face has.
type run struct {
	face face
	text string
}

// visible returns a text as it can be printed: each character that no face has is written by its Unicode name in brackets, and what is
// invisible is left out.
func visible(text string) string {
	plain := true
	for _, r := range text {
		if !glyphs[sans](r) {
			plain = false
			break
		}
	}
	if plain {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		switch {
		case r == '\n' || r == '\t' || r == '\r':
			b.WriteByte(' ')
		case unicode.In(r, unicode.Cf, unicode.Variation_Selector, unicode.Mn):
			// joiners, directions and marks over letters need a shaper, which the library has not
		case faceOf(sans, r) != "":
			b.WriteRune(r)
		default:
			b.WriteString("[" + strings.ToLower(runenames.Name(r)) + "]")
		}
	}
	return b.String()
}

// faceOf returns the face that a character is set in; "" where none has it.
func faceOf(want face, r rune) face {
	if glyphs[want](r) {
		return want
	}
	for _, f := range fallbacks {
		if glyphs[f](r) {
			return f
		}
	}
	return ""
}

// runs splits a line into pieces of one face each, in the order in which they are seen: what is written from right to left is turned
// around.
func runs(want face, line string) (out []run) {
	for _, r := range inOrder(line) {
		f := faceOf(want, r)
		if f == "" {
			f, r = want, '?'
		}
		if n := len(out); n > 0 && out[n-1].face == f {
			out[n-1].text += string(r)
		} else {
			out = append(out, run{f, string(r)})
		}
	}
	return out
}

// inOrder returns a line in the order in which it is seen (Unicode Standard Annex 9).
func inOrder(line string) string {
	rightToLeft := false
	for _, r := range line {
		if r < 0x590 {
			continue
		}
		if p, _ := bidi.LookupRune(r); p.Class() == bidi.R || p.Class() == bidi.AL {
			rightToLeft = true
			break
		}
	}
	if !rightToLeft {
		return line
	}
	var p bidi.Paragraph
	if _, err := p.SetString(line); err != nil {
		return line
	}
	order, err := p.Order()
	if err != nil {
		return line
	}
	var b strings.Builder
	for i := range order.NumRuns() {
		piece := order.Run(i)
		if piece.Direction() == bidi.RightToLeft {
			b.WriteString(bidi.ReverseString(piece.String()))
		} else {
			b.WriteString(piece.String())
		}
	}
	return b.String()
}
