package paper

import (
	"bytes"
	"encoding/gob"

	"github.com/go-pdf/fpdf"
)

// inOrderOf has the library write a picture in the order in which it came. It writes pictures by their widths, and those of one width in
// the order of a map, which is another each time: so each gets a width that is larger by a trace, which nothing is drawn by.
func inOrderOf(info *fpdf.ImageInfoType, n int) error {
	if info == nil {
		return nil // the library keeps why
	}
	raw, err := info.GobEncode()
	if err != nil {
		return err
	}
	// The library's fields, in the order in which it writes them.
	var (
		data, smask, palette       []byte
		object, bits               int
		width, height, scale, dpi  float64
		space, filter, decodeParms string
		transparent                []int
	)
	fields := []any{&data, &smask, &object, &width, &height, &space, &palette, &bits, &filter, &decodeParms, &transparent, &scale, &dpi}
	in := gob.NewDecoder(bytes.NewReader(raw))
	for _, f := range fields {
		if err := in.Decode(f); err != nil {
			return err
		}
	}
	const trace = 1e-6 // of a pixel: ten thousand pictures stay below a hundredth
	width += float64(n) * trace
	var b bytes.Buffer
	out := gob.NewEncoder(&b)
	for _, f := range fields {
		if err := out.Encode(f); err != nil {
			return err
		}
	}
	return info.GobDecode(b.Bytes())
}
