package packing

import (
	"bytes"
	"errors"
	"image"
	"image/draw"
	"image/jpeg"
	"image/png"

	xdraw "golang.org/x/image/draw"

	"unlatch/core/decide/handover/paper"
)

// Sizes of pictures, in pixels, and the quality of JPEG.
const (
	pictureWidth   = 640
	targetWidth    = 240 // of what a target shows
	pictureQuality = 80
	thumbQuality   = 72
	planWidth      = 1800
	markWidth      = 800
	mostPixels     = 50_000_000
)

// thumbWidth returns how wide pictures on paper are: smaller where there are many, so that the file stays light.
func thumbWidth(cameras int) int {
	if cameras > 300 {
		return 288
	}
	return 480
}

var errNoPicture = errors.New("this is no picture")

// decode reads a JPEG or PNG picture of at most mostPixels.
func decode(raw []byte) (image.Image, error) {
	head, kind, err := image.DecodeConfig(bytes.NewReader(raw))
	if err != nil || head.Width <= 0 || head.Height <= 0 || head.Width > mostPixels/head.Height {
		return nil, errNoPicture
	}
	if kind == "png" {
		return png.Decode(bytes.NewReader(raw))
	}
	return jpeg.Decode(bytes.NewReader(raw))
}

// shrink returns a picture of at most a width; one that is smaller already stays.
func shrink(img image.Image, width int) image.Image {
	b := img.Bounds()
	if b.Dx() <= width {
		return img
	}
	out := image.NewRGBA(image.Rect(0, 0, width, max(1, b.Dy()*width/b.Dx())))
	xdraw.ApproxBiLinear.Scale(out, out.Bounds(), img, b, draw.Src, nil)
	return out
}

func jpegOf(img image.Image, quality int) []byte {
	var b bytes.Buffer
	jpeg.Encode(&b, img, &jpeg.Options{Quality: quality}) // into memory: nothing can fail
	return b.Bytes()
}

// markOf returns the firm's mark on white, since paper is; nil where there is none.
func markOf(raw []byte) *paper.Picture {
	if raw == nil {
		return nil
	}
	img, err := decode(raw)
	if err != nil {
		return nil
	}
	small := shrink(img, markWidth)
	out := image.NewRGBA(image.Rect(0, 0, small.Bounds().Dx(), small.Bounds().Dy()))
	draw.Draw(out, out.Bounds(), image.White, image.Point{}, draw.Src)
	draw.Draw(out, out.Bounds(), small, small.Bounds().Min, draw.Over)
	var b bytes.Buffer
	if err := png.Encode(&b, out); err != nil {
		return nil
	}
	return &paper.Picture{Name: "mark", Data: b.Bytes(), Width: out.Bounds().Dx(), Height: out.Bounds().Dy()}
}
