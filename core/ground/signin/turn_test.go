package signin

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheStrongestReasonIsGiven(t *testing.T) {
	for want, turn := range map[string]Turn{
		"it has opened this device before":      {Opened: true, Bound: true, Maker: "Corvane"},
		"it is for this device":                 {Bound: true, Maker: "Corvane", Opens: 3},
		"it is for Corvane":                     {Maker: "Corvane", Site: true},
		"it is for this site":                   {Site: true, OpensAlike: 2},
		"it opens 2 other devices of this kind": {OpensAlike: 2, Opens: 5},
		"it opens 5 other devices":              {Opens: 5},
		"its turn on the keyring":               {},
	} {
		assert.Equal(t, want, turn.String())
	}
}
