package main

import "fmt"

// A bound is what is wanted of a figure, and whether it was met. A figure that wants nothing is stated: its want is text.
type bound struct {
	text string
	met  bool
}

func (b bound) String() string { return b.text }

// atMost, under and atLeast judge a figure by its value, in a unit that stands in the text.
func atMost(limit, got float64, unit string) bound {
	return bound{fmt.Sprintf("at most %g%s", limit, unit), got <= limit}
}

func under(limit, got float64, unit string) bound {
	return bound{fmt.Sprintf("under %g%s", limit, unit), got < limit}
}

func atLeast(limit, got float64, unit string) bound {
	return bound{fmt.Sprintf("at least %g%s", limit, unit), got >= limit}
}

// none judges a count of what must not be.
func none(got int) bound { return bound{"none", got == 0} }

// missed returns the figures that are worse than what is wanted.
func missed(all []figure) (out []figure) {
	for _, f := range all {
		if b, ok := f.want.(bound); ok && !b.met {
			out = append(out, f)
		}
	}
	return out
}
