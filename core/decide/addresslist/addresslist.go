// Package addresslist reads an address list that somebody brings along and matches it against what was heard: expected and found,
// expected and missing, found and unexpected.
package addresslist

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unlatch/core/ground/table"
	"unlatch/core/wire/discovery"
)

// A Row is one expected device. A field that the list does not have is empty.
type Row struct {
	Line   int    `json:"line"`
	Name   string `json:"name"`
	Addr   string `json:"address"`
	MAC    string `json:"mac"`
	Serial string `json:"serial"`
	Note   string `json:"note"`
}

// headings are the words by which columns are known.
var headings = map[string][]string{
	"name":   {"name", "camera", "camera name", "device", "device name", "location", "position", "title"},
	"addr":   {"address", "ip", "ip address", "ipv4", "ipv4 address", "host"},
	"mac":    {"mac", "mac address", "hardware address"},
	"serial": {"serial", "serial number", "s/n", "sn", "serial no"},
	"note":   {"note", "notes", "remark", "remarks", "comment", "comments"},
}

// A Layout is what the columns of a sheet hold, and where its rows begin.
type Layout struct {
	// Columns are name, addr, mac, serial or note, by their place; "" for one that is left out.
	Columns []string
	Start   int // the index of the first row after the headings
}

// Detect finds out what the columns of a sheet hold. The first row with at least two known headings names them; without one, they are told
// by what stands in them.
func Detect(cells [][]string) Layout {
	columns, start := table.Columns(cells, headings)
	if columns == nil {
		columns = guessColumns(cells)
	}
	l := Layout{Start: start}
	for n, what := range columns {
		for len(l.Columns) <= n {
			l.Columns = append(l.Columns, "")
		}
		l.Columns[n] = what
	}
	return l
}

// Kinds are what a column can hold.
func Kinds() []string { return []string{"name", "addr", "mac", "serial", "note"} }

// Parse reads the cells of a sheet as Detect lays them out.
func Parse(cells [][]string) (rows []Row, warnings []string, err error) {
	return ParseAs(cells, Detect(cells))
}

// ParseAs reads the cells of a sheet. warnings are lines that were read in part or left out, each with its reason.
func ParseAs(cells [][]string, l Layout) (rows []Row, warnings []string, err error) {
	if err := table.Check(cells); err != nil {
		return nil, nil, err
	}
	columns, start := map[int]string{}, max(0, min(l.Start, len(cells)))
	for n, what := range l.Columns {
		if slices.Contains(Kinds(), what) {
			columns[n] = what
		}
	}
	if len(columns) == 0 {
		return nil, nil, &table.Error{Problem: "no column of names, addresses, MAC or serial numbers was found",
			Fix: "put a heading over each column, such as: name, address, mac, serial, note"}
	}
	seen := map[string]int{}
	for i, record := range cells[start:] {
		line := start + i + 1
		row := Row{Line: line}
		for n, text := range record {
			text = table.Clean(text)
			switch columns[n] {
			case "name":
				row.Name = text
			case "addr":
				row.Addr = text
			case "mac":
				row.MAC = text
			case "serial":
				row.Serial = text
			case "note":
				row.Note = text
			}
		}
		if row == (Row{Line: line}) {
			continue
		}
		if w := row.tidy(); w != "" {
			warnings = append(warnings, fmt.Sprintf("Line %d: %s.", line, w))
		}
		if row.Addr == "" && row.MAC == "" && row.Serial == "" && row.Name == "" {
			continue
		}
		key := strings.ToLower(row.Addr + "|" + row.MAC + "|" + row.Serial + "|" + row.Name)
		if first, twice := seen[key]; twice {
			warnings = append(warnings, fmt.Sprintf("Line %d: the same as line %d, left out.", line, first))
			continue
		}
		seen[key] = line
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil, warnings, &table.Error{Problem: "the list has no row with a name, address, MAC or serial number",
			Fix: "check that the right sheet was saved"}
	}
	return rows, warnings, nil
}

// guessColumns looks at the first rows: an address and a MAC have a shape, and the first other text is the name.
func guessColumns(cells [][]string) map[int]string {
	columns := map[int]string{}
	taken := map[string]bool{}
	for _, record := range cells[:min(len(cells), 20)] {
		for n, text := range record {
			text = table.Clean(text)
			_, addrErr := netip.ParseAddr(text)
			switch {
			case columns[n] != "" || text == "":
			case addrErr == nil && !taken["addr"]:
				columns[n], taken["addr"] = "addr", true
			case discovery.CleanMAC(text) != "" && !taken["mac"]:
				columns[n], taken["mac"] = "mac", true
			}
		}
	}
	if len(columns) == 0 {
		return nil
	}
	for _, record := range cells[:min(len(cells), 20)] {
		for n, text := range record {
			if columns[n] == "" && !taken["name"] && table.Clean(text) != "" {
				columns[n], taken["name"] = "name", true
			}
		}
	}
	return columns
}

// tidy brings addresses and MACs into one form and says what it could not read. A field that cannot be read is emptied, not guessed.
func (r *Row) tidy() string {
	var bad []string
	if r.Addr != "" {
		a, err := netip.ParseAddr(strings.TrimSuffix(strings.SplitN(r.Addr, "/", 2)[0], "."))
		if err != nil {
			bad = append(bad, fmt.Sprintf("%q is not an address", r.Addr))
			r.Addr = ""
		} else {
			r.Addr = a.String()
		}
	}
	if r.MAC != "" {
		mac := discovery.CleanMAC(r.MAC)
		if mac == "" {
			bad = append(bad, fmt.Sprintf("%q is not a MAC address", r.MAC))
		}
		r.MAC = mac
	}
	return strings.Join(bad, ", ")
}

// A Heard is a device as far as matching needs it.
type Heard struct {
	ID, Name, Addr, MAC, Serial string
}

// A Found is an expected row with the device that it fits, by which mark, and what differs.
type Found struct {
	Row     Row    `json:"row"`
	Device  string `json:"device"`
	By      string `json:"by"`
	Differs string `json:"differs,omitempty"`
}

// A Result is a list matched against what was heard.
type Result struct {
	Found      []Found  `json:"found"`
	Missing    []Row    `json:"missing"`
	Unexpected []string `json:"unexpected"` // device IDs
}

// Match finds for each row its device: by serial number, then by hardware address, then by address. Each device fits one row at most.
// Matching goes mark by mark over all rows, so that a row with an old address does not take away the device of a row that knows
// its serial number.
func Match(rows []Row, heard []Heard) Result {
	out := Result{Found: []Found{}, Missing: []Row{}, Unexpected: []string{}}
	takenRow, takenDevice := make([]bool, len(rows)), make([]bool, len(heard))
	for _, mark := range []struct {
		by  string
		row func(Row) string
		dev func(Heard) string
	}{
		{"serial", func(r Row) string { return r.Serial }, func(h Heard) string { return h.Serial }},
		{"MAC", func(r Row) string { return r.MAC }, func(h Heard) string { return h.MAC }},
		{"address", func(r Row) string { return r.Addr }, func(h Heard) string { return h.Addr }},
	} {
		byMark := map[string]int{}
		for i, h := range heard {
			if v := strings.ToLower(mark.dev(h)); v != "" && !takenDevice[i] {
				byMark[v] = i
			}
		}
		for i, r := range rows {
			v := strings.ToLower(mark.row(r))
			j, ok := byMark[v]
			if takenRow[i] || v == "" || !ok || takenDevice[j] {
				continue
			}
			takenRow[i], takenDevice[j] = true, true
			out.Found = append(out.Found, Found{Row: r, Device: heard[j].ID, By: mark.by, Differs: differs(r, heard[j])})
		}
	}
	slices.SortFunc(out.Found, func(a, b Found) int { return a.Row.Line - b.Row.Line })
	for i, r := range rows {
		if !takenRow[i] {
			out.Missing = append(out.Missing, r)
		}
	}
	for i, h := range heard {
		if !takenDevice[i] {
			out.Unexpected = append(out.Unexpected, h.ID)
		}
	}
	return out
}

func differs(r Row, h Heard) string {
	var parts []string
	for _, f := range []struct{ what, listed, heard string }{{"address", r.Addr, h.Addr}, {"MAC", r.MAC, h.MAC},
		{"serial", r.Serial, h.Serial}} {
		if f.listed != "" && f.heard != "" && !strings.EqualFold(f.listed, f.heard) {
			parts = append(parts, fmt.Sprintf("%s: listed %s, heard %s", f.what, f.listed, f.heard))
		}
	}
	return strings.Join(parts, "; ")
}
