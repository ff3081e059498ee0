package fanout

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestHowPicturesCome(t *testing.T) {
	t.Parallel()
	var m meter
	begun := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	packet := func(seq uint16, n int) {
		m.packet([]byte{0x80, 0x80 | 96, byte(seq >> 8), byte(seq), 0, 0, 0, 0, 0, 0, 0, 0}, begun.Add(time.Duration(n)*100*time.Millisecond))
	}
	for n := range 60 {
		packet(uint16(65_500+n), n) // the numbers wrap
	}
	assert.InDelta(t, 10, m.is.FPS, 0.3)
	assert.Zero(t, m.is.Lost)
	packet(25, 60)
	assert.EqualValues(t, 1, m.is.Lost)
	packet(24, 61)
	assert.Zero(t, m.is.Lost, "it came late")
	m.packet([]byte{1, 2}, begun)
	packet(126, 62)
	assert.EqualValues(t, 100, m.is.Lost)
}
