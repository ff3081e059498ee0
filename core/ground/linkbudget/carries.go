package linkbudget

import (
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"unlatch/core/ground/address"
)

// loopbackMbps is what this machine carries to itself; the kernel tells no speed for it.
const loopbackMbps = 10_000

// Carries returns the speed in Mbit/s of the interface whose network touches the ranges; 0 where none does, or it tells none.
func Carries(ranges address.Ranges) int {
	list, err := address.Interfaces()
	if err != nil {
		return 0
	}
	for _, i := range list {
		touches := slices.ContainsFunc(ranges.Prefixes(), func(r netip.Prefix) bool {
			return slices.ContainsFunc(i.Prefixes, func(p netip.Prefix) bool { return p.Masked().Overlaps(r) })
		})
		switch {
		case !touches:
		case i.Loopback:
			return loopbackMbps
		default:
			return speed(i.Name)
		}
	}
	return 0
}

// speed returns what the kernel says that an interface carries, in Mbit/s; 0 where it says nothing, as of a wireless one.
func speed(name string) int {
	raw, err := os.ReadFile(filepath.Join("/sys/class/net", filepath.Base(name), "speed"))
	if err != nil {
		return 0
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(raw)))
	if err != nil || n < 0 {
		return 0
	}
	return n
}
