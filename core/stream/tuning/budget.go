package tuning

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/google/uuid"
)

// Pixels a second: width × height × frame rate, which is what an encoder has to work through.
func (e Encoder) Pixels() float64 { return float64(e.Width) * float64(e.Height) * e.FPS }

// An Observation is what came of settings that were sent to one device: all its streams as they were wanted, and as they read back.
type Observation struct {
	Evidence uuid.UUID
	Device   string // its name, for people
	Wanted   map[string]Encoder
	Got      map[string]Encoder // empty where the device refused
}

// short reports whether the device gave less than was wanted: fewer pixels a second of some stream, or nothing at all.
func (o Observation) short() bool {
	for role, w := range o.Wanted {
		if g, ok := o.Got[role]; !ok || g.Pixels() < w.Pixels()*0.99 {
			return true
		}
	}
	return false
}

func sum(streams map[string]Encoder) (pixels float64) {
	for _, e := range streams {
		pixels += e.Pixels()
	}
	return pixels
}

// A Budget is what the streams of one model can be set to together, in pixels a second, as devices of that model have shown it. The zero
// Budget is not known.
type Budget struct {
	Pixels float64     `json:"pixels_per_sec" doc:"the most that was had together where more was asked for"`
	Asked  float64     `json:"asked_pixels_per_sec" doc:"the least that was too much"`
	From   []uuid.UUID `json:"from" doc:"the evidence"`
	Why    string      `json:"why"`
}

// Known reports whether there is a bound.
func (b Budget) Known() bool { return b.Pixels > 0 }

// Learn returns the budget that observations of devices of one model show. A device that gave less than was wanted shows a bound; what
// any of them has given together shows that at least so much can be had. Where the two contradict each other, the device had another
// reason, and nothing is known.
func Learn(seen []Observation) (b Budget) {
	most := 0.0
	var bound *Observation
	for i := range seen {
		o := &seen[i]
		most = max(most, sum(o.Got))
		if len(o.Wanted) > 1 && o.short() && (bound == nil || sum(o.Wanted) < sum(bound.Wanted)) {
			bound = o
		}
	}
	if bound == nil {
		return b
	}
	asked := sum(bound.Wanted)
	if most >= asked || most == 0 {
		return b
	}
	b = Budget{Pixels: most, Asked: asked, From: []uuid.UUID{bound.Evidence}}
	switch {
	case len(bound.Got) == 0:
		b.Why = fmt.Sprintf("%s refused %s together", bound.Device, list(bound.Wanted))
	default:
		b.Why = fmt.Sprintf("%s was asked for %s and gave %s", bound.Device, list(bound.Wanted), list(bound.Got))
	}
	return b
}

// list names streams with size and rate.
func list(streams map[string]Encoder) (text string) {
	for _, role := range roles {
		e, ok := streams[role]
		if !ok {
			continue
		}
		if text != "" {
			text += " and "
		}
		text += fmt.Sprintf("%s %s at %s", role, e.Size(), number(e.FPS))
	}
	return text
}

// Most returns the largest picture rate that an encoder offers within so many pixels a second: the size nearest to what is wanted, and
// with it the highest rate; ok is false where not even the least fits.
func (o CodecOptions) Most(want Encoder, pixels float64) (e Encoder, ok bool) {
	sizes := o.Sizes
	if len(sizes) == 0 {
		sizes = []Size{want.Size()}
	}
	rates := o.FPS
	if len(rates) == 0 {
		low, high := max(1, o.FPSSpan.Min), cmp.Or(o.FPSSpan.Max, want.FPS)
		for v := low; v <= high; v++ {
			rates = append(rates, v)
		}
	}
	rates = slices.DeleteFunc(slices.Clone(rates), func(v float64) bool { return v > want.FPS })
	for _, s := range sizes {
		if s.Pixels() > want.Size().Pixels() {
			continue
		}
		for _, fps := range rates {
			c := want
			c.Width, c.Height, c.FPS = s.Width, s.Height, fps
			// A larger picture at a lower rate goes before a smaller one at a higher, as long as it moves at all.
			if c.Pixels() <= pixels && (!ok || c.Size().Pixels() > e.Size().Pixels() ||
				c.Size() == e.Size() && c.FPS > e.FPS) {
				e, ok = c, true
			}
		}
	}
	return e, ok
}

// Over says what a set of streams asks too much of the budget, naming the most that the smallest of them can have beside the
// others; "" where they fit, or where no budget is known.
func (b Budget) Over(wanted map[string]Encoder, offers Offers) string {
	total := sum(wanted)
	if !b.Known() || total <= b.Pixels {
		return ""
	}
	last := ""
	for _, role := range roles {
		if _, ok := wanted[role]; ok {
			last = role
		}
	}
	rest := b.Pixels - (total - wanted[last].Pixels())
	others := map[string]Encoder{}
	for role, e := range wanted {
		if role != last {
			others[role] = e
		}
	}
	can := "nothing"
	if o, ok := offers.Of(last); ok {
		codec, _ := o.Options.Of(wanted[last].Codec)
		if e, ok := codec.Most(wanted[last], rest); ok {
			can = fmt.Sprintf("at most %s at %s", e.Size(), number(e.FPS))
		}
	}
	if len(others) == 0 {
		return fmt.Sprintf("%s can have %s: %s", last, can, b.Why)
	}
	return fmt.Sprintf("with %s, %s can have %s: %s", list(others), last, can, b.Why)
}
