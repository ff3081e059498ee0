package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"unlatch/core/ground/trouble"
	"unlatch/core/stream/mpegts"
)

func TestWhatIsWrongWithATransportStream(t *testing.T) {
	assert.Empty(t, TransportStream(nil))
	assert.Empty(t, TransportStream(&mpegts.Transport{Program: 1, PCRMostMS: 100}))
	var causes []trouble.Cause
	for _, d := range TransportStream(&mpegts.Transport{Program: 1, Programs: 2, PCRMostMS: 101, Alternates: true, Sender: "192.0.2.7",
		Also: []string{"192.0.2.8"}}) {
		causes = append(causes, d.Cause)
		assert.NotEmpty(t, d.Fix)
		assert.NotEmpty(t, d.Seen)
	}
	assert.Equal(t, []trouble.Cause{trouble.TwoSenders, trouble.MixedDatagrams, trouble.ManyPrograms, trouble.LateReferences}, causes)
}
