package camera

// A Position is where a camera looks, in the generic spaces of the standard: pan and tilt from -1 to 1, zoom from 0 to 1.
type Position struct {
	Pan  float64 `json:"pan"`
	Tilt float64 `json:"tilt"`
	Zoom float64 `json:"zoom"`
}
