// Package scene draws the Tarnside Railway: one small moving picture a camera, so that a wrong channel is seen at a
// glance, and encodes it as real H.264.
package scene

import (
	"image"
	"image/color"
	"image/draw"
	"math"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// canvas draws in units of a 320 x 180 picture, whatever the real size.
type canvas struct {
	img *image.RGBA
	k   float64
	ras *vector.Rasterizer
}

func newCanvas(w, h int) *canvas {
	return &canvas{img: image.NewRGBA(image.Rect(0, 0, w, h)), k: float64(h) / 180, ras: vector.NewRasterizer(w, h)}
}

func rgb(hex uint32) color.RGBA {
	return color.RGBA{uint8(hex >> 16), uint8(hex >> 8), uint8(hex), 255}
}

// poly fills a polygon given as x, y, x, y, ... Only its own box is rasterised: most shapes are small.
func (c *canvas) poly(hex uint32, xy ...float64) {
	low, high := [2]float64{xy[0], xy[1]}, [2]float64{xy[0], xy[1]}
	for i, v := range xy {
		low[i%2], high[i%2] = min(low[i%2], v), max(high[i%2], v)
	}
	box := image.Rect(int(low[0]*c.k)-1, int(low[1]*c.k)-1, int(high[0]*c.k)+2, int(high[1]*c.k)+2)
	if box = box.Intersect(c.img.Bounds()); box.Empty() {
		return
	}
	c.ras.Reset(box.Dx(), box.Dy())
	for i := 0; i+1 < len(xy); i += 2 {
		x, y := float32(xy[i]*c.k)-float32(box.Min.X), float32(xy[i+1]*c.k)-float32(box.Min.Y)
		if i == 0 {
			c.ras.MoveTo(x, y)
		} else {
			c.ras.LineTo(x, y)
		}
	}
	c.ras.ClosePath()
	c.ras.Draw(c.img, box, image.NewUniform(rgb(hex)), image.Point{})
}

func (c *canvas) rect(hex uint32, x, y, w, h float64) {
	r := image.Rect(int(x*c.k), int(y*c.k), int((x+w)*c.k), int((y+h)*c.k)).Intersect(c.img.Bounds())
	draw.Draw(c.img, r, image.NewUniform(rgb(hex)), image.Point{}, draw.Src)
}

func (c *canvas) disc(hex uint32, x, y, r float64) {
	const n = 28
	xy := make([]float64, 0, 2*n)
	for i := range n {
		a := 2 * math.Pi * float64(i) / n
		xy = append(xy, x+r*math.Cos(a), y+r*math.Sin(a))
	}
	c.poly(hex, xy...)
}

// bar draws a thick line.
func (c *canvas) bar(hex uint32, x1, y1, x2, y2, w float64) {
	l := math.Hypot(x2-x1, y2-y1)
	if l == 0 {
		return
	}
	dx, dy := (y2-y1)/l*w/2, -(x2-x1)/l*w/2
	c.poly(hex, x1+dx, y1+dy, x2+dx, y2+dy, x2-dx, y2-dy, x1-dx, y1-dy)
}

var typeface = sync.OnceValue(func() *opentype.Font {
	f, err := opentype.Parse(gobold.TTF)
	if err != nil {
		panic(err) // the font is compiled in
	}
	return f
})

// text writes s with its baseline at x, y; size is the height of the type in picture units.
func (c *canvas) text(hex uint32, x, y, size float64, s string) float64 {
	face, err := opentype.NewFace(typeface(), &opentype.FaceOptions{Size: size * c.k, DPI: 72})
	if err != nil {
		return 0
	}
	defer face.Close()
	d := font.Drawer{Dst: c.img, Src: image.NewUniform(rgb(hex)), Face: face,
		Dot: fixed.Point26_6{X: fixed.Int26_6(x * c.k * 64), Y: fixed.Int26_6(y * c.k * 64)}}
	d.DrawString(s)
	return float64(d.Dot.X)/64/c.k - x
}

func (c *canvas) person(coat uint32, x, y, h float64) {
	c.rect(0x2b2a2a, x-h*.12, y-h*.45, h*.09, h*.45)
	c.rect(0x2b2a2a, x+h*.03, y-h*.45, h*.09, h*.45)
	c.poly(coat, x-h*.2, y-h*.38, x-h*.15, y-h*.8, x+h*.15, y-h*.8, x+h*.2, y-h*.38)
	c.disc(0xe0b896, x, y-h*.9, h*.11)
}

// engine draws a small tank engine with its front at x, rails at y.
func (c *canvas) engine(livery uint32, x, y, s float64, turn float64) {
	c.rect(livery, x-60*s, y-26*s, 44*s, 18*s)
	c.rect(livery, x-82*s, y-40*s, 24*s, 32*s)
	c.rect(0xcfd8d4, x-78*s, y-36*s, 15*s, 11*s)
	c.rect(0x1d1d1d, x-84*s, y-43*s, 28*s, 4*s)
	c.rect(0x1d1d1d, x-26*s, y-40*s, 7*s, 15*s)
	c.disc(0xb08d3c, x-42*s, y-28*s, 5*s)
	c.rect(0x8c1f1a, x-84*s, y-9*s, 70*s, 4*s)
	for _, wx := range []float64{-74, -52, -30} {
		c.disc(0x202020, x+wx*s, y-6*s, 7*s)
		c.bar(0xb9b9b9, x+wx*s, y-6*s, x+wx*s+6*s*math.Cos(turn), y-6*s+6*s*math.Sin(turn), 1.6*s)
	}
}

func (c *canvas) coach(livery uint32, x, y, s float64) {
	c.rect(livery, x-90*s, y-36*s, 86*s, 28*s)
	c.rect(0xe8dfc4, x-90*s, y-36*s, 86*s, 11*s)
	for i := range 5 {
		c.rect(0x34424a, x-(85-17*float64(i))*s, y-33*s, 12*s, 10*s)
	}
	c.disc(0x202020, x-74*s, y-6*s, 6*s)
	c.disc(0x202020, x-20*s, y-6*s, 6*s)
}

func (c *canvas) rails(y float64) {
	for i := range 24 {
		c.rect(0x5d4a3a, float64(i)*14, y+1, 8, 3)
	}
	c.rect(0x8b8f92, 0, y-1, 320, 2)
}

func (c *canvas) land(sky, hill, ground uint32, horizon float64) {
	c.rect(sky, 0, 0, 320, horizon)
	c.poly(hill, 0, horizon, 0, horizon-22, 60, horizon-40, 130, horizon-14, 210, horizon-46, 320, horizon-10, 320, horizon)
	c.rect(ground, 0, horizon, 320, 180-horizon)
}
