package ready

import (
	"net/netip"

	"unlatch/core/decide/latch"
	"unlatch/core/decide/outside"
	"unlatch/core/stream/sighting"
)

// StayInside returns the places of a device that must not be led outside, with what they are: where it can be changed, and not only
// looked at. A stray that nobody agreed to has none: it is not the site's.
func StayInside(d *latch.Device) map[string]string {
	out := map[string]string{}
	st := &d.Status
	if !st.InScope() {
		return out
	}
	words := map[string]string{"device service": "the device service of ", "http": "the web page of ", "https": "the web page of "}
	for _, p := range st.Device.Ports {
		if what, ok := words[p.Speaks]; ok && st.Device.Addr.IsValid() {
			out[netip.AddrPortFrom(st.Device.Addr, p.Number).String()] = what + d.Title
		}
	}
	if at, ok := outside.PlaceOf(st.Device.XAddr); ok {
		what := "the device service of "
		if st.Device.Kind == sighting.Recorder {
			what = "the control of the recorder "
		}
		out[at] = what + d.Title
	}
	return out
}
