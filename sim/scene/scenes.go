package scene

import (
	"fmt"
	"image"
	"math"
	"slices"
)

// A sketch is one scene: still draws what does not move, once; move draws the rest at t, which runs from 0 to 1 over
// the loop and meets itself at the end.
type sketch struct {
	still func(c *canvas)
	move  func(c *canvas, t float64)
}

func wave(t float64) float64 { return (1 - math.Cos(2*math.Pi*t)) / 2 }

var sketches = map[string]sketch{
	"platform-clock": {
		func(c *canvas) {
			c.land(0xa9c4d0, 0x6f8f76, 0x8a8577, 100)
			c.rails(128)
			c.rect(0xb7ad97, 0, 140, 320, 40)
			c.rect(0xe9d9a8, 0, 140, 320, 3)
			c.rect(0x31473f, 236, 70, 6, 74)
			c.disc(0x31473f, 239, 56, 31)
			c.disc(0xf6f1e2, 239, 56, 27)
			for i := range 12 {
				a := float64(i) * math.Pi / 6
				c.bar(0x31473f, 239+22*math.Sin(a), 56-22*math.Cos(a), 239+25*math.Sin(a), 56-25*math.Cos(a), 2)
			}
		},
		func(c *canvas, t float64) {
			x := -20 + 460*t
			c.engine(0x1f5a46, x, 128, .8, t*40)
			c.coach(0x7a2a2a, x-70, 128, .8)
			c.bar(0x222222, 239, 56, 239+13*math.Sin(2), 56-13*math.Cos(2), 3)
			c.bar(0x222222, 239, 56, 239+20*math.Sin(5), 56-20*math.Cos(5), 2)
			c.bar(0xb3261e, 239, 56, 239+24*math.Sin(2*math.Pi*t), 56-24*math.Cos(2*math.Pi*t), 1.2)
		},
	},
	"footbridge": {
		func(c *canvas) {
			c.land(0xbdd3da, 0x7f9a83, 0x6f6a5c, 118)
			c.rails(160)
			c.rect(0x7c2f2a, 40, 74, 240, 8)
			for i := range 13 {
				c.bar(0x7c2f2a, 44+19*float64(i), 74, 44+19*float64(i), 54, 2)
				c.bar(0x7c2f2a, 44+19*float64(i), 74, 63+19*float64(i), 54, 1.4)
			}
			c.rect(0x7c2f2a, 40, 52, 240, 3)
			c.rect(0x9a958a, 44, 82, 18, 84)
			c.rect(0x9a958a, 258, 82, 18, 84)
		},
		func(c *canvas, t float64) {
			c.person(0x2f5d8a, 50+220*t, 74, 26)
			c.person(0xc9a227, 270-220*t, 74, 24)
			c.engine(0x2a2a5a, 420-500*t, 160, .9, -t*40)
		},
	},
	"ticket-window": {
		func(c *canvas) {
			c.rect(0x8d5b45, 0, 0, 320, 150)
			for y := range 15 {
				for x := range 17 {
					c.rect(0x7d4e3a, float64(x*20)-float64(y%2)*10, float64(y)*10, 19, 1)
				}
			}
			c.rect(0x5b5750, 0, 150, 320, 30)
			c.rect(0x2f4a3f, 196, 36, 96, 84)
			c.rect(0xf3d98b, 204, 44, 80, 60)
			c.rect(0xd9c9a0, 190, 108, 108, 8)
			c.text(0xf3e9d0, 206, 32, 13, "TICKETS")
		},
		func(c *canvas, t float64) {
			c.person(0x27343a, 236+16*wave(t), 104, 52)
			c.rect(0xd9c9a0, 190, 104, 108, 8)
			for i, coat := range []uint32{0x8a2f3c, 0x3c6e8a, 0x6b7a35, 0x8a6a3c} {
				c.person(coat, math.Mod(20+44*float64(i)+176*t, 176), 168, 62)
			}
		},
	},
	"crossing-north": {
		func(c *canvas) {
			c.land(0xc8d3c9, 0x5f7d5f, 0x66785a, 92)
			c.poly(0x53565a, 120, 180, 150, 92, 176, 92, 236, 180)
			c.rails(130)
			c.rect(0xefefef, 84, 92, 5, 50)
			c.rect(0x1e1e1e, 78, 70, 17, 24)
		},
		func(c *canvas, t float64) {
			a := wave(t) * 1.25
			for i := range 6 {
				hex := uint32(0xf4f4f4)
				if i%2 == 0 {
					hex = 0xc2281f
				}
				r1, r2 := float64(i)*20, float64(i+1)*20
				c.bar(hex, 88+r1*math.Cos(a), 120-r1*math.Sin(a), 88+r2*math.Cos(a), 120-r2*math.Sin(a), 5)
			}
			lamp := [2]uint32{0xff4433, 0x551510}
			on := int(t*8) % 2
			c.disc(lamp[on], 83, 82, 4)
			c.disc(lamp[1-on], 91, 82, 4)
			c.rect(0x2c6a8f, 150+20*t, 96+70*math.Mod(t*2, 1), 18+10*t, 14)
		},
	},
	"turntable": {
		func(c *canvas) {
			c.rect(0x6d6a63, 0, 0, 320, 180)
			c.disc(0x4a4740, 160, 92, 78)
			c.disc(0x8e8878, 160, 92, 72)
			for i := range 8 {
				a := float64(i) * math.Pi / 4
				c.bar(0x3a3a3a, 160+78*math.Cos(a), 92+78*math.Sin(a), 160+200*math.Cos(a), 92+200*math.Sin(a), 3)
			}
		},
		func(c *canvas, t float64) {
			a := 2 * math.Pi * t
			x, y := math.Cos(a), math.Sin(a)
			c.bar(0x5a3d28, 160-70*x, 92-70*y, 160+70*x, 92+70*y, 30)
			c.bar(0x1f5a46, 160-48*x, 92-48*y, 160+40*x, 92+40*y, 20)
			c.bar(0x2a2a2a, 160-48*x, 92-48*y, 160-24*x, 92-24*y, 20)
			c.disc(0x151515, 160+32*x, 92+32*y, 7)
			c.disc(0xb08d3c, 160+8*x, 92+8*y, 5)
		},
	},
	"coal-stage": {
		func(c *canvas) {
			c.land(0x9fb0b6, 0x6c7a6a, 0x57524a, 110)
			c.poly(0x1b1b1d, 10, 160, 60, 96, 96, 88, 150, 160)
			c.rect(0x6d4a33, 190, 60, 110, 70)
			c.poly(0x40332b, 182, 62, 245, 36, 308, 62)
			c.rails(164)
		},
		func(c *canvas, t float64) {
			a := -.9 + 1.3*wave(t)
			x, y := 170+80*math.Sin(a), 50+30*math.Cos(a)
			c.bar(0xb58b2a, 170, 140, 170, 40, 6)
			c.bar(0xb58b2a, 170, 44, x, y, 4)
			c.bar(0x222222, x, y, x, y+34, 1.5)
			c.poly(0x333333, x-10, y+34, x+10, y+34, x+7, y+46, x-7, y+46)
			c.engine(0x4a2a5a, 250+30*wave(t), 164, .8, t*12)
		},
	},
	"paint-shop": {
		func(c *canvas) {
			c.rect(0xd8d6cf, 0, 0, 320, 140)
			c.rect(0xa29c90, 0, 140, 320, 40)
			for i := range 4 {
				c.rect(0xbfe0ea, 12+80*float64(i), 10, 56, 30)
			}
			c.rails(150)
		},
		func(c *canvas, t float64) {
			c.coach(0x8a8f93, 300, 150, 2.6)
			reach := 224 * wave(t)
			c.rect(0x8c1f1a, 66, 85, reach, 44)
			c.person(0xf0f0f0, 66+reach, 170, 60)
			c.bar(0x444444, 66+reach+8, 128, 66+reach+2, 104, 3)
		},
	},
	"signal-box-stairs": {
		func(c *canvas) {
			c.land(0x9db8c9, 0x6a8a70, 0x706b5e, 130)
			c.rect(0x7d4e3a, 150, 70, 130, 74)
			c.rect(0xe9e2cf, 144, 24, 142, 50)
			for i := range 6 {
				c.rect(0x4b6a78, 150+22*float64(i), 32, 18, 30)
			}
			c.poly(0x33413c, 136, 26, 215, 4, 294, 26)
			for i := range 10 {
				c.rect(0xcac3b0, 44+10*float64(i), 144-7*float64(i), 16, 3)
			}
			c.bar(0xcac3b0, 44, 126, 146, 54, 2)
			c.rect(0xe8e8e8, 22, 30, 4, 120)
		},
		func(c *canvas, t float64) {
			u := wave(t)
			c.person(0x2f5d8a, 52+94*u, 146-68*u, 34)
			a := .8 * wave(math.Mod(t*2, 1))
			c.bar(0xc2281f, 26, 40, 26-34*math.Cos(a), 40-34*math.Sin(a)+4, 7)
			c.bar(0xf4f4f4, 26-24*math.Cos(a), 40-24*math.Sin(a)+3, 26-28*math.Cos(a), 40-28*math.Sin(a)+3, 7)
		},
	},
	"viaduct": {
		func(c *canvas) {
			c.land(0xb9cddc, 0x5d7b66, 0x4e6a57, 120)
			c.poly(0x5a87a0, 0, 180, 40, 140, 280, 140, 320, 180)
			c.rect(0x9c8b76, 0, 62, 320, 16)
			for i := range 6 {
				x := 10 + 58*float64(i)
				c.rect(0x9c8b76, x-8, 78, 14, 84)
				c.poly(0x8b7b67, x+6, 78, x+44, 78, x+36, 88, x+14, 88)
			}
		},
		func(c *canvas, t float64) {
			x := -10 + 560*t
			c.engine(0x1f5a46, x, 62, .7, t*50)
			for i := range 3 {
				c.coach(0x7a2a2a, x-60-64*float64(i), 62, .7)
			}
			c.disc(0xe9eef0, x-18-20*math.Mod(t*4, 1), 30-14*math.Mod(t*4, 1), 5+5*math.Mod(t*4, 1))
		},
	},
	"water-tower": {
		func(c *canvas) {
			c.land(0xd3c7b2, 0x8a8a62, 0x7a6a4c, 124)
			for _, x := range []float64{120, 150, 180, 210} {
				c.bar(0x3d3d3d, x, 150, 130+(x-120)*.8, 70, 4)
			}
			c.rect(0x48606a, 108, 28, 116, 44)
			c.rect(0x33464e, 104, 24, 124, 6)
			c.rails(158)
		},
		func(c *canvas, t float64) {
			u := wave(t)
			c.bar(0x222222, 224, 60, 262, 60+30*u, 6)
			for i := range 7 {
				y := math.Mod(t*3+float64(i)/7, 1)
				c.rect(0x6fb3d0, 260, 62+30*u+y*50, 5*u, 6)
			}
			c.engine(0x23486a, 300, 158, 1.0, 0)
		},
	},
}

// Names lists the scenes.
func Names() []string {
	var out []string
	for n := range sketches {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// frames draws n frames of a scene with a caption and calls each with its pixels, which are valid until the next call.
func frames(name, caption string, w, h, n int, each func(*image.RGBA) error) error {
	s, ok := sketches[name]
	if !ok {
		return fmt.Errorf("there is no scene %q; scenes: %v", name, Names())
	}
	c := newCanvas(w, h)
	s.still(c)
	still := slices.Clone(c.img.Pix)
	for i := range n {
		copy(c.img.Pix, still)
		t := float64(i) / float64(n)
		s.move(c, t)
		if caption != "" {
			c.rect(0x10231d, 8, 158, 14+6.6*float64(len(caption)), 16)
			c.text(0xf4efe0, 14, 170, 11, caption)
		}
		// A tick that moves every frame, so that a frozen picture is seen.
		c.rect(0x10231d, 276, 8, 36, 6)
		c.rect(0xe3b44b, 277+34*t-1, 9, 3, 4)
		if err := each(c.img); err != nil {
			return err
		}
	}
	return nil
}

// Likest names the scene that a picture shows, by what stands still in it: a wrong channel is told from the right one.
func Likest(img image.Image) string {
	const w, h = 32, 18
	b := img.Bounds()
	best, name := math.Inf(1), ""
	for _, n := range Names() {
		c := newCanvas(w*10, h*10)
		sketches[n].still(c)
		off := 0.0
		for y := range h {
			for x := range w {
				r1, g1, b1, _ := c.img.At(x*10+5, y*10+5).RGBA()
				r2, g2, b2, _ := img.At(b.Min.X+(2*x+1)*b.Dx()/(2*w), b.Min.Y+(2*y+1)*b.Dy()/(2*h)).RGBA()
				for _, d := range []float64{float64(r1) - float64(r2), float64(g1) - float64(g2), float64(b1) - float64(b2)} {
					off += min(math.Abs(d), 0x2000) // what moves counts no more than what is a little off
				}
			}
		}
		if off < best {
			best, name = off, n
		}
	}
	return name
}
