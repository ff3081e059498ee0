package keeping

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhole(t *testing.T) {
	assert.Equal(t, Usual, Rule{}.Whole())
	assert.Equal(t, 400, Rule{Quarters: 400}.Whole().Quarters)
	assert.Equal(t, 7, Rule{Quarters: 400}.Whole().Minutes)
}

func TestCheck(t *testing.T) {
	assert.NoError(t, Rule{}.Check())
	assert.NoError(t, Rule{Minutes: 30, Quarters: 365, Hours: 3650}.Check())
	assert.Error(t, Rule{Minutes: 365}.Check(), "longer than what is coarser")
	assert.Error(t, Rule{Hours: 10}.Check())
}
