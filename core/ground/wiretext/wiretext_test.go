package wiretext

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestLine(t *testing.T) {
	for in, want := range map[string]string{
		"Platform clock":                 "Platform clock",
		"  two\t words \r\n":             "two words",
		"nul\x00byte":                    "nul·byte",
		"\x1b[2Jcleared":                 "·[2Jcleared",
		"broken \xff utf-8":              "broken · utf-8",
		"gnp.\u202eexe":                  "gnp.·exe",
		"Zürich, 日本":                     "Zürich, 日本",
		"\u0085next\u2028line\u009bcsi ": "next line·csi", // both are white space to Unicode, and part words
	} {
		assert.Equal(t, want, Line(in, 100), "%q", in)
	}
	assert.Equal(t, "ääää…", Line(strings.Repeat("ä", 50), 9), "cut at a letter")
	assert.Equal(t, "", Line("", 5))
}

func TestBlockKeepsLines(t *testing.T) {
	assert.Equal(t, "a\n\tb·c\n", Block("a\r\n\tb\x07c\n"))
	var out bytes.Buffer
	n, err := fmt.Fprintf(Writer{&out}, "name: %s\n", "\x1b]0;owned\x07")
	assert.NoError(t, err)
	assert.Equal(t, "name: ·]0;owned·\n", out.String())
	assert.Equal(t, 17, n)
}

func FuzzLine(f *testing.F) {
	f.Add("a\x00b\u202e", 3)
	f.Fuzz(func(t *testing.T, s string, n int) {
		n = n%500 + 500
		out := Line(s, n)
		if !utf8.ValidString(out) || strings.ContainsFunc(out, Harmful) || len(out) > n+len("…") {
			t.Fatalf("%q", out)
		}
	})
}
