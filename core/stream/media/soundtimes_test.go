package media

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestSoundTimes(t *testing.T) {
	t.Parallel()
	s := SoundTimes{Rate: 16000}
	assert.EqualValues(t, 1600, s.Next(100*time.Millisecond, 1024))
	assert.EqualValues(t, 2624, s.Next(90*time.Millisecond, 1024), "it came early, and follows all the same")
	assert.EqualValues(t, 3648, s.Next(400*time.Millisecond, 1024), "it came a little late")
	assert.EqualValues(t, 32000, s.Next(2*time.Second, 1024), "some before it were lost")
	assert.EqualValues(t, 33024, s.Next(0, 1024), "it never goes back")
	early := SoundTimes{Rate: 8000}
	assert.Zero(t, early.Next(-time.Second, 1024), "before the first picture")
}
