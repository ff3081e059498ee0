package weigh

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/proof"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
)

// What goes to a group flows once however many take it, and also where nobody does; what is asked for flows once for each who asks.
func TestWhatTheWaysOutOfACameraCostTogether(t *testing.T) {
	rtsp, group := "rtsp://192.0.2.7/main", "udp://@239.255.0.7:20000"
	played := func(how string, kbps float64) evidence.Proof {
		return evidence.Proof{Proof: proof.Proof{OK: true, Transport: how, Video: &media.Measured{BitrateKbps: kbps}}}
	}
	st := &latch.Status{
		Streams: []camera.Stream{{Role: "main", URL: rtsp}, {Role: "sub", URL: group}},
		Proofs:  map[string]evidence.Proof{"main": played("tcp", 2000), "sub": played("mpeg-ts", 500)},
	}
	give := func(name string, urls ...string) {
		p := latch.Placement{Name: name}
		for _, u := range urls {
			p.Gives = append(p.Gives, latch.Given{URL: u})
		}
		st.Placements = append(st.Placements, p)
	}
	got := WaysOf(st)
	require.NotNil(t, got)
	assert.Equal(t, 500.0, got.Kbps, "the group is sent to although nobody takes it")
	give("Desk", rtsp, group)
	give("Recorder", rtsp)
	give("Wall", group)
	got = WaysOf(st)
	assert.Equal(t, 4500.0, got.Kbps)
	assert.Equal(t, Way{Role: "main", How: "tcp", Kbps: 2000, Targets: []string{"Desk", "Recorder"}, FlowKbps: 4000}, got.Ways[0])
	assert.Equal(t, Way{Role: "sub", How: "mpeg-ts", Kbps: 500, Always: true, Targets: []string{"Desk", "Wall"}, FlowKbps: 500}, got.Ways[1])
	st.Streams = st.Streams[:1]
	assert.Nil(t, WaysOf(st), "there is one way out of it")
}
