// Package intake is what targets accept: codecs, sizes, rates, sign-ins, transports and how much of it. Intakes are data: books of
// them come with the product, and people write their own.
package intake

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"unlatch/core/stream/tuning"
)

// An Intake is what one kind of target accepts. The zero value of a field asks for nothing.
type Intake struct {
	Name       string        `json:"name"`
	Note       string        `json:"note,omitempty"`
	Roles      []string      `json:"roles,omitempty" doc:"main, sub, third: the streams that it may be given"`
	Codecs     []string      `json:"codecs,omitempty" doc:"H.264, H.265, MJPEG, MPEG-4"`
	Profiles   []string      `json:"profiles,omitempty" doc:"of H.264 and H.265"`
	Sizes      []tuning.Size `json:"sizes,omitempty" doc:"these and no others"`
	MinSize    tuning.Size   `json:"min_size,omitempty"`
	MaxSize    tuning.Size   `json:"max_size,omitempty"`
	FPS        Range         `json:"fps,omitempty"`
	Kbps       Range         `json:"kbps,omitempty"`
	GOPSeconds Range         `json:"gop_seconds,omitempty"`
	Audio      []string      `json:"audio,omitempty" doc:"audio codecs; none for a stream without audio"`
	Transports []string      `json:"transports,omitempty" doc:"how streams may come, see docs/intakes.md; missing for any way of RTSP"`
	TLS        string        `json:"tls,omitempty" enum:"no,yes" doc:"no: it takes no encrypted stream; yes: it takes no other"`
	Ports      []int         `json:"ports,omitempty"`
	Schemes    []string      `json:"schemes,omitempty" doc:"none, basic, digest: how it signs in"`
	Password   Password      `json:"password,omitempty"`
	// Channels, TotalMbps and TotalPixels are what it takes in all; pixels a second.
	Channels    int      `json:"channels,omitempty"`
	TotalMbps   float64  `json:"total_mbps,omitempty"`
	TotalPixels float64  `json:"total_pixels,omitempty"`
	Requires    []string `json:"requires,omitempty" doc:"fields that have to be filled although they mean nothing to it"`
}

// ByRTSP are the ways in which streams come by RTSP, which a target takes that names no transport. ByHTTP are those in which pictures come
// by HTTP.
var (
	ByRTSP = []string{"tcp", "udp", "multicast", "http tunnel"}
	ByHTTP = []string{"http", "http pictures"}
)

// TakenTransports returns the ways in which streams may come to the target.
func (x Intake) TakenTransports() []string {
	if len(x.Transports) == 0 {
		return ByRTSP
	}
	return x.Transports
}

// TakesRole reports whether the target may be given the stream of a role.
func (x Intake) TakesRole(role string) bool {
	return len(x.Roles) == 0 || slices.Contains(x.Roles, role)
}

// A Range is from Min to Max; a zero bound is none.
type Range struct {
	Min float64 `json:"min,omitempty"`
	Max float64 `json:"max,omitempty"`
}

// Has reports whether v lies in the range, a hair of measuring error allowed.
func (r Range) Has(v float64) bool {
	const hair = 0.02
	return (r.Min == 0 || v >= r.Min*(1-hair)) && (r.Max == 0 || v <= r.Max*(1+hair))
}

// Nearest returns the value in the range nearest to v.
func (r Range) Nearest(v float64) float64 {
	if r.Max > 0 {
		v = min(v, r.Max)
	}
	return max(v, r.Min)
}

func (r Range) String() string {
	switch {
	case r.Min > 0 && r.Max > 0 && r.Min == r.Max:
		return fmt.Sprintf("%g", r.Min)
	case r.Min > 0 && r.Max > 0:
		return fmt.Sprintf("%g to %g", r.Min, r.Max)
	case r.Max > 0:
		return fmt.Sprintf("at most %g", r.Max)
	case r.Min > 0:
		return fmt.Sprintf("at least %g", r.Min)
	}
	return "any"
}

// A Password is what a target can hold of one.
type Password struct {
	MaxLength  int    `json:"max_length,omitempty"`
	Characters string `json:"characters,omitempty" doc:"those that it takes, as in a bracket expression: a-zA-Z0-9_-"`
}

// Takes reports whether a target holds a password; nothing of it is told.
func (p Password) Takes(secret string) bool {
	if p.MaxLength > 0 && len([]rune(secret)) > p.MaxLength {
		return false
	}
	if p.Characters == "" || secret == "" {
		return true
	}
	re, err := characters(p.Characters)
	return err == nil && re.MatchString(secret)
}

func characters(set string) (*regexp.Regexp, error) {
	return regexp.Compile(`^[` + strings.NewReplacer(`\`, `\\`, `]`, `\]`, `[`, `\[`).Replace(set) + `]*$`)
}

func (p Password) String() string {
	var parts []string
	if p.MaxLength > 0 {
		parts = append(parts, fmt.Sprintf("at most %d characters", p.MaxLength))
	}
	if p.Characters != "" {
		parts = append(parts, "of "+p.Characters)
	}
	return strings.Join(parts, ", ")
}

// A Book is a file of intakes.
type Book struct {
	Name    string   `json:"name"`
	Note    string   `json:"note,omitempty"`
	Intakes []Intake `json:"intakes"`
}

// Find returns the intake of a name, without regard to case.
func (b *Book) Find(name string) (Intake, bool) {
	i := slices.IndexFunc(b.Intakes, func(x Intake) bool { return strings.EqualFold(x.Name, name) })
	if i < 0 {
		return Intake{}, false
	}
	return b.Intakes[i], true
}
