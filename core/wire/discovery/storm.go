package discovery

import (
	"fmt"
	"net/netip"
)

// Bounds on devices that were never heard before. A wire on which somebody invents devices brings more than any real one has.
const (
	// MostAtAddress is how many may be known at one address; a real one has two at most, by mistake.
	MostAtAddress = 8
	// MostAnnounced is how many a site may gain within a minute by announcements that nobody asked for.
	MostAnnounced = 300
	// MostSwept is how many a site may gain within a minute by a sweep.
	MostSwept = 6000
	// MostTold is how often within a minute, and MostToldHourly within an hour, what a device announces of itself is filed: one that comes and
	// goes, or changes its name, without end fills no table.
	MostTold       = 20
	MostToldHourly = 120
)

// A StormError means that a sighting was not filed: it would have been one new device too many.
type StormError struct {
	Addr string // where they come from; "" for a whole site
	Most int
	Told bool // what one device announces of itself, and not new devices
}

func (e *StormError) Error() string {
	if e.Told {
		return fmt.Sprintf("a device at %s announces itself more than %d times within a minute or an hour", e.Addr, e.Most)
	}
	if e.Addr == "" {
		return fmt.Sprintf("more than %d devices within a minute that were never heard before", e.Most)
	}
	return fmt.Sprintf("more than %d devices at %s", e.Most, e.Addr)
}

// MostNew returns how many devices a site may gain within a minute, by a sweep or by announcements that nobody asked for.
func MostNew(swept bool) int {
	if swept {
		return MostSwept
	}
	return MostAnnounced
}

// Storming returns a *StormError where one new device more would be too many: here are known at its address already, and the site
// has gained lately within the last minute. It returns nil otherwise.
func Storming(addr netip.Addr, here, lately int, swept bool) error {
	if here >= MostAtAddress {
		return &StormError{Addr: addr.String(), Most: MostAtAddress}
	}
	if most := MostNew(swept); lately >= most {
		return &StormError{Most: most}
	}
	return nil
}

// ToldEnough returns a *StormError where a device at an address has announced itself so often within the last minute and hour that no more
// of it is filed for now. It returns nil otherwise.
func ToldEnough(addr string, minute, hour int) error {
	switch {
	case minute >= MostTold:
		return &StormError{Addr: addr, Most: MostTold, Told: true}
	case hour >= MostToldHourly:
		return &StormError{Addr: addr, Most: MostToldHourly, Told: true}
	}
	return nil
}
