package conversion_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/conversion"
	"unlatch/core/stream/tuning"
)

var camera = conversion.Source{Codec: "H.265", Width: 1920, Height: 1080, FPS: 25}

var rates = conversion.Rates{Decode: map[string]float64{"H.265": 0.004}, Encode: map[string]float64{"H.264": 0.01, "MJPEG": 0.005},
	Sound: 0.02, Budget: 1}

func Example() {
	form := conversion.Shape{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5, Sound: "none"}
	cost, _ := rates.Cost(camera, form)
	fmt.Printf("%s: %.2f cores\n", form, cost)
	// Output: MJPEG, 640×360, 5 frames a second, no sound: 0.21 cores
}

func TestWhatComesOut(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		form          conversion.Shape
		codec         string
		width, height int
		fps           float64
	}{
		{conversion.Shape{Codec: "H.264"}, "H.264", 1920, 1080, 25},
		{conversion.Shape{FPS: 5}, "H.265", 1920, 1080, 5},
		{conversion.Shape{Codec: "MJPEG"}, "MJPEG", 1920, 1080, 25},
		{conversion.Shape{Codec: "MJPEG", Turn: 90}, "MJPEG", 1080, 1920, 25},
		{conversion.Shape{Codec: "H.264", Width: 333, Height: 201}, "H.264", 332, 200, 25},
	} {
		got := c.form.Becomes(camera)
		assert.Equal(t, conversion.Source{Codec: c.codec, Width: c.width, Height: c.height, FPS: c.fps}, got, c.form.String())
	}
	large := conversion.Shape{Codec: "MJPEG"}.Becomes(conversion.Source{Codec: "H.264", Width: 3840, Height: 2160, FPS: 25})
	assert.Equal(t, [2]int{2040, 1144}, [2]int{large.Width, large.Height})
	other := conversion.Shape{FPS: 5}.Becomes(conversion.Source{Codec: "MPEG-4", Width: 320, Height: 240, FPS: 10})
	assert.Equal(t, "H.264", other.Codec, "nothing is turned into MPEG-4")
}

func TestFormsThatCannotBe(t *testing.T) {
	t.Parallel()
	for _, f := range []conversion.Shape{{Width: 640}, {Width: 8, Height: 8}, {Codec: "MJPEG", Width: 2048, Height: 1152},
		{Codec: "MJPEG", Sound: "AAC"}, {Codec: "MJPEG", GOPSeconds: 1}} {
		var e *conversion.ShapeError
		require.ErrorAs(t, f.Check(), &e, "%+v", f)
		assert.NotEmpty(t, e.Fix)
	}
	assert.NoError(t, conversion.Shape{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5, Sound: "none"}.Check())
}

func TestTheBudget(t *testing.T) {
	t.Parallel()
	cost, err := rates.Afford(camera, conversion.Shape{Codec: "H.264"}, 0)
	require.NoError(t, err)
	assert.InDelta(t, 0.726, cost, 0.001)

	cost, err = rates.Afford(camera, conversion.Shape{Codec: "H.264", Sound: "AAC"}, 0.5)
	var over *conversion.BudgetError
	require.ErrorAs(t, err, &over)
	assert.InDelta(t, 0.746, cost, 0.001)
	assert.Contains(t, err.Error(), "takes 0.75 of a processor core, and 0.50 of the 1.00")
	fits, known := rates.Cost(camera, over.Fits)
	assert.True(t, known && fits <= 0.5, "%s costs %.2f", over.Fits, fits)
	assert.Contains(t, over.Fix(), over.Fits.String())

	_, err = rates.Afford(camera, conversion.Shape{Codec: "H.264"}, 0.9)
	require.ErrorAs(t, err, &over)
	assert.True(t, over.NothingFits, "decoding alone takes more")
	assert.NotContains(t, over.Fix(), "would fit")

	cost, err = rates.Afford(camera, conversion.Shape{Sound: "AAC"}, 0.9)
	assert.NoError(t, err)
	assert.InDelta(t, 0.02, cost, 0.001, "the picture goes on as it comes")
	_, known = rates.Cost(conversion.Source{}, conversion.Shape{Codec: "MJPEG"})
	assert.False(t, known)
}

func TestTheFormOfAPlan(t *testing.T) {
	t.Parallel()
	f := conversion.Of(tuning.Stream{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5, BitrateKbps: 900, Audio: "none"})
	assert.Equal(t, conversion.Shape{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5, Kbps: 900, Sound: "none"}, f)
	assert.True(t, conversion.Of(tuning.Stream{}).IsZero())
	assert.NotEqual(t, f.Key(), conversion.Shape{Codec: "MJPEG"}.Key())
	assert.Equal(t, "as it comes", conversion.Shape{}.String())
	assert.False(t, conversion.Shape{Sound: "none"}.Picture())
}
