package picturematch

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image"
	"math"
)

// A View is what is kept of a picture to tell later whether the camera still shows the same place: its print, how bright it is and how
// sharp. The zero View is of no picture.
type View struct {
	Print
	// Mean is the brightness, 0 to 255.
	Mean float64
	// Sharp is how much neighbouring pixels differ, against the spread of the whole picture: it falls when the lens is out of focus, and
	// hardly when the light changes.
	Sharp float64
}

// ViewOf boils a picture down to its view.
func ViewOf(img image.Image) View {
	v := View{Print: Of(img)}
	if len(v.cells) == 0 {
		return View{}
	}
	v.Mean, v.Sharp = sharpness(img, v.detail)
	return v
}

// viewForm is a View in JSON. Cells are kept in steps of 1/32, one byte each.
type viewForm struct {
	Cells  string  `json:"cells"`
	Detail float64 `json:"detail"`
	Mean   float64 `json:"mean"`
	Sharp  float64 `json:"sharp"`
}

const cellSteps = 32

// MarshalJSON implements json.Marshaler.
func (v View) MarshalJSON() ([]byte, error) {
	raw := make([]byte, len(v.cells))
	for i, c := range v.cells {
		raw[i] = byte(int8(max(-128, min(127, math.Round(float64(c)*cellSteps)))))
	}
	return json.Marshal(viewForm{base64.StdEncoding.EncodeToString(raw), v.detail, v.Mean, v.Sharp})
}

// UnmarshalJSON implements json.Unmarshaler.
func (v *View) UnmarshalJSON(text []byte) error {
	var form viewForm
	if err := json.Unmarshal(text, &form); err != nil {
		return err
	}
	raw, err := base64.StdEncoding.DecodeString(form.Cells)
	if err != nil {
		return err
	}
	if len(raw) != 0 && len(raw) != gridWidth*gridHeight {
		return fmt.Errorf("a view has %d cells, and not %d", gridWidth*gridHeight, len(raw))
	}
	*v = View{Print: Print{detail: form.Detail}, Mean: form.Mean, Sharp: form.Sharp}
	for _, b := range raw {
		v.cells = append(v.cells, float32(int8(b))/cellSteps)
	}
	return nil
}

// sharpness samples the picture on a lattice of about 160 × 90 places and compares each with the pixels beside and below it.
func sharpness(img image.Image, detail float64) (mean, sharp float64) {
	b, at := img.Bounds(), luma(img)
	stepX, stepY := max(1, b.Dx()/160), max(1, b.Dy()/90)
	sum, edges, n := 0.0, 0.0, 0.0
	for y := b.Min.Y; y+1 < b.Max.Y; y += stepY {
		for x := b.Min.X; x+1 < b.Max.X; x += stepX {
			here := at(x, y)
			sum += here
			dx, dy := at(x+1, y)-here, at(x, y+1)-here
			edges += dx*dx + dy*dy
			n++
		}
	}
	return sum / n, math.Sqrt(edges/n) / (detail + 1)
}

// An Obstacle is what keeps a camera from showing the view that it showed before; "" for nothing.
type Obstacle string

// The obstacles.
const (
	Black   Obstacle = "black"        // no light at all reaches the sensor, or the picture is cut off
	Covered Obstacle = "covered"      // something of one colour stands before the lens
	Turned  Obstacle = "another view" // it shows another place: it was turned, or its lens was
	Blurred Obstacle = "out of focus"
)

// The bounds by which obstacles are told.
const (
	blackMean   = 10  // a dark night is brighter, by the noise of the sensor alone
	blackDetail = 1.5 // and has more structure than this
	lightMean   = 60  // with so much light there is something to be seen in any view; with less, rain and noise hide the place
	tellDetail  = 10  // with less structure a picture does not say that it is of another place
	blurredFrom = 0.4 // of the sharpness that the same view had when it was least sharp
)

// Views are the known views of a camera by the part of the day, 0 to 7, in which each was seen.
type Views map[int]View

// partHours is how many hours a part of the day has.
const partHours = 3

// PartOf returns the part of the day that an hour, from 0 to 23, lies in.
func PartOf(hour int) int { return hour / partHours }

// Learn returns the views with one more, at an hour of the day from 0 to 23: each part of the day keeps its newest.
func (known Views) Learn(hour int, v View) Views {
	out := make(Views, len(known)+1)
	for part, k := range known {
		out[part] = k
	}
	out[PartOf(hour)] = v
	return out
}

// Judge tells whether a picture, taken at an hour of the day, shows one of the views that a camera is known to have, by day, at night and
// in the rain. What cannot be told, as in the dark, is no obstacle. Without known views nothing is judged.
func (known Views) Judge(hour int, now View) Obstacle {
	if len(now.cells) == 0 {
		return ""
	}
	then, seen := known[PartOf(hour)]
	if now.Blank() {
		switch {
		case len(known) == 0, seen && then.Blank():
			return ""
		case now.Mean < blackMean && now.detail < blackDetail:
			return Black
		case now.Mean > lightMean, seen && then.Mean > lightMean:
			return Covered
		}
		return ""
	}
	alike, best, sharp := false, -1.0, math.Inf(1)
	for _, v := range known {
		verdict, score := Compare(v.Print, now.Print)
		if v.Blank() {
			continue
		}
		best = max(best, score)
		if verdict == Same {
			alike, sharp = true, min(sharp, v.Sharp)
		}
	}
	switch {
	case now.detail < tellDetail || now.Mean < lightMean:
		return ""
	case alike && now.Sharp < sharp*blurredFrom:
		return Blurred
	case !alike && best > -1 && best <= otherUpTo:
		return Turned
	}
	return ""
}
