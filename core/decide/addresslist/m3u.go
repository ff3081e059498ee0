package addresslist

import (
	"bufio"
	"bytes"
	"fmt"
	"net/netip"
	"strings"

	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/table"
)

// mostLine is how long a line of a list for players may be, in bytes.
const mostLine = 16 << 10

// IsM3U reports whether a file is a list for players.
func IsM3U(raw []byte) bool {
	return bytes.HasPrefix(bytes.TrimPrefix(raw, []byte("\xef\xbb\xbf")), []byte("#EXTM3U"))
}

// ParseM3U reads the cameras of a list for players: each by the address of its URL, under the name that stands above it. Of several streams
// at one address the first counts. Sign-ins in the URLs are left out.
func ParseM3U(raw []byte) (rows []Row, warnings []string, err error) {
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(make([]byte, 0, 4096), mostLine)
	name, known := "", map[string]bool{}
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if after, ok := strings.CutPrefix(line, "#EXTINF:"); ok {
			_, name, _ = strings.Cut(after, ",")
			continue
		}
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		row := Row{Line: n, Name: table.Clean(name)}
		name = ""
		u, err := streamurl.Parse(line)
		if err != nil {
			warnings = append(warnings, fmt.Sprintf("Line %d: it is no URL.", n))
			continue
		}
		a, err := netip.ParseAddr(u.Host)
		if err != nil {
			warnings = append(warnings, fmt.Sprintf("Line %d: %q is not an address.", n, table.Clean(u.Host)))
			continue
		}
		if row.Addr = a.String(); known[row.Addr] {
			continue
		}
		known[row.Addr] = true
		rows = append(rows, row)
		if err := table.Check(make([][]string, len(rows))); err != nil {
			return nil, nil, err
		}
	}
	if err := lines.Err(); err != nil {
		return nil, nil, &table.Error{Problem: "a line of the list is too long", Fix: "bring the list alone"}
	}
	if len(rows) == 0 {
		return nil, warnings, &table.Error{Problem: "the list has no URL with an address", Fix: "check that it is the right file"}
	}
	return rows, warnings, nil
}
