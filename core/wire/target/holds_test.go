package target

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHolding(t *testing.T) {
	l := Layout{Slots: []Slot{{Token: "1", Is: Used, Identity: "urn:a"}, {Token: "2", Is: Free}, {Token: "3", Is: Used},
		{Token: "4", Is: Locked, Identity: "urn:other"}}}
	assert.Equal(t, Holds, l.Holding("1", "urn:a"))
	assert.Equal(t, Others, l.Holding("1", "urn:b"))
	assert.Equal(t, Empties, l.Holding("2", "urn:b"))
	assert.Equal(t, Holds, l.Holding("3", "urn:b"), "it keeps no identities")
	assert.Equal(t, Holds, l.Holding("4", "urn:b"), "what is locked is not ours to judge")
	assert.Equal(t, Empties, l.Holding("5", "urn:b"))
}
