package picturematch

import (
	"encoding/json"
	"image"
	"image/color"
	"image/draw"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// atHour shows a view as it is at an hour of a day: dark and noisy at night, in the rain at times, under lamps that flicker.
func atHour(img *image.RGBA, hour float64, rain bool, r *rand.Rand) *image.RGBA {
	out := image.NewRGBA(img.Bounds())
	light := 0.22 + 0.85*max(0, math.Sin((hour-6)/12*math.Pi))
	light *= 0.93 + 0.14*r.Float64() // flicker
	noise := 4.0
	if light < 0.4 {
		noise = 9 // the sensor turns its gain up
	}
	for i, v := range img.Pix {
		if i%4 == 3 {
			out.Pix[i] = 255
			continue
		}
		out.Pix[i] = uint8(max(0, min(255, 10+float64(v)*light+noise*r.NormFloat64())))
	}
	if rain {
		for range 700 { // streaks
			x, y := r.IntN(640), r.IntN(340)
			draw.Draw(out, image.Rect(x, y, x+1, y+14), image.NewUniform(color.RGBA{190, 195, 200, 255}), image.Point{}, draw.Src)
		}
	}
	return out
}

func blurred(img *image.RGBA, by int) *image.RGBA {
	out := image.NewRGBA(img.Bounds())
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	pass := func(dst, src *image.RGBA, dx, dy int) {
		for y := range h {
			for x := range w {
				var sum [3]int
				for k := -by; k <= by; k++ {
					c := src.RGBAAt(max(0, min(w-1, x+k*dx)), max(0, min(h-1, y+k*dy)))
					sum[0], sum[1], sum[2] = sum[0]+int(c.R), sum[1]+int(c.G), sum[2]+int(c.B)
				}
				n := 2*by + 1
				dst.SetRGBA(x, y, color.RGBA{uint8(sum[0] / n), uint8(sum[1] / n), uint8(sum[2] / n), 255})
			}
		}
	}
	half := image.NewRGBA(img.Bounds())
	pass(half, img, 1, 0)
	pass(out, half, 0, 1)
	return out
}

func plain(c color.Color) *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, 640, 360))
	draw.Draw(img, img.Bounds(), image.NewUniform(c), image.Point{}, draw.Src)
	return img
}

// A day and a night, rain and flicker are no obstacle, also where only one picture by day is known to begin with.
func TestADayIsNoObstacle(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for seed := range uint64(20) {
		first := ViewOf(coded(t, view(seed, 0, 640, 360)))
		known, alone := Views{4: first}, Views{4: first}
		for hour := range 24 {
			now := ViewOf(coded(t, atHour(view(seed, float64(hour)*0.17, 640, 360), float64(hour), hour%5 == 2, r)))
			assert.Empty(t, alone.Judge(hour, now), "view %d at %d h against its first picture", seed, hour)
			assert.Empty(t, known.Judge(hour, now), "view %d at %d h against what was learned", seed, hour)
			known = known.Learn(hour, now)
		}
		assert.Len(t, known, 8)
	}
}

// What stands before the lens, or moved it, is told by day and at night.
func TestObstacles(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	missed := map[Obstacle]int{}
	for seed := range uint64(20) {
		known := Views{4: ViewOf(view(seed, 0, 640, 360)), 0: ViewOf(atHour(view(seed, 0.4, 640, 360), 2, false, r))}
		day := view(seed, 0.3, 640, 360)
		for want, img := range map[Obstacle]image.Image{
			Black: plain(color.RGBA{3, 3, 3, 255}), Covered: plain(color.RGBA{120, 96, 60, 255}), Turned: view(seed+100, 0.3, 640, 360),
			Blurred: blurred(day, 6), "": day,
		} {
			if got := known.Judge(13, ViewOf(coded(t, img))); got != want {
				missed[want]++
				assert.NotEqual(t, Obstacle(""), want, "view %d is taken for %q", seed, got)
			}
		}
	}
	for what, n := range missed {
		assert.LessOrEqual(t, n, 2, "of 20 pictures that were %s", what)
	}
}

// A camera that shows nothing at night, as was learned, is not told each night.
func TestABlackNightIsLearned(t *testing.T) {
	black := ViewOf(plain(color.Black))
	day := ViewOf(view(1, 0, 640, 360))
	known := Views{4: day}
	assert.Equal(t, Black, known.Judge(2, black))
	known = known.Learn(1, black)
	assert.Empty(t, known.Judge(2, black))
	assert.Equal(t, Black, known.Judge(13, black), "at noon it is none")
	assert.Empty(t, known.Judge(13, day))
	assert.Equal(t, Covered, known.Judge(13, ViewOf(plain(color.Gray{25}))), "it was light at this hour before")
	assert.Empty(t, Views(nil).Judge(13, day), "nothing is known to judge by")
	assert.Empty(t, known.Judge(13, View{}))
}

func TestAViewIsWrittenAndRead(t *testing.T) {
	v := ViewOf(view(7, 0, 640, 360))
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	assert.Less(t, len(raw), 4000)
	var back View
	require.NoError(t, json.Unmarshal(raw, &back))
	verdict, score := Compare(v.Print, back.Print)
	assert.Equal(t, Same, verdict)
	assert.Greater(t, score, 0.98)
	assert.Error(t, json.Unmarshal([]byte(`{"cells":"AAAA"}`), &back))
	assert.Error(t, json.Unmarshal([]byte(`{"cells":7}`), &back))
}
