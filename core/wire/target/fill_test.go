package target

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFill(t *testing.T) {
	var l Layout
	for i, is := range []string{Free, Used, Free, Blocked, Free, Locked, Free} {
		l.Slots = append(l.Slots, Slot{Token: string(rune('a' + i)), Is: is})
	}
	for _, c := range []struct {
		name, start string
		n           int
		at          []int
		want        []string
	}{
		{"the free ones in order", "", 3, nil, []string{"a", "c", "e"}},
		{"from a slot on", "c", 3, nil, []string{"c", "e", "g"}},
		{"from a slot that is taken", "b", 1, nil, []string{"c"}},
		{"more than there are", "e", 3, nil, []string{"e", "g", ""}},
		{"gaps are kept", "a", 3, []int{4, 6, 8}, []string{"a", "c", "e"}},
		{"what is taken stays taken", "a", 3, []int{0, 1, 2}, []string{"a", "", "c"}},
		{"beyond the end and before the start", "e", 3, []int{0, 9, -9}, []string{"e", "", ""}},
		{"a slot that is gone", "z", 2, nil, []string{"", ""}},
	} {
		assert.Equal(t, c.want, Fill(l, c.start, c.n, c.at), c.name)
	}
}
