package camera

import (
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// A Network is a device's address setting.
type Network struct {
	Addr    netip.Addr `json:"addr"`
	Bits    int        `json:"bits"`
	DHCP    bool       `json:"dhcp"`
	Gateway netip.Addr `json:"gateway"` // zero for none, or to leave it as it is
	HostSettings
}

// HostSettings are what goes to a device in one action with its address; what is empty is left as it is.
type HostSettings struct {
	DNS      []netip.Addr `json:"dns,omitempty"`
	NTP      string       `json:"ntp,omitempty" doc:"time server: an address or a name"`
	Host     string       `json:"host,omitempty" doc:"host name, RFC 1123"`
	TimeZone string       `json:"time_zone,omitempty" doc:"POSIX 1003.1 §8.3, as GMT0BST,M3.5.0/1,M10.5.0"`
	// NoDNS and NoNTP give back to DHCP what was set by hand: undo of a change that was the first one.
	NoDNS bool `json:"no_dns,omitempty"`
	NoNTP bool `json:"no_ntp,omitempty"`
	// Clock asks that the device's clock be set right: by the time server where one is given, else to this machine's time.
	Clock bool `json:"clock,omitempty"`
	// SkewMS is what was read of the clock, the device's minus this machine's, in milliseconds; it is not sent.
	SkewMS int64 `json:"skew_ms,omitempty"`
}

// Changed says in words what differs from before.
func (a HostSettings) Changed(before HostSettings) (out []string) {
	if !slices.Equal(a.DNS, before.DNS) {
		out = append(out, "name servers")
	}
	for _, f := range []struct{ what, now, then string }{{"time server " + a.NTP, a.NTP, before.NTP},
		{"host name " + a.Host, a.Host, before.Host}, {"time zone " + a.TimeZone, a.TimeZone, before.TimeZone}} {
		if f.now != f.then {
			out = append(out, f.what)
		}
	}
	if off := before.SkewMS - a.SkewMS; off > 2000 || off < -2000 {
		out = append(out, fmt.Sprintf("clock, which was %s off", (time.Duration(before.SkewMS)*time.Millisecond).Round(time.Second)))
	}
	return out
}

// A NetworkStep is one stage of a change of address with the time it took.
type NetworkStep struct {
	Name string  `json:"name"`
	MS   float64 `json:"ms"`
}
