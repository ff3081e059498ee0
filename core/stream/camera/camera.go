// Package camera holds what devices tell of themselves, in words that belong to no protocol: who they are, which services they run, and
// which streams they send. Package onvif fills these from a device's answers; evidence keeps them, and latch and tuning work on them.
package camera

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Info is what a device says it is.
type Info struct {
	Manufacturer string `json:"manufacturer"`
	Model        string `json:"model"`
	Firmware     string `json:"firmware"`
	Serial       string `json:"serial"`
	Hardware     string `json:"hardware"`
}

// A Protocol is a network service of a device, with its ports.
type Protocol struct {
	Name    string `json:"name"`
	Enabled bool   `json:"enabled"`
	Ports   []int  `json:"ports"`
}

// A Channel is one video source of a recorder: its streams, as the recorder sends them on, and what it tells of the camera behind.
type Channel struct {
	Number  int        `json:"number" doc:"counted from 1"`
	Name    string     `json:"name,omitempty"`
	Source  string     `json:"source,omitempty" doc:"what the recorder calls the source"`
	Camera  netip.Addr `json:"camera" doc:"the camera's own address, where the recorder tells it; often on a private subnet"`
	Page    string     `json:"page,omitempty" doc:"the recorder's way through to the camera's page"`
	Place   string     `json:"place,omitempty" doc:"where it is plugged in, in the recorder's words"`
	Streams []Stream   `json:"streams"`
}

// A Stream is one stream of a device, with the settings that the device claims for it.
type Stream struct {
	// Token is the device's own name of the stream, which stays when its settings change. Of a stream that was found by trying paths it
	// is the path.
	Token     string   `json:"token"`
	Role      string   `json:"role" enum:"main,sub,third" doc:"what it is used as, by a rule or by a person"`
	Channel   int      `json:"channel" doc:"video source, counted from 1"`
	Name      string   `json:"name,omitempty"`
	URL       string   `json:"url" doc:"without a sign-in"`
	Service   string   `json:"service" enum:"media,media2,recipe,given" doc:"who named the URL; given for a person"`
	Corrected string   `json:"corrected,omitempty" doc:"the address that the device named, where it could not be used"`
	Reserve   string   `json:"reserve,omitempty" doc:"the URL at the device's own address, where it names another host for its streams"`
	Claimed   Settings `json:"claimed"`
}

// ByPerson is the Service of a stream whose URL a person has given.
const ByPerson = "given"

// Named returns the streams that the device has named, without those that a person has given.
func Named(streams []Stream) []Stream {
	return slices.DeleteFunc(slices.Clone(streams), func(s Stream) bool { return s.Service == ByPerson })
}

// Settings are what a device says its encoder is set to. They are compared with what is measured and are never taken for it.
type Settings struct {
	Codec       string  `json:"codec"`
	Width       int     `json:"width"`
	Height      int     `json:"height"`
	FPS         float64 `json:"fps"`
	BitrateKbps int     `json:"bitrate_kbps"`
	GOPFrames   int     `json:"gop_frames"`
}

// Fingerprint returns a short word for the settings: two that differ have different ones. It is "" where the device claims nothing.
func (s Settings) Fingerprint() string {
	if s == (Settings{}) {
		return ""
	}
	h := fnv.New64a()
	fmt.Fprintf(h, "%s %d %d %g %d %d", s.Codec, s.Width, s.Height, s.FPS, s.BitrateKbps, s.GOPFrames)
	return strconv.FormatUint(h.Sum64(), 36)
}

// Roles of a camera's streams, the largest picture first.
var Roles = []string{"main", "sub", "third"}

// GiveRoles gives each channel's streams their roles, and returns the streams that have one, by channel and role. given are roles by
// token that stand already: they are kept, so that a change of size swaps nothing. Every other stream gets the first role that is free,
// the larger picture before the smaller; what is left over has none.
func GiveRoles(streams []Stream, given map[string]string) []Stream {
	list := slices.Clone(streams)
	slices.SortStableFunc(list, func(a, b Stream) int {
		return cmp.Or(cmp.Compare(a.Channel, b.Channel), cmp.Compare(b.Claimed.Width*b.Claimed.Height, a.Claimed.Width*a.Claimed.Height))
	})
	type place struct {
		channel int
		role    string
	}
	taken := map[place]bool{}
	for i := range list {
		s := &list[i]
		s.Role = given[s.Token]
		if at := (place{s.Channel, s.Role}); !slices.Contains(Roles, s.Role) || taken[at] {
			s.Role = ""
		} else {
			taken[at] = true
		}
	}
	for i := range list {
		s := &list[i]
		for _, role := range Roles {
			if at := (place{s.Channel, role}); s.Role == "" && !taken[at] {
				s.Role, taken[at] = role, true
			}
		}
	}
	list = slices.DeleteFunc(list, func(s Stream) bool { return s.Role == "" })
	slices.SortStableFunc(list, func(a, b Stream) int {
		return cmp.Or(cmp.Compare(a.Channel, b.Channel), cmp.Compare(slices.Index(Roles, a.Role), slices.Index(Roles, b.Role)))
	})
	return list
}

// CheckRoles reports what is wrong with roles that a person gives to streams by token; nil where nothing is.
func CheckRoles(streams []Stream, given map[string]string) error {
	taken := map[string]string{}
	for token, role := range given {
		switch {
		case !slices.ContainsFunc(streams, func(s Stream) bool { return s.Token == token }):
			return fmt.Errorf("the device has no stream %q", token)
		case !slices.Contains(Roles, role):
			return fmt.Errorf("%q is no role of a stream: there are %s", role, strings.Join(Roles, ", "))
		case taken[role] != "":
			return fmt.Errorf("two streams cannot both be %s", role)
		}
		taken[role] = token
	}
	return nil
}

// RolesOf returns the roles of streams by their tokens.
func RolesOf(streams []Stream) map[string]string {
	out := map[string]string{}
	for _, s := range streams {
		out[s.Token] = s.Role
	}
	return out
}
