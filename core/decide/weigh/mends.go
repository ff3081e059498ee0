package weigh

import (
	"slices"
	"strings"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/recipe"
)

// What targets want of a camera that a command may set: causes of commands' mends beside the diagnoses.
const (
	WantsDigest = "wants_digest" // a target signs in by digest, and the streams take another method
	WantsBasic  = "wants_basic"  // a target signs in by basic, and the streams take another method
	WantsPlain  = "wants_plain"  // a target takes no encrypted stream
)

// A Button is a command that mends something that is the matter with a device.
type Button struct {
	Command string            `json:"command"`
	Cause   string            `json:"cause" doc:"of the diagnosis that it is the button of; wants_digest, wants_basic and wants_plain for a target that does not fit"`
	Values  map[string]string `json:"values"`
	Words   string            `json:"words" doc:"what it sets, in words"`
}

// Buttons returns the commands that mend what is the matter with a device, in the order in which it stands in the way.
func Buttons(st *latch.Status, commands []recipe.Command) (out []Button) {
	for _, cause := range causes(st) {
		for _, c := range commands {
			for _, m := range c.Mends {
				if m.Cause == cause {
					out = append(out, Button{Command: c.Name, Cause: cause, Values: m.Set, Words: c.InWords(m.Set)})
				}
			}
		}
	}
	return out
}

// causes are what is the matter with a device.
func causes(st *latch.Status) (out []string) {
	add := func(c string) {
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	for _, l := range st.Latches {
		if l.Diagnosis != nil {
			add(string(l.Diagnosis.Cause))
		}
	}
	for _, p := range st.Placements {
		for _, r := range p.Misfit {
			switch {
			case r.Field == "scheme" && strings.Contains(r.Wants, "digest"):
				add(WantsDigest)
			case r.Field == "scheme" && strings.Contains(r.Wants, "basic"):
				add(WantsBasic)
			case r.Field == "tls" && r.Wants == "not encrypted":
				add(WantsPlain)
			}
		}
	}
	for _, s := range st.Streams {
		cast, ok := st.Multicast[s.Role]
		if !ok {
			continue
		}
		for _, d := range diagnose.Multicast(diagnose.Cast{Device: st.Device.Addr, Says: cast.Says, Sends: cast.Sends(), Bare: cast.Bare,
			RTSP: cast.RTSP, RTSPGroup: cast.RTSPGroup}) {
			add(string(d.Cause))
		}
	}
	if st.SignedIn != nil && st.SignedIn.Diagnosis == nil && st.SignedIn.Scheme == "basic" {
		add(string(trouble.Readable))
	}
	return out
}
