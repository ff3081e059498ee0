// Package supportnote writes one page to send to a maker's support: what the device is, what was found, and the exchange that shows
// it. What goes in holds no secrets; see package exchange.
package supportnote

import (
	"fmt"
	"strings"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/ground/exchange"
)

// A Fact is one line about the device.
type Fact struct{ Name, Value string }

// A Note is what a page is made of.
type Note struct {
	Device  string // its name, for the person who sends it
	At      time.Time
	Facts   []Fact // those without a value are left out
	Summary string // what was seen
	Finding *diagnose.Diagnosis
	Turns   []exchange.Turn
	Program string // and its version
}

// Bounds of a page.
const (
	mostLines = 45 // of the turn that mattered, request and answer each
	mostTurns = 24 // in one line each
	wide      = 150
)

// Text returns the page, in lines of plain text.
func (n Note) Text() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("Support note: %s", n.Device)
	line("%s (UTC), by %s", n.At.UTC().Format("2006-01-02 15:04:05"), n.Program)
	line("")
	line("THE DEVICE")
	for _, f := range n.Facts {
		if f.Value != "" {
			line("  %-18s %s", f.Name, cut(f.Value))
		}
	}
	line("")
	line("WHAT WAS FOUND")
	if d := n.Finding; d != nil {
		line("  %s", d.Summary)
		if d.Seen != "" && d.Seen != d.Summary {
			line("  Seen: %s", cut(d.Seen))
		}
		line("  What we would try: %s", d.Fix)
	} else {
		line("  %s", n.Summary)
	}
	mattered := exchange.Mattered(n.Turns)
	if mattered >= 0 {
		t := n.Turns[mattered]
		line("")
		line("THE EXCHANGE THAT SHOWS IT (%.1f ms after the start, answered in %.1f ms: %s)", t.AtMS, t.TookMS, t.Mark)
		block(&b, "> ", t.Sent)
		block(&b, "< ", t.Got)
	}
	if len(n.Turns) > 0 {
		line("")
		line("THE WHOLE EXCHANGE IN SHORT (ms; passwords and what is made of them are taken out)")
	}
	first := max(0, min(mattered-mostTurns+4, len(n.Turns)-mostTurns))
	if first > 0 {
		line("  … %d before", first)
	}
	for i, t := range n.Turns[first:min(first+mostTurns, len(n.Turns))] {
		sign := " "
		if first+i == mattered {
			sign = "!"
		}
		if t.Note != "" {
			line("%s %9.1f  - %s", sign, t.AtMS, cut(strings.ReplaceAll(t.Note, "\n", " ")))
			continue
		}
		answer := t.Answer
		if answer == "" {
			answer = "no answer"
		}
		line("%s %9.1f  %s -> %s (%.1f ms)", sign, t.AtMS, cut(t.Asked), answer, t.TookMS)
	}
	if more := len(n.Turns) - first - mostTurns; more > 0 {
		line("  … %d more", more)
	}
	return b.String()
}

func block(b *strings.Builder, sign, text string) {
	if text == "" {
		fmt.Fprintf(b, "  %s(nothing)\n", sign)
		return
	}
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i, l := range lines {
		if i == mostLines {
			fmt.Fprintf(b, "  %s… %d more lines\n", sign, len(lines)-mostLines)
			return
		}
		fmt.Fprintf(b, "  %s%s\n", sign, cut(l))
	}
}

// cut keeps a line on the page.
func cut(s string) string {
	if r := []rune(s); len(r) > wide {
		return string(r[:wide]) + " …"
	}
	return s
}
