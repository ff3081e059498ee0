package capacity

import (
	"fmt"
	"math"
)

// A Recording is how a site's cameras are recorded and watched.
type Recording struct {
	Disks   Disks
	Hours   float64 // a day; 0 for 24
	Motion  float64 // the share of those hours in which something moves, where only that is recorded; 0 for all of them
	Records string  // main, sub or both; "" for main
	Viewers int     // at once over the outside link, each with one camera's sub stream
}

// Check returns an *InputError for what cannot be reckoned with.
func (r Recording) Check() error {
	switch {
	case r.Hours < 0 || r.Hours > 24 || math.IsNaN(r.Hours):
		return &InputError{"the hours a day", fmt.Sprintf("%g", r.Hours), "from 0 to 24"}
	case r.Motion < 0 || r.Motion > 1 || math.IsNaN(r.Motion):
		return &InputError{"the share with motion", fmt.Sprintf("%g", r.Motion), "from 0 to 1"}
	case r.Records != "" && r.Records != "main" && r.Records != "sub" && r.Records != "both":
		return &InputError{"what is recorded", r.Records, "main, sub or both"}
	case r.Viewers < 0 || r.Viewers > 100_000:
		return &InputError{"the number of viewers", fmt.Sprint(r.Viewers), "from 0 to 100000"}
	}
	return nil
}

// A Source is one stream of one camera, as it is or as it is planned.
type Source struct {
	Role     string
	Kbps     float64
	MostKbps float64
	Pixels   float64 // a second
	Measured bool
}

// Streams returns the sources as they are recorded, in their order, for the sums of this package. What is not recorded still flows to the
// recorder, as long as it is one of the two streams that recorders take: main and sub.
func (r Recording) Streams(sources []Source) []Stream {
	hours := r.Hours
	if hours == 0 {
		hours = 24
	}
	out := make([]Stream, len(sources))
	for i, s := range sources {
		st := Stream{Cameras: 1, Kbps: s.Kbps, MostKbps: s.MostKbps, Pixels: s.Pixels, Motion: r.Motion}
		if r.records(s.Role) {
			st.Hours = hours
		}
		out[i] = st
	}
	return out
}

func (r Recording) records(role string) bool {
	switch r.Records {
	case "both":
		return role == "main" || role == "sub"
	case "sub":
		return role == "sub"
	}
	return role == "main"
}

// A Cost is what a site's streams cost.
type Cost struct {
	UsableBytes int64   `json:"usable_bytes"`
	BytesPerDay float64 `json:"bytes_per_day"`
	Days        float64 `json:"days" doc:"0 where nothing is recorded"`
	Load
	Measured int `json:"measured" doc:"streams reckoned by what was measured"`
	Planned  int `json:"planned" doc:"streams reckoned by their plan"`
	Unknown  int `json:"unknown" doc:"streams of which no bitrate is known, and which count as nought"`
}

// CostOf adds up a site. The outside link carries viewers × the mean bitrate of the sub streams, of the main streams where there are none.
func (r Recording) CostOf(sources []Source) (c Cost, err error) {
	if err := r.Check(); err != nil {
		return c, err
	}
	if c.UsableBytes, err = r.Disks.UsableBytes(); err != nil {
		return c, err
	}
	streams := r.Streams(sources)
	c.BytesPerDay, c.Load = BytesPerDay(streams), LoadOf(streams)
	if c.BytesPerDay > 0 {
		c.Days = Days(c.UsableBytes, streams)
	}
	watched := map[string][2]float64{}
	for _, s := range sources {
		switch {
		case s.Kbps <= 0:
			c.Unknown++
		case s.Measured:
			c.Measured++
		default:
			c.Planned++
		}
		w := watched[s.Role]
		watched[s.Role] = [2]float64{w[0] + s.Kbps, w[1] + 1}
	}
	w := watched["sub"]
	if w[1] == 0 {
		w = watched["main"]
	}
	if w[1] > 0 {
		c.OutsideMbps = float64(r.Viewers) * w[0] / w[1] / 1000
	}
	return c, nil
}

// A Point is what a site would cost if all its recorded bitrates were a multiple of what they are.
type Point struct {
	Factor      float64 `json:"factor"`
	Days        float64 `json:"days"`
	InboundMbps float64 `json:"inbound_mbps"`
}

// Curve returns the cost from an eighth to four times the bitrate, in even steps of ratio. Days fall as 1 / factor, and what is not
// recorded flows as before.
func (r Recording) Curve(sources []Source, c Cost) (out []Point) {
	recorded := 0.0
	for _, s := range sources {
		if r.records(s.Role) {
			recorded += s.Kbps / 1000
		}
	}
	for i := -12; i <= 8; i++ {
		f := math.Pow(2, float64(i)/4)
		out = append(out, Point{Factor: f, Days: c.Days / f, InboundMbps: c.InboundMbps + recorded*(f-1)})
	}
	return out
}

// KbpsFor returns the bitrate that each source may have so that all that is recorded fits for so many days, each by its present share; it
// keeps what the others have. See KbpsForDays.
func (r Recording) KbpsFor(days float64, sources []Source, evenly bool) ([]float64, error) {
	usable, err := r.Disks.UsableBytes()
	if err == nil {
		err = r.Check()
	}
	if err != nil {
		return nil, err
	}
	streams := r.Streams(sources)
	if !evenly {
		sum, known := 0.0, 0
		for _, s := range streams {
			if s.Hours > 0 && s.Kbps > 0 {
				sum, known = sum+s.Kbps, known+1
			}
		}
		for i := range streams {
			if streams[i].Weight = streams[i].Kbps; streams[i].Weight <= 0 && known > 0 {
				streams[i].Weight = sum / float64(known) // nobody knows: as much as the others
			}
		}
	}
	return KbpsForDays(usable, days, streams)
}

// A Choice is one way to send the same picture.
type Choice struct {
	Name string  `json:"name"`
	Kbps float64 `json:"kbps" doc:"of all main streams together, estimated"`
	Days float64 `json:"days"`
}

// Rules of thumb for the bitrate at the same look: it grows with the pixels to the power of 0.75, since large pictures hold more that is
// alike, and with the rate to the power of 0.6, since frames that lie closer differ less; H.265 needs six tenths of H.264. They are
// estimates, and are called so wherever they are shown.
const (
	byPixels = 0.75
	byRate   = 0.6
	byCodec  = 0.6
)

// Choices compares sizes, rates and codecs: what the recorded streams, kbps together, would cost otherwise.
func Choices(c Cost, kbps float64) []Choice {
	choice := func(name string, f float64) Choice {
		x := Choice{Name: name, Kbps: kbps * f}
		if f > 0 {
			x.Days = c.Days / f
		}
		return x
	}
	return []Choice{
		choice("As it is", 1),
		choice("Half the frame rate", math.Pow(0.5, byRate)),
		choice("Half the width and height", math.Pow(0.25, byPixels)),
		choice("H.265 in place of H.264", byCodec),
		choice("H.265 at half the frame rate", byCodec*math.Pow(0.5, byRate)),
	}
}
