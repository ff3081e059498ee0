package main

import (
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
	assert.Contains(t, results(all), "| at most 1.3 |")
}
