package relay

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unlatch/core/work/fanout"
)

func TestWhatATakerGetsIsMeasured(t *testing.T) {
	t.Parallel()
	g := &gauge{}
	now := time.Unix(1_700_000_000, 0)
	end, within := []byte{0x80, 0xe0}, []byte{0x80, 0x60}
	g.sent([]fanout.Packet{{Payload: end, At: now.Add(-2 * time.Second)}}, now)
	for range 50 { // ten pictures a second, each of two packets, and sound and reports between
		now = now.Add(100 * time.Millisecond)
		at := now.Add(-2 * time.Millisecond)
		g.sent([]fanout.Packet{{Payload: within, At: at}, {Track: 1, Payload: end, At: at}, {RTCP: true, Payload: end, At: at},
			{Payload: end, At: now}}, now)
		g.sent(nil, now)
	}
	assert.InDelta(t, 10, g.measured.FPS, 0.01)
	assert.InDelta(t, 2, g.measured.DelayMS, 0.01, "and the group that it began with does not count")
}
