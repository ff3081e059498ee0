package paper

import (
	"github.com/boombuler/barcode/qr"
)

// code draws a QR code (ISO/IEC 18004) with a quiet zone, as rectangles: it stays sharp at any size.
func (s *sheet) code(x, y, side float64, text string) {
	q, err := qr.Encode(text, qr.M, qr.Auto)
	if err != nil {
		return // longer than a code holds: the address stands beside it in words
	}
	n := q.Bounds().Dx()
	const quietZone = 2 // modules; the paper around it is white too
	step := side / float64(n+2*quietZone)
	s.fillColor(ink)
	for row := range n {
		for col := 0; col < n; {
			dark := func(c int) bool { r, _, _, _ := q.At(c, row).RGBA(); return r == 0 }
			if !dark(col) {
				col++
				continue
			}
			end := col
			for end < n && dark(end) {
				end++
			}
			s.pdf.Rect(x+float64(col+quietZone)*step, y+float64(row+quietZone)*step, float64(end-col)*step, step, "F")
			col = end
		}
	}
}
