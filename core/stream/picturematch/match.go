// Package picturematch tells whether two pictures show the same view: the one that a camera sends, and the one that a target shows for it.
// They need not be alike to the pixel. One may be smaller, brighter or drawn over with a name and a clock, coded by another coder, and a
// few seconds older, so that what moves stands elsewhere.
//
// A picture is boiled down to a Print: its structure, each part of it against its own surroundings, so that brightness and contrast fall
// away. Two prints are compared block by block, and the worst blocks are left out: an overlay and a train in passing are in a few of them,
// while another view differs in nearly all.
package picturematch

import (
	"image"
	"image/color"
	"math"
	"slices"
)

// The print of a picture is a grid of so many cells, whatever its own shape: targets stretch pictures to their windows.
const (
	gridWidth  = 64
	gridHeight = 36
	// surroundings is how far a cell's own surroundings reach, in cells to each side.
	surroundings = 4
	blockWidth   = 8
	blockHeight  = 6
	blocks       = gridWidth / blockWidth * gridHeight / blockHeight
)

// A Print is what of a picture can be compared. The zero Print is of no picture.
type Print struct {
	cells []float32 // gridWidth × gridHeight, each against its surroundings, in units of their spread
	// detail is the spread of the whole picture, 0 to 255: black, grey and blank ones have next to none.
	detail float64
}

// leastDetail is the spread below which a picture shows nothing that could be compared: a lens that is covered, a black screen.
const leastDetail = 4

// Blank reports whether a picture shows too little to be compared.
func (p Print) Blank() bool { return p.detail < leastDetail }

// A Verdict is what comes of a comparison.
type Verdict string

// The verdicts.
const (
	Same       Verdict = "right camera"
	Other      Verdict = "wrong camera"
	CannotTell Verdict = "cannot tell" // a blank picture, or one between the two
)

// The scores, from -1 to 1, at which a verdict is given.
const (
	sameFrom  = 0.5
	otherUpTo = 0.3
)

// Of boils a picture down. A picture without pixels has the zero Print.
func Of(img image.Image) Print {
	b := img.Bounds()
	if b.Dx() < 16 || b.Dy() < 16 {
		return Print{}
	}
	grey := shrink(img)
	return Print{cells: againstSurroundings(grey), detail: spread(grey)}
}

// shrink averages the picture over each cell of the grid. A cell of a large picture is sampled at about 4 × 4 places, which is enough
// for an average.
func shrink(img image.Image) []float32 {
	b := img.Bounds()
	out := make([]float32, gridWidth*gridHeight)
	at := luma(img)
	for gy := range gridHeight {
		y0, y1 := b.Min.Y+gy*b.Dy()/gridHeight, b.Min.Y+(gy+1)*b.Dy()/gridHeight
		stepY := max(1, (y1-y0)/4)
		for gx := range gridWidth {
			x0, x1 := b.Min.X+gx*b.Dx()/gridWidth, b.Min.X+(gx+1)*b.Dx()/gridWidth
			stepX := max(1, (x1-x0)/4)
			sum, n := 0.0, 0
			for y := y0; y < max(y1, y0+1) && y < b.Max.Y; y += stepY {
				for x := x0; x < max(x1, x0+1) && x < b.Max.X; x += stepX {
					sum += at(x, y)
					n++
				}
			}
			out[gy*gridWidth+gx] = float32(sum / float64(max(n, 1)))
		}
	}
	return out
}

// luma reads brightness, 0 to 255, straight from the kinds of picture that decoders make.
func luma(img image.Image) func(x, y int) float64 {
	switch p := img.(type) {
	case *image.YCbCr:
		return func(x, y int) float64 { return float64(p.Y[p.YOffset(x, y)]) }
	case *image.Gray:
		return func(x, y int) float64 { return float64(p.Pix[p.PixOffset(x, y)]) }
	case *image.RGBA:
		return func(x, y int) float64 {
			i := p.PixOffset(x, y)
			return 0.299*float64(p.Pix[i]) + 0.587*float64(p.Pix[i+1]) + 0.114*float64(p.Pix[i+2])
		}
	}
	return func(x, y int) float64 { return float64(color.GrayModel.Convert(img.At(x, y)).(color.Gray).Y) }
}

// spread returns the standard deviation.
func spread(v []float32) float64 {
	mean, sum := 0.0, 0.0
	for _, x := range v {
		mean += float64(x)
	}
	mean /= float64(len(v))
	for _, x := range v {
		sum += (float64(x) - mean) * (float64(x) - mean)
	}
	return math.Sqrt(sum / float64(len(v)))
}

// againstSurroundings returns each cell less the mean of its surroundings, in units of their spread. Where they are flat it is next to
// nought, and noise stays small.
func againstSurroundings(grey []float32) []float32 {
	// Sums over all cells above and left of a place give the sum over any rectangle in four steps.
	const w = gridWidth + 1
	sums, squares := make([]float64, w*(gridHeight+1)), make([]float64, w*(gridHeight+1))
	for y := range gridHeight {
		for x := range gridWidth {
			v := float64(grey[y*gridWidth+x])
			i := (y+1)*w + x + 1
			sums[i] = v + sums[i-1] + sums[i-w] - sums[i-w-1]
			squares[i] = v*v + squares[i-1] + squares[i-w] - squares[i-w-1]
		}
	}
	out := make([]float32, len(grey))
	for y := range gridHeight {
		y0, y1 := max(0, y-surroundings), min(gridHeight, y+surroundings+1)
		for x := range gridWidth {
			x0, x1 := max(0, x-surroundings), min(gridWidth, x+surroundings+1)
			over := func(s []float64) float64 { return s[y1*w+x1] - s[y0*w+x1] - s[y1*w+x0] + s[y0*w+x0] }
			n := float64((x1 - x0) * (y1 - y0))
			mean := over(sums) / n
			around := math.Sqrt(max(0, over(squares)/n-mean*mean))
			const noise = 3 // of coding and of the sensor, in steps of brightness
			out[y*gridWidth+x] = float32((float64(grey[y*gridWidth+x]) - mean) / (around + noise))
		}
	}
	return out
}

// Compare tells whether two prints are of the same view, with the score: the mean of how alike their blocks are, the worst third left out.
func Compare(a, b Print) (Verdict, float64) {
	if a.Blank() || b.Blank() || len(a.cells) == 0 || len(b.cells) == 0 {
		return CannotTell, 0
	}
	type block struct{ alike, weight float64 }
	var list [blocks]block
	for i := range list {
		list[i].alike, list[i].weight = correlation(a.cells, b.cells, i)
	}
	slices.SortFunc(list[:], func(x, y block) int {
		switch {
		case x.alike > y.alike:
			return -1
		case x.alike < y.alike:
			return 1
		}
		return 0
	})
	total := 0.0
	for _, x := range list {
		total += x.weight
	}
	if total == 0 {
		return CannotTell, 0
	}
	score, used := 0.0, 0.0
	for _, x := range list {
		if used >= total*2/3 {
			break
		}
		score += x.alike * x.weight
		used += x.weight
	}
	score /= used
	switch {
	case score >= sameFrom:
		return Same, score
	case score <= otherUpTo:
		return Other, score
	}
	return CannotTell, score
}

// correlation returns how block i of two prints goes together, from -1 to 1, and how much structure there is in it to judge by.
func correlation(a, b []float32, i int) (r, weight float64) {
	x0, y0 := i%(gridWidth/blockWidth)*blockWidth, i/(gridWidth/blockWidth)*blockHeight
	var ab, aa, bb float64
	for y := y0; y < y0+blockHeight; y++ {
		for x := x0; x < x0+blockWidth; x++ {
			va, vb := float64(a[y*gridWidth+x]), float64(b[y*gridWidth+x])
			ab, aa, bb = ab+va*vb, aa+va*va, bb+vb*vb
		}
	}
	const little = 0.5 // structure of a block that is flat
	return ab / (math.Sqrt(aa*bb) + little), math.Sqrt(max(aa, bb))
}
