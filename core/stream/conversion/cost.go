package conversion

import (
	"cmp"
	"fmt"
)

// Rates are what converting costs on a machine, as it was measured there.
type Rates struct {
	// Decode and Encode are by codec, in processor cores for a megapixel a second.
	Decode map[string]float64 `json:"decode"`
	Encode map[string]float64 `json:"encode"`
	// Sound is what sound costs in cores.
	Sound float64 `json:"sound"`
	// Encoders are the encoders that were found to work, by codec, as ffmpeg calls them.
	Encoders map[string]string `json:"encoders"`
	// Budget is how many cores conversions may take in all, and Used how many they take now.
	Budget float64 `json:"budget"`
	Used   float64 `json:"used"`
}

// Encoder returns the encoder for a codec.
func (r Rates) Encoder(codec string) string { return cmp.Or(r.Encoders[codec], encoders[codec]) }

// Cost returns how many cores it takes to turn a stream into a form. known is false where that was not measured: of a codec, or a stream
// of unknown size.
func (r Rates) Cost(s Source, f Shape) (cores float64, known bool) {
	if f.Sound != "" && f.Sound != "none" {
		cores = r.Sound
	}
	if !f.Picture() {
		return cores, true
	}
	to := f.Becomes(s)
	decode, encode := r.Decode[s.Codec], r.Encode[to.Codec]
	if s.pixels() == 0 || decode == 0 || encode == 0 {
		return 0, false
	}
	return cores + decode*s.pixels() + encode*to.pixels(), true
}

// A BudgetError refuses a conversion that would take more of a machine than conversions may.
type BudgetError struct {
	Form        Shape
	Cost, Free  float64 // cores
	Budget      float64
	OfSite      bool  // the budget is the share of one site
	Fits        Shape // what would fit; see Fitting
	NothingFits bool
}

func (e *BudgetError) Error() string {
	whose := "conversions"
	if e.OfSite {
		whose = "conversions of one site"
	}
	return fmt.Sprintf("%s takes %.2f of a processor core, and %.2f of the %.2f that %s may take are free.", e.Form, e.Cost, e.Free,
		e.Budget, whose)
}

// Fix says what would fit.
func (e *BudgetError) Fix() string {
	if e.NothingFits {
		return "Nothing smaller fits: remove another conversion, or raise relay-cores in the settings of the worker."
	}
	return fmt.Sprintf("This would fit: %s. Or remove another conversion, or raise relay-cores in the settings of the worker.", e.Fits)
}

// Afford returns what a conversion costs, beside others that take used cores. The error is a *BudgetError where the budget has no room.
// What was not measured is allowed: it is known once it runs.
func (r Rates) Afford(s Source, f Shape, used float64) (cores float64, err error) {
	cores, known := r.Cost(s, f)
	if free := r.Budget - used; known && cores > free {
		e := &BudgetError{Form: f, Cost: cores, Free: max(0, free), Budget: r.Budget}
		var fits bool
		e.Fits, fits = r.Fitting(s, f, free)
		e.NothingFits = !fits
		return cores, e
	}
	return cores, nil
}

// smaller are the sizes and rates that are tried where a form does not fit.
var (
	smallerRates = []float64{25, 15, 10, 5, 2, 1}
	smallerSizes = []float64{1, 0.75, 0.5, 0.375, 0.25}
)

// Fitting returns the form nearest to f that takes at most free cores: of fewer pictures a second before a smaller one.
func (r Rates) Fitting(s Source, f Shape, free float64) (Shape, bool) {
	whole := f.Becomes(s)
	for _, part := range smallerSizes {
		x := f
		if part < 1 {
			x.Width, x.Height = int(float64(whole.Width)*part)/8*8, int(float64(whole.Height)*part)/8*8
		}
		for _, fps := range append([]float64{whole.FPS}, smallerRates...) {
			if fps > whole.FPS || x.Check() != nil {
				continue
			}
			if fps < whole.FPS {
				x.FPS = fps
			}
			if cost, known := r.Cost(s, x); known && cost <= free {
				return x, true
			}
		}
	}
	return f, false
}
