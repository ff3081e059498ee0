package keeping

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhole(t *testing.T) {
	assert.Equal(t, Usual, KeepingRule{}.Whole())
	assert.Equal(t, 400, KeepingRule{Quarters: 400}.Whole().Quarters)
	assert.Equal(t, 7, KeepingRule{Quarters: 400}.Whole().Minutes)
}

func TestCheck(t *testing.T) {
	assert.NoError(t, KeepingRule{}.Check())
	assert.NoError(t, KeepingRule{Minutes: 30, Quarters: 365, Hours: 3650}.Check())
	assert.Error(t, KeepingRule{Minutes: 365}.Check(), "longer than what is coarser")
	assert.Error(t, KeepingRule{Hours: 10}.Check())
}
