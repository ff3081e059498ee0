// Package wiretext makes text that came from outside safe to keep and to show. A device, a datagram or a file may hold bytes
// that end a string in a database (NUL), move a terminal's cursor (ESC), or turn the order of letters round (U+202E); none
// of them belongs into a name, a reason or a log. All text from outside passes here where it enters.
package wiretext

import (
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// gone stands for what was taken out, so that a reader sees that something was there.
const gone = '·'

// Line makes one line of s: white space becomes single blanks, control characters and broken UTF-8 become "·", and what is
// longer than max bytes is cut at a letter and ends in "…".
func Line(s string, max int) string {
	s = s[:min(len(s), 4*max+64)] // what is cut away below need not be cleaned first
	s = clean(strings.Join(strings.Fields(strings.ToValidUTF8(s, string(gone))), " "), false)
	if len(s) <= max {
		return s
	}
	for max > 0 && !utf8.RuneStart(s[max]) {
		max--
	}
	return s[:max] + "…"
}

// Block keeps line feeds and tabs and cleans everything else as Line does; nothing is cut. A carriage return before a line
// feed is dropped.
func Block(s string) string {
	return clean(strings.ToValidUTF8(strings.ReplaceAll(s, "\r\n", "\n"), string(gone)), true)
}

func clean(s string, lines bool) string {
	return strings.Map(func(r rune) rune {
		if lines && (r == '\n' || r == '\t') {
			return r
		}
		if Harmful(r) {
			return gone
		}
		return r
	}, s)
}

// Harmful reports whether a letter is a control character (Unicode category Cc) or one that changes the direction of writing
// (Unicode Standard Annex 9 §2), by which a name can be made to look like another.
func Harmful(r rune) bool {
	return unicode.IsControl(r) || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x2028 || r == 0x2029 ||
		r == utf8.RuneError
}

// A Writer passes text on as Block would, for a terminal.
type Writer struct{ To io.Writer }

// Write implements io.Writer. It reports the bytes taken, not those written.
func (w Writer) Write(p []byte) (int, error) {
	if _, err := io.WriteString(w.To, Block(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}
