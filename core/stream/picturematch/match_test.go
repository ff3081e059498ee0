package picturematch

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// view draws one of many places: land, houses, poles and lamps where the seed has them, and something that moves through it.
func view(seed uint64, moment float64, w, h int) *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	r := rand.New(rand.NewPCG(seed, 9))
	grey := func() color.RGBA { return color.RGBA{uint8(r.IntN(256)), uint8(r.IntN(256)), uint8(r.IntN(256)), 255} }
	rect := func(c color.RGBA, x, y, dx, dy float64) {
		at := image.Rect(int(x*float64(w)), int(y*float64(h)), int((x+dx)*float64(w)), int((y+dy)*float64(h)))
		draw.Draw(img, at, image.NewUniform(c), image.Point{}, draw.Src)
	}
	horizon := 0.3 + 0.4*r.Float64()
	rect(grey(), 0, 0, 1, horizon)
	rect(grey(), 0, horizon, 1, 1-horizon)
	for range 14 {
		rect(grey(), r.Float64()*0.95, r.Float64()*0.9, 0.03+0.18*r.Float64(), 0.03+0.25*r.Float64())
	}
	for range 8 {
		rect(grey(), r.Float64(), horizon-0.25, 0.01, 0.5)
	}
	rect(grey(), math.Mod(moment, 1), horizon, 0.12, 0.1) // a coach in passing
	return img
}

// shown is the picture as a target shows it.
type shown struct {
	name string
	of   func(seed uint64, moment float64) image.Image
}

func resized(img *image.RGBA, w, h int) *image.RGBA {
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	b := img.Bounds()
	for y := range h {
		for x := range w {
			out.Set(x, y, img.At(x*b.Dx()/w, y*b.Dy()/h))
		}
	}
	return out
}

func brighter(img *image.RGBA, by float64) *image.RGBA {
	out := image.NewRGBA(img.Bounds())
	for i, v := range img.Pix {
		if i%4 == 3 {
			out.Pix[i] = v
			continue
		}
		out.Pix[i] = uint8(min(255, float64(v)*by))
	}
	return out
}

func overlaid(img *image.RGBA) *image.RGBA {
	out := image.NewRGBA(img.Bounds())
	draw.Draw(out, out.Bounds(), img, image.Point{}, draw.Src)
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	draw.Draw(out, image.Rect(0, 0, w/2, h/10), image.NewUniform(color.White), image.Point{}, draw.Src)
	draw.Draw(out, image.Rect(w/2, h-h/10, w, h), image.NewUniform(color.Black), image.Point{}, draw.Src)
	return out
}

func coded(t testing.TB, img image.Image) image.Image {
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, &jpeg.Options{Quality: 35}))
	out, err := jpeg.Decode(&b)
	require.NoError(t, err)
	return out
}

func ways(t testing.TB) []shown {
	whole := func(seed uint64, moment float64) *image.RGBA { return view(seed, moment, 640, 360) }
	return []shown{
		{"a moment later", func(s uint64, m float64) image.Image { return whole(s, m+0.3) }},
		{"a quarter as large", func(s uint64, m float64) image.Image { return resized(whole(s, m), 160, 90) }},
		{"stretched to another shape", func(s uint64, m float64) image.Image { return resized(whole(s, m), 352, 288) }},
		{"with a name and a clock", func(s uint64, m float64) image.Image { return overlaid(whole(s, m)) }},
		{"a fifth brighter", func(s uint64, m float64) image.Image { return brighter(whole(s, m), 1.2) }},
		{"a fifth darker", func(s uint64, m float64) image.Image { return brighter(whole(s, m), 0.8) }},
		{"coded hard, small, later and drawn over", func(s uint64, m float64) image.Image {
			return coded(t, overlaid(resized(brighter(whole(s, m+0.5), 0.85), 320, 180)))
		}},
	}
}

const views = 50

// Every view is known again however it is shown, and none of 2,450 ordered pairs is taken for another.
func TestTheRightCameraIsTold(t *testing.T) {
	var own [views]Print
	for i := range own {
		own[i] = Of(view(uint64(i), 0, 640, 360))
	}
	for _, way := range ways(t) {
		for i := range own {
			v, score := Compare(own[i], Of(way.of(uint64(i), 0)))
			assert.Equal(t, Same, v, "view %d %s: %.2f", i, way.name, score)
		}
	}
	wrong := 0
	for i := range own {
		for j := range own {
			if i == j {
				continue
			}
			if v, _ := Compare(own[i], own[j]); v == Same {
				wrong++
			}
		}
	}
	assert.Zero(t, wrong, "of 2450 pairs")
	v, _ := Compare(own[0], Of(ways(t)[6].of(1, 0)))
	assert.Equal(t, Other, v)
}

func TestNothingToCompare(t *testing.T) {
	black := image.NewRGBA(image.Rect(0, 0, 640, 360))
	seen := Of(view(1, 0, 640, 360))
	for name, p := range map[string]Print{"a black picture": Of(black), "none": {},
		"one without pixels": Of(image.NewGray(image.Rect(0, 0, 4, 4)))} {
		v, _ := Compare(seen, p)
		assert.Equal(t, CannotTell, v, name)
		v, _ = Compare(p, p)
		assert.Equal(t, CannotTell, v, "%s is like itself, and that says nothing", name)
		assert.True(t, p.Blank(), name)
	}
	grey := image.NewGray(image.Rect(0, 0, 640, 360))
	draw.Draw(grey, grey.Bounds(), view(1, 0, 640, 360), image.Point{}, draw.Src)
	paletted := image.NewPaletted(image.Rect(0, 0, 640, 360), color.Palette{color.Black, color.Gray{60}, color.Gray{120},
		color.Gray{180}, color.White})
	draw.Draw(paletted, paletted.Bounds(), view(1, 0, 640, 360), image.Point{}, draw.Src)
	for _, img := range []image.Image{grey, paletted} {
		v, score := Compare(seen, Of(img))
		assert.Equal(t, Same, v, "%T %.2f", img, score)
	}
}

func BenchmarkCompare(b *testing.B) {
	one, two := Of(view(1, 0, 640, 360)), Of(view(2, 0, 640, 360))
	for b.Loop() {
		Compare(one, two)
	}
}

func BenchmarkOf(b *testing.B) {
	img := coded(b, view(1, 0, 1280, 720))
	for b.Loop() {
		Of(img)
	}
}
