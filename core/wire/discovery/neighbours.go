package discovery

import (
	"bufio"
	"io"
	"net/netip"
	"os"
	"strings"
	"time"

	"unlatch/core/ground/address"
)

// neighbours reads the kernel's neighbour table (proc(5), /proc/net/arp): the hardware addresses of everything on this wire that
// the sweep has just talked to, or tried to. A system without it has nothing to tell.
func neighbours(ranges address.Ranges) []Sighting {
	f, err := os.Open("/proc/net/arp")
	if err != nil {
		return nil
	}
	defer f.Close()
	return parseNeighbours(f, ranges)
}

func parseNeighbours(r io.Reader, ranges address.Ranges) (out []Sighting) {
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
		out = append(out, Sighting{Method: Neighbours, At: time.Now().UTC(), Addr: addr, Kind: Other, MAC: mac})
	}
	return out
}
