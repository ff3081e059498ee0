// Package capacity reckons what streams cost: days of recording on given disks, and load on recorders and links. It works backwards as
// well: from the days that are wanted to the bitrate that each camera may have.
//
// Bytes are counted in decimal units, as disks are sold: 1 TB is 10¹² bytes. A kbit is 1000 bits.
package capacity

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// A Layout is how disks guard each other's data.
type Layout string

const (
	Plain        Layout = "none"          // every byte counts, and a disk that fails takes its share along
	Mirrored     Layout = "mirrored"      // each disk has a twin: half counts
	Parity       Layout = "parity"        // one disk's worth guards the others (RAID 5)
	DoubleParity Layout = "double parity" // two disks' worth do (RAID 6)
)

// layouts are the names that people use, and the fewest disks that each layout takes.
var layouts = map[string]Layout{"": Plain, "none": Plain, "0": Plain, "jbod": Plain, "1": Mirrored, "10": Mirrored, "mirror": Mirrored,
	"mirrored": Mirrored, "5": Parity, "parity": Parity, "6": DoubleParity, "double parity": DoubleParity, "double-parity": DoubleParity}

var fewest = map[Layout]int{Plain: 1, Mirrored: 2, Parity: 3, DoubleParity: 4}

// ParseLayout reads a layout by its name or by its RAID level.
func ParseLayout(text string) (Layout, error) {
	l, ok := layouts[strings.TrimPrefix(strings.ToLower(strings.TrimSpace(text)), "raid")]
	if !ok {
		return "", &InputError{"the disk layout", text, "none, 1, 5, 6 or 10"}
	}
	return l, nil
}

// An InputError is a number or word that cannot be reckoned with.
type InputError struct{ What, Given, Wanted string }

func (e *InputError) Error() string {
	if e.Given == "" {
		return fmt.Sprintf("%s is missing: %s", e.What, e.Wanted)
	}
	return fmt.Sprintf("%s cannot be %s: %s", e.What, e.Given, e.Wanted)
}

// Disks are the disks of one recorder, all of one size.
type Disks struct {
	Count          int
	SizeBytes      int64 // of each, as sold
	Layout         Layout
	Spares         int     // that wait for another to fail
	ReservePercent float64 // what the file system keeps for itself; nought unless given
}

var disksText = regexp.MustCompile(`^(?i)(?:(\d{1,4})\s*[x×*]\s*)?(\d+(?:\.\d+)?)\s*([KMGTP]i?B)$`)

var unitBytes = map[string]float64{"kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12, "pb": 1e15,
	"kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40, "pib": 1 << 50}

// ParseDisks reads disks like 4x4TB, or 16TB for one.
func ParseDisks(text string) (Disks, error) {
	m := disksText.FindStringSubmatch(strings.TrimSpace(text))
	bad := func() (Disks, error) { return Disks{}, &InputError{"the disks", text, "write them like 4x4TB"} }
	if m == nil {
		return bad()
	}
	d := Disks{Count: 1, Layout: Plain}
	if m[1] != "" {
		d.Count, _ = strconv.Atoi(m[1])
	}
	size, err := strconv.ParseFloat(m[2], 64)
	bytes := size * unitBytes[strings.ToLower(m[3])]
	if err != nil || d.Count == 0 || bytes < 1 || bytes > 1e18 {
		return bad()
	}
	d.SizeBytes = int64(bytes)
	return d, nil
}

// UsableBytes returns what recordings may fill:
//
//	plain          (count − spares) × size
//	mirrored       ⌊(count − spares) / 2⌋ × size
//	parity         (count − spares − 1) × size
//	double parity  (count − spares − 2) × size
//
// each less the reserve of the file system.
func (d Disks) UsableBytes() (int64, error) {
	n := d.Count - d.Spares
	layout := d.Layout
	if layout == "" {
		layout = Plain
	}
	least, known := fewest[layout]
	switch {
	case !known:
		return 0, &InputError{"the disk layout", string(layout), "none, 1, 5, 6 or 10"}
	case d.SizeBytes <= 0:
		return 0, &InputError{"the size of a disk", "nought", "give it in TB, as it is sold"}
	case d.Spares < 0 || n < least:
		return 0, &InputError{"the number of disks", fmt.Sprintf("%d with %d spare", d.Count, d.Spares),
			fmt.Sprintf("this layout takes at least %d beside the spares", least)}
	case d.ReservePercent < 0 || d.ReservePercent >= 100:
		return 0, &InputError{"the reserve", fmt.Sprintf("%g %%", d.ReservePercent), "from 0 to under 100"}
	}
	switch layout {
	case Mirrored:
		n /= 2
	case Parity:
		n--
	case DoubleParity:
		n -= 2
	}
	return int64(float64(n) * float64(d.SizeBytes) * (100 - d.ReservePercent) / 100), nil
}

// A Stream is one stream of one camera, or the same of several.
type Stream struct {
	Cameras int     // how many send it; 0 counts as one
	Kbps    float64 // measured, where it was, else planned
	// MostKbps is the largest of the seconds that were measured, which the link has to carry; 0 for Kbps.
	MostKbps float64
	// Hours a day in which it is recorded; 0 for not at all.
	Hours float64
	// Motion is the share of those hours in which something moves, where only that is recorded; 0 for all of them.
	Motion float64
	// Pixels a second, decoded by a recorder that decodes: width × height × frame rate.
	Pixels float64
	// Viewers at once on the outside link.
	Viewers int
	// Weight is what share of a common bitrate it gets backwards; 0 counts as 1.
	Weight float64
}

func (s Stream) cameras() float64 { return float64(max(1, s.Cameras)) }

func (s Stream) weight() float64 {
	if s.Weight <= 0 {
		return 1
	}
	return s.Weight
}

// seconds a day in which it is recorded.
func (s Stream) seconds() float64 {
	share := s.Motion
	if share <= 0 || share > 1 {
		share = 1
	}
	return min(max(s.Hours, 0), 24) * 3600 * share
}

// BytesPerDay returns what the streams fill in a day: the sum of cameras × kbps × 1000 / 8 × seconds recorded.
func BytesPerDay(streams []Stream) (sum float64) {
	for _, s := range streams {
		sum += s.cameras() * s.Kbps * 1000 / 8 * s.seconds()
	}
	return sum
}

// Days is for how long the streams fit: usable bytes / bytes per day. It is +Inf where nothing is recorded.
func Days(usable int64, streams []Stream) float64 {
	return float64(usable) / BytesPerDay(streams)
}

// A Load is what streams ask of a recorder and its links.
type Load struct {
	InboundMbps float64 `json:"inbound_mbps"`             // from the cameras to the recorder: the sum of cameras × kbps / 1000
	PeakMbps    float64 `json:"peak_mbps"`                // the same with the most of each stream, should all have it at once
	OutsideMbps float64 `json:"outside_mbps,omitempty"`   // to viewers outside: the sum of viewers × kbps / 1000
	Pixels      float64 `json:"pixels_per_sec,omitempty"` // to decode
}

// LoadOf adds up what streams ask for.
func LoadOf(streams []Stream) (l Load) {
	for _, s := range streams {
		l.InboundMbps += s.cameras() * s.Kbps / 1000
		l.PeakMbps += s.cameras() * max(s.Kbps, s.MostKbps) / 1000
		l.OutsideMbps += float64(s.Viewers) * s.Kbps / 1000
		l.Pixels += s.cameras() * s.Pixels
	}
	return l
}

// KbpsForDays returns the bitrate in kbit/s that each stream may have so that all fit for so many days, spread by weight: with unit u,
// stream i has weight i × u, and u = usable × 8 / 1000 / (days × sum of cameras × weight × seconds). It undoes Days. A stream that is not
// recorded has none.
func KbpsForDays(usable int64, days float64, streams []Stream) ([]float64, error) {
	if days <= 0 || math.IsNaN(days) || math.IsInf(days, 0) {
		return nil, &InputError{"the number of days", fmt.Sprintf("%g", days), "more than nought"}
	}
	sum := 0.0
	for _, s := range streams {
		sum += s.cameras() * s.weight() * s.seconds()
	}
	if sum == 0 {
		return nil, &InputError{"the recording", "nothing", "record at least one stream for some hours a day"}
	}
	unit := float64(usable) * 8 / 1000 / (days * sum)
	out := make([]float64, len(streams))
	for i, s := range streams {
		if s.seconds() > 0 {
			out[i] = unit * s.weight()
		}
	}
	return out, nil
}
