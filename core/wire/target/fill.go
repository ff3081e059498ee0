package target

import "slices"

// Fill chooses slots for cameras, in order, from the slot start on; "" begins with the first. at are the cameras' places in a list:
// nil puts them into the free slots one after the other, else the gaps between them are kept, and a camera whose slot is not free
// gets "". Where free slots run out the rest gets "" too. The tokens come in the order of the cameras.
func Fill(l Layout, start string, n int, at []int) []string {
	out := make([]string, n)
	from := 0
	if start != "" {
		if from = slices.IndexFunc(l.Slots, func(s Slot) bool { return s.Token == start }); from < 0 {
			return out
		}
	}
	next := from
	for i := range n {
		if at != nil {
			next = from + at[i] - at[0]
		} else {
			for next < len(l.Slots) && l.Slots[next].Is != Free {
				next++
			}
		}
		if next >= 0 && next < len(l.Slots) && l.Slots[next].Is == Free {
			out[i] = l.Slots[next].Token
		}
		next++
	}
	return out
}
