package signin

import "fmt"

// A Turn is why a sign-in of the keyring comes when it does in the order of tries on a device.
type Turn struct {
	Opened     bool   // it has opened this very device before
	Bound      bool   // it is for some devices alone, of which this is one
	Maker      string // it is for the devices of one maker
	Site       bool   // it is for the devices of one site
	OpensAlike int    // how many devices of the same kind it has opened
	Opens      int    // how many devices it has opened at all
}

// String gives the strongest reason.
func (t Turn) String() string {
	switch {
	case t.Opened:
		return "it has opened this device before"
	case t.Bound:
		return "it is for this device"
	case t.Maker != "":
		return "it is for " + t.Maker
	case t.Site:
		return "it is for this site"
	case t.OpensAlike > 0:
		return fmt.Sprintf("it opens %d other devices of this kind", t.OpensAlike)
	case t.Opens > 0:
		return fmt.Sprintf("it opens %d other devices", t.Opens)
	}
	return "its turn on the keyring"
}
