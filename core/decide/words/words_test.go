package words_test

import (
	"fmt"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/ready"
	"unlatch/core/decide/words"
)

var placeholder = regexp.MustCompile(`\{[a-z]+\}`)

// Every language says everything, with the same values in it.
func TestLanguagesSayTheSame(t *testing.T) {
	en := words.In("en")
	assert.NotEmpty(t, en.Keys())
	for _, tag := range words.Languages[1:] {
		other := words.In(tag)
		assert.Equal(t, en.Keys(), other.Keys(), tag)
		for _, k := range en.Keys() {
			assert.ElementsMatch(t, unique(placeholder.FindAllString(en.Text(k), -1)), unique(placeholder.FindAllString(other.Text(k), -1)),
				"%s %s", tag, k)
		}
	}
}

func unique(list []string) (out []string) {
	seen := map[string]bool{}
	for _, x := range list {
		if !seen[x] {
			out = append(out, x)
		}
		seen[x] = true
	}
	return out
}

// What papers name by a code has its words.
func TestCodesHaveWords(t *testing.T) {
	for _, tag := range words.Languages {
		l := words.In(tag)
		for _, c := range ready.Causes {
			for _, part := range []string{"title.one", "title.many", "do"} {
				assert.True(t, l.Has("finding."+string(c)+"."+part), "%s %s %s", tag, c, part)
			}
		}
		for _, n := range latch.Names {
			assert.True(t, l.Has("latch."+string(n)), "%s %s", tag, n)
		}
		for _, f := range baseline.Fields() {
			assert.True(t, l.Has("field."+string(f)), "%s %s", tag, f)
		}
	}
}

func TestNumbersAndDates(t *testing.T) {
	day := time.Date(2026, 3, 7, 23, 5, 0, 0, time.UTC)
	for _, c := range []struct{ tag, number, small, negative, date, at string }{
		{"en", "1,234,567.5", "12", "−1,000", "7 March 2026", "7 March 2026, 23:05 UTC"},
		{"de", "1.234.567,5", "12", "−1.000", "7. März 2026", "7. März 2026, 23:05 UTC"},
		{"xx", "1,234,567.5", "12", "−1,000", "7 March 2026", "7 March 2026, 23:05 UTC"}, // not known: English
	} {
		l := words.In(c.tag)
		assert.Equal(t, c.number, l.Number(1234567.5, 1), c.tag)
		assert.Equal(t, c.small, l.Number(12.0, 2), c.tag)
		assert.Equal(t, c.negative, l.Number(-1000, 0), c.tag)
		assert.Equal(t, c.date, l.Date(day), c.tag)
		assert.Equal(t, c.at, l.Time(day), c.tag)
	}
}

// A key without words is shown as it is, and a value is never taken for a placeholder of another.
func TestText(t *testing.T) {
	l := words.In("en")
	assert.Equal(t, "no.such.key", l.Text("no.such.key"))
	assert.Equal(t, "waived by {on} on {by}: x", l.Text("paper.waived_by", "by", "{on}", "at", "{by}", "reason", "x"))
	assert.Equal(t, "1 camera", l.Count("paper.counts", 1))
	assert.Equal(t, "2,000 cameras", l.Count("paper.counts", 2000))
}

func ExampleLanguage_Count() {
	for _, tag := range words.Languages {
		fmt.Println(words.In(tag).Count("paper.counts", 1200))
	}
	// Output:
	// 1,200 cameras
	// 1.200 Kameras
}
