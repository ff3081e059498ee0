package target

// A Holding is whether a slot holds what was put there.
type Holding int

// The holdings.
const (
	Holds   Holding = iota // the camera is there, as far as the target tells
	Empties                // the slot is free, or there is no such slot
	Others                 // another camera is in the slot
)

// Holding tells by the layout whether a slot still holds a camera of an identity. A target that keeps no identities is believed that what
// is in the slot is the camera.
func (l Layout) Holding(token, identity string) Holding {
	for _, s := range l.Slots {
		switch {
		case s.Token != token:
			continue
		case s.Is == Free:
			return Empties
		case s.Is == Used && s.Identity != "" && identity != "" && s.Identity != identity:
			return Others
		}
		return Holds
	}
	return Empties
}
