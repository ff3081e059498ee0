package identity

import (
	"bufio"
	"os"
	"strings"
	"sync"
)

// registries are where systems keep the public registry of MAC blocks, when they have it.
var registries = []string{"/usr/share/ieee-data/oui.txt", "/var/lib/ieee-data/oui.txt", "/usr/share/misc/oui.txt"}

var blocks = sync.OnceValue(func() map[string]string {
	for _, path := range registries {
		if f, err := os.Open(path); err == nil {
			defer f.Close()
			return readRegistry(bufio.NewScanner(f))
		}
	}
	return nil
})

// MACBlock names who registered the block that a hardware address lies in; "" where the system has no registry, for
// addresses that a device made up itself (IEEE 802 §8.4, the locally administered bit), and for unknown blocks.
func MACBlock(mac string) string {
	if len(mac) < 8 || strings.ContainsRune("2367abef", rune(mac[1])) {
		return ""
	}
	return blocks()[strings.ToUpper(strings.ReplaceAll(mac[:8], ":", "-"))]
}

// readRegistry reads lines like "00-00-5E   (hex)\t\tNAME" of the registry's text form.
func readRegistry(lines *bufio.Scanner) map[string]string {
	out := map[string]string{}
	for lines.Scan() {
		block, name, ok := strings.Cut(lines.Text(), "(hex)")
		block = strings.TrimSpace(block)
		if ok && len(block) == 8 && block[2] == '-' && block[5] == '-' && len(out) < 200000 {
			out[block] = strings.TrimSpace(name)
		}
	}
	return out
}
