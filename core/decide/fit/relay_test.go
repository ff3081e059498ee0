package fit_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/fit"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
)

func TestARelayForATargetThatTakesNothing(t *testing.T) {
	t.Parallel()
	streams := map[string]fit.Stream{
		"main": {Role: "main", Codec: "H.265", Profile: "Main", Width: 1920, Height: 1080, FPS: 25, Kbps: 4000, GOPSeconds: 2,
			Audio: "G.711 µ-law", Transport: "tcp", Port: 554, Scheme: "digest MD5"},
		"sub": {Role: "sub", Codec: "H.264", Profile: "Baseline", Width: 640, Height: 360, FPS: 10, Kbps: 512, GOPSeconds: 2,
			Audio: "none", Transport: "tcp", Port: 554, Scheme: "digest MD5"},
	}
	panel := intake.Intake{Name: "Door panel", Codecs: []string{"MJPEG"}, MaxSize: tuning.Size{Width: 640, Height: 480},
		FPS: intake.Range{Max: 5}, Audio: []string{"none"}}
	offers := fit.ByRelay(streams, panel, 8554)
	require.Len(t, offers, 2)
	assert.Equal(t, "sub", offers[0].Role, "it is large enough, and costs less")
	assert.Equal(t, conversion.Shape{Codec: "MJPEG", FPS: 5}, offers[0].Form)
	for _, o := range offers {
		through := fit.Through(streams[o.Role], o.Form, 8554)
		assert.Empty(t, fit.Check(through, panel), "%+v", through)
	}

	phone := intake.Intake{Name: "Phone", Codecs: []string{"H.264"}, Audio: []string{"AAC"}, MinSize: tuning.Size{Width: 1280, Height: 720}}
	offers = fit.ByRelay(streams, phone, 8554)
	require.NotEmpty(t, offers)
	assert.Equal(t, "main", offers[0].Role, "the other is too small")
	assert.Equal(t, "H.264", offers[0].Form.Codec)
	assert.Equal(t, "AAC", offers[0].Form.Sound)

	picky := intake.Intake{Name: "Old recorder", Schemes: []string{"basic"}}
	assert.Empty(t, fit.ByRelay(streams, picky, 8554), "a relay asks for digest")
	assert.Empty(t, fit.ByRelay(streams, intake.Intake{Name: "Sphere", Codecs: []string{"MPEG-4"}}, 8554))
	assert.Empty(t, fit.ByRelay(streams, intake.Intake{Name: "Fixed", Ports: []int{554}}, 8554))

	as := fit.ByRelay(streams, intake.Intake{Name: "Fixed", Ports: []int{8554}}, 8554)
	require.NotEmpty(t, as)
	assert.True(t, as[0].Form.IsZero(), "another port is all it wants")
}
