package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestClockWrong(t *testing.T) {
	for ms, wrong := range map[int64]bool{0: false, 5_000: false, -5_000: false, 5_001: true, -5_001: true, 90_000: true} {
		assert.Equal(t, wrong, Reached{SkewMS: ms}.ClockWrong(), "%d ms", ms)
	}
}
