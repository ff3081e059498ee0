package picturematch

import (
	"bytes"
	"image"
	"image/jpeg"
)

// ownPixels bounds the pictures that are decoded here: all of them are stills of our own making.
const ownPixels = 4 << 20

// OfStill makes the print of a still that we decoded ourselves, a JPEG. It must not be given a picture from outside.
func OfStill(still []byte) (Print, bool) {
	img, ok := decode(still)
	if !ok {
		return Print{}, false
	}
	return Of(img), true
}

// ViewOfStill makes the view of a still that we decoded ourselves, a JPEG. It must not be given a picture from outside.
func ViewOfStill(still []byte) (View, bool) {
	img, ok := decode(still)
	if !ok {
		return View{}, false
	}
	return ViewOf(img), true
}

func decode(still []byte) (image.Image, bool) {
	c, err := jpeg.DecodeConfig(bytes.NewReader(still))
	if err != nil || c.Width*c.Height > ownPixels {
		return nil, false
	}
	img, err := jpeg.Decode(bytes.NewReader(still))
	return img, err == nil
}
