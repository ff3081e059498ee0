package discovery

import (
	"bufio"
	"io"
	"net/netip"
	"os"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
)

// neighbours reads the kernel's neighbour table (proc(5), /proc/net/arp): the hardware addresses of everything on this wire that
// the sweep has just talked to, or tried to. A system without it has nothing to tell.
func neighbours(ranges address.Ranges) []sighting.Sighting {
	f, err := os.Open("/proc/net/arp")
	if err != nil {
		return nil
	}
	defer f.Close()
	return parseNeighbours(f, ranges)
}

func parseNeighbours(r io.Reader, ranges address.Ranges) (out []sighting.Sighting) {
	lines := bufio.NewScanner(io.LimitReader(r, 8<<20))
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		if len(fields) < 4 || fields[2] == "0x0" { // 0x0: asked for and not answered
			continue
		}
		addr, err := netip.ParseAddr(fields[0])
		mac := CleanMAC(fields[3])
		if err != nil || mac == "" || !ranges.Contains(addr) {
			continue
		}
		out = append(out, sighting.Sighting{Method: sighting.Neighbours, At: time.Now().UTC(), Addr: addr, Kind: sighting.Other, MAC: mac})
	}
	return out
}
