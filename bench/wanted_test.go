package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A figure is judged by its value; what is only stated is never missed.
func TestFiguresAreJudged(t *testing.T) {
	all := []figure{{"a", "1.4", "", "", atMost(1.3, 1.4, "")}, {"b", "1.3", "", "", atMost(1.3, 1.3, "")}, {"c", "9", "", "", "stated"},
		{"d", "3 ms", "", "", under(3, 3, " ms")}, {"e", "7", "", "", atLeast(8, 7, "")}, {"f", "0", "", "", none(0)}, {"g", "1", "", "",
			none(1)}}
	var names string
	for _, f := range missed(all) {
		names += f.what
	}
	assert.Equal(t, "adeg", names)
	assert.Contains(t, section("x", all), "| at most 1.3 |")
}

// One measurement that is run alone takes the place of its last section, and leaves the others as they were.
func TestASectionIsPutInItsPlace(t *testing.T) {
	names := []string{"a", "b", "c"}
	text := ""
	for _, name := range []string{"c", "a", "b"} {
		text = withSection(text, name, section(name, []figure{{"first " + name, "1", "", "", "stated"}}), names)
	}
	assert.Equal(t, []string{"a", "b", "c"}, titles(text))
	assert.Equal(t, text, withSection(text, "b", section("b", []figure{{"first b", "1", "", "", "stated"}}), names), "nothing piles up")
	text = withSection(text, "b", section("b", []figure{{"second", "2", "", "", "stated"}}), names)
	assert.Contains(t, text, "| second |")
	assert.NotContains(t, text, "first b")
	assert.Contains(t, text, "first a")
	assert.Equal(t, []string{"a", "c"}, titles(withSection(text, "a", section("a", nil), []string{"a", "c"})), "nobody measures b any more")
}

func titles(text string) (out []string) {
	for line := range strings.Lines(text) {
		if title, is := strings.CutPrefix(line, "## "); is {
			out = append(out, strings.TrimSpace(title))
		}
	}
	return out
}
