package act

import (
	"cmp"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"unlatch/core/decide/latch"
	"unlatch/core/ground/wiretext"
)

// NameAll names several devices at once: each as it was typed, all by a pattern, or all by a list in which they stand in order. Exactly one
// of Names, Pattern and List is set.
type NameAll struct {
	Site    uuid.UUID
	Devices []uuid.UUID // in the order in which they are shown
	Names   map[uuid.UUID]string
	Pattern string // such as "Platform {n}"; see patternName
	First   int    // the number of the first device in a pattern
	List    string // one name a line, or an address and a name a line
}

// A Named is a device with the name that an act gives it.
type Named struct {
	Device uuid.UUID `json:"device"`
	Before string    `json:"before" doc:"the name that it had; empty where it was called as it calls itself"`
	Name   string    `json:"name"`
}

// About implements Act.
func (a NameAll) About() About {
	return About{Name: "name-devices", Right: Work, Site: a.Site, Devices: Distinct(a.Devices), WithStates: true}
}

// Decide implements Act. Devices that a list has no name for keep theirs.
func (a NameAll) Decide(f Facts) (Outcome, error) {
	names, err := a.names(f)
	if err != nil {
		return Outcome{}, err
	}
	first := map[string]*latch.Device{}
	out := Outcome{}
	var before, after []string
	for _, id := range Distinct(a.Devices) {
		name, named := names[id]
		if !named {
			continue
		}
		d := f.Devices[id]
		if other := first[name]; other != nil && name != "" {
			return Outcome{}, refuse("name_twice", fmt.Sprintf("%s and %s would both be called %q.", other.Addr, d.Addr, name),
				"Put {n} into the pattern, or change one of the names.")
		}
		first[name] = d
		out.Keep = append(out.Keep, Rename{Device: id, Name: name})
		out.Names = append(out.Names, Named{Device: id, Before: d.Name, Name: name})
		out.Line.Devices = append(out.Line.Devices, id)
		before, after = append(before, d.Title), append(after, name)
	}
	if len(out.Names) == 0 {
		return Outcome{}, refuse("no_name", "No name is given to any of these cameras.", "Type one, or a pattern such as Platform {n}.")
	}
	out.Line.Subject = f.names(out.Line.Devices)
	out.Line.Before, out.Line.After = strings.Join(before, ", "), strings.Join(after, ", ")
	return out, nil
}

func (a NameAll) names(f Facts) (map[uuid.UUID]string, error) {
	if a.List != "" {
		return listedNames(a.List, Distinct(a.Devices), f)
	}
	out := map[uuid.UUID]string{}
	for i, id := range Distinct(a.Devices) {
		if a.Pattern == "" {
			if name, typed := a.Names[id]; typed {
				out[id] = wiretext.Line(name, longestName)
			}
			continue
		}
		name, err := patternName(a.Pattern, a.First+i, f.Devices[id])
		if err != nil {
			return nil, err
		}
		out[id] = name
	}
	return out, nil
}

var placeholder = regexp.MustCompile(`\{[^{}]*\}`)

// patternName fills a pattern for one device: {n} is its number, {nn} and {nnn} the same with leading zeros, {last} the last number of its
// address, {maker} and {model} what it says it is.
func patternName(pattern string, n int, d *latch.Device) (string, error) {
	var unknown string
	name := placeholder.ReplaceAllStringFunc(pattern, func(p string) string {
		switch word := strings.ToLower(strings.Trim(p, "{}")); word {
		case "n", "nn", "nnn":
			return fmt.Sprintf("%0*d", len(word), n)
		case "last":
			return d.Addr[strings.LastIndexAny(d.Addr, ".:")+1:]
		case "maker":
			return d.Status.Device.Maker
		case "model":
			return cmp.Or(d.Status.Device.Hardware, d.Status.Device.Name)
		}
		unknown = p
		return p
	})
	if unknown != "" {
		return "", refuse("bad_pattern", unknown+" is nothing that a pattern can hold.", "Use {n}, {nn}, {last}, {maker} or {model}.")
	}
	return wiretext.Line(name, longestName), nil
}

// listedNames reads a pasted list. Where every line begins with an address, the names go to the devices at those addresses; else they go
// to the devices in order, and an empty line leaves its device as it is called.
func listedNames(list string, devices []uuid.UUID, f Facts) (map[uuid.UUID]string, error) {
	lines := strings.Split(strings.TrimRight(strings.ReplaceAll(list, "\r\n", "\n"), "\n \t"), "\n")
	byAddr := map[string]uuid.UUID{}
	for _, id := range devices {
		byAddr[f.Devices[id].Addr] = id
	}
	out, addressed := map[uuid.UUID]string{}, 0
	for i, line := range lines {
		addr, name := splitAddress(line)
		switch {
		case addr != "":
			addressed++
			if id, here := byAddr[addr]; here && name != "" {
				out[id] = wiretext.Line(name, longestName)
			}
		case i < len(devices) && strings.TrimSpace(line) != "":
			out[devices[i]] = wiretext.Line(line, longestName)
		}
	}
	if addressed > 0 && addressed < len(lines) {
		return nil, refuse("bad_list", "Some lines of the list begin with an address, and some do not.",
			"Give every line its address, or none.")
	}
	if addressed == 0 && len(lines) > len(devices) {
		return nil, refuse("bad_list", "The list has "+strconv.Itoa(len(lines))+" names for "+strconv.Itoa(len(devices))+" cameras.",
			"Select as many cameras as the list has lines, or put their addresses before the names.")
	}
	return out, nil
}

var leading = regexp.MustCompile(`^\s*"?(\d{1,3}(?:\.\d{1,3}){3})"?\s*[\t,;= ]\s*"?(.*?)"?\s*$`)

// splitAddress splits a line into an IPv4 address before its first separator and the rest; addr is "" where it does not begin with one.
func splitAddress(line string) (addr, name string) {
	m := leading.FindStringSubmatch(line)
	if m == nil {
		return "", ""
	}
	return m[1], m[2]
}
