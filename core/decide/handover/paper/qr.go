package paper

import (
	"fmt"
	"strings"

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
	k := 72 / 25.4 // points in a millimetre
	var b strings.Builder
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
			left, top := (x+float64(col+quietZone)*step)*k, (s.h-y-float64(row+quietZone+1)*step)*k
			fmt.Fprintf(&b, "%.2f %.2f %.2f %.2f re\n", left, top, float64(end-col)*step*k, step*k)
			col = end
		}
	}
	s.pdf.RawWriteStr(b.String() + "f") // all modules as one shape: a paper of thousands of codes stays small
}
