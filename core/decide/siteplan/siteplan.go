// Package siteplan is the picture of a building on which cameras are marked: where each hangs and which way it looks, for whoever stands on
// the ladder and for the papers that are left behind.
package siteplan

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"math"

	"github.com/google/uuid"
	"golang.org/x/image/draw"

	"unlatch/core/ground/wiretext"
)

// Bounds of a picture that somebody brings. It is judged by its head, before any of its pixels is read.
const (
	MostBytes  = 20 << 20
	mostPixels = 36_000_000
	leastSide  = 64
	// keptSide is the longest side of what is kept, in pixels, and keptBytes from what size on it is kept as JPEG whatever it was.
	keptSide  = 4096
	keptBytes = 6 << 20
)

// A Picture is a picture as it is kept: decoded and encoded anew, so that nothing of what was brought is sent on.
type Picture struct {
	Data          []byte
	Type          string // image/png or image/jpeg
	Width, Height int    // pixels
}

// A BadPictureError says what is wrong with a picture that was brought.
type BadPictureError struct{ Problem, Fix string }

func (e *BadPictureError) Error() string { return e.Problem }

func bad(fix, format string, a ...any) error { return &BadPictureError{fmt.Sprintf(format, a...), fix} }

// Read reads a PNG or JPEG picture and makes it as small as it is kept. Its error is a *BadPictureError.
func Read(raw []byte) (*Picture, error) {
	if len(raw) > MostBytes {
		return nil, bad("Save it with fewer pixels.", "the picture has %d MB, and %d are taken", len(raw)>>20, MostBytes>>20)
	}
	if bytes.HasPrefix(raw, []byte("%PDF-")) {
		return nil, bad("Choose its page on the site plan's own page, which makes a picture of it.", "that is a PDF and no picture")
	}
	head, format, err := image.DecodeConfig(bytes.NewReader(raw))
	if err != nil {
		return nil, bad("Take a PNG or JPEG picture, or a page of a PDF.", "that is no picture that can be read: %s",
			wiretext.Line(err.Error(), 100))
	}
	switch {
	case head.Width < leastSide || head.Height < leastSide:
		return nil, bad("Take a larger one.", "the picture has %d×%d pixels only", head.Width, head.Height)
	case head.Width > mostPixels/head.Height:
		return nil, bad("Save it with fewer pixels: 4096 along the longer side are kept.", "the picture has %d×%d pixels, which is too many",
			head.Width, head.Height)
	}
	img, _, err := image.Decode(bytes.NewReader(raw))
	if err != nil {
		return nil, bad("Save it anew in another program.", "the picture is damaged: %s", wiretext.Line(err.Error(), 100))
	}
	return encode(smaller(img), format)
}

// smaller returns a picture whose longer side is at most keptSide, on white where it was transparent.
func smaller(img image.Image) *image.RGBA {
	b := img.Bounds()
	scale := math.Min(1, keptSide/float64(max(b.Dx(), b.Dy())))
	out := image.NewRGBA(image.Rect(0, 0, max(1, int(float64(b.Dx())*scale)), max(1, int(float64(b.Dy())*scale))))
	draw.Draw(out, out.Bounds(), image.White, image.Point{}, draw.Src)
	draw.ApproxBiLinear.Scale(out, out.Bounds(), img, b, draw.Over, nil)
	return out
}

func encode(img *image.RGBA, format string) (*Picture, error) {
	out := &Picture{Type: "image/png", Width: img.Rect.Dx(), Height: img.Rect.Dy()}
	var b bytes.Buffer
	err := errors.New("not tried")
	if format == "png" { // a drawing: lines stay sharp
		err = png.Encode(&b, img)
	}
	if err != nil || b.Len() > keptBytes {
		b.Reset()
		out.Type, err = "image/jpeg", jpeg.Encode(&b, img, &jpeg.Options{Quality: 85})
	}
	out.Data = b.Bytes()
	return out, err
}

// A Mark is a camera on a site plan.
type Mark struct {
	Device uuid.UUID `json:"device"`
	// X and Y are where it hangs, as shares of the picture's width and height from its upper left corner.
	X float64 `json:"x" minimum:"0" maximum:"1"`
	Y float64 `json:"y" minimum:"0" maximum:"1"`
	// Direction is where it looks, in degrees clockwise from the top of the picture; nil where nobody has said.
	Direction *float64 `json:"direction,omitempty" minimum:"0" maximum:"360"`
	// View is how wide it looks, in degrees.
	View float64 `json:"view,omitempty" minimum:"0" maximum:"360"`
}

// UsualView is how wide a camera looks where nobody has said, in degrees.
const UsualView = 70

// Check returns the mark as it is kept: within the picture, with angles of one turn.
func (m Mark) Check() (Mark, error) {
	for _, v := range []float64{m.X, m.Y, m.View} {
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return m, errors.New("the place of the mark is no number")
		}
	}
	if m.X < 0 || m.X > 1 || m.Y < 0 || m.Y > 1 {
		return m, errors.New("the mark lies beside the picture")
	}
	if m.View <= 0 {
		m.View = UsualView
	}
	m.View = math.Min(m.View, 360)
	if d := m.Direction; d != nil {
		turn := math.Mod(math.Mod(*d, 360)+360, 360)
		if math.IsNaN(turn) {
			return m, errors.New("the direction of the mark is no number")
		}
		m.Direction = &turn
	}
	return m, nil
}
