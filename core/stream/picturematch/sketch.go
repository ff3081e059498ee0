package picturematch

// A Sketch is a print in few bits, by which the prints that are most like it are found among many: how many bits of two sketches differ
// says roughly how far apart their prints are. It is written in the digits 0 and 1; "" is that of a picture which shows too little.
type Sketch string

// SketchBits is how many bits a sketch has that is not "".
const SketchBits = gridWidth / 2 * gridHeight / 2

// Sketch returns the sketch of a print: for each four of its cells whether they are brighter than what surrounds them.
func (p Print) Sketch() Sketch {
	if len(p.cells) == 0 || p.Blank() {
		return ""
	}
	bits := make([]byte, 0, SketchBits)
	for y := 0; y < gridHeight; y += 2 {
		for x := 0; x < gridWidth; x += 2 {
			at := y*gridWidth + x
			if p.cells[at]+p.cells[at+1]+p.cells[at+gridWidth]+p.cells[at+gridWidth+1] > 0 {
				bits = append(bits, '1')
			} else {
				bits = append(bits, '0')
			}
		}
	}
	return Sketch(bits)
}
