package picturematch_test

import (
	"fmt"
	"image"
	"image/color"

	"unlatch/core/stream/picturematch"
)

func ExampleCompare() {
	img := image.NewGray(image.Rect(0, 0, 64, 36))
	for x := range 64 {
		img.Set(x, x/2, color.White)
	}
	verdict, _ := picturematch.Compare(picturematch.Of(img), picturematch.Of(img))
	fmt.Println(verdict)
	// Output: right camera
}
