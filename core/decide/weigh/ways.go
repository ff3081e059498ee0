package weigh

import (
	"slices"

	"unlatch/core/decide/latch"
	"unlatch/core/ground/streamurl"
)

// A Way is one stream of a camera with how it comes, who takes it and what that costs.
type Way struct {
	Role    string   `json:"role"`
	How     string   `json:"how" doc:"how it came when it was proven: tcp, http, mpeg-ts and so on"`
	Kbps    float64  `json:"kbps" doc:"of the stream"`
	Always  bool     `json:"always,omitempty" doc:"it is sent all the time, whoever takes it or not"`
	Targets []string `json:"targets" doc:"the names of those that take it"`
	// FlowKbps is what it puts on the camera's cable: once where it goes to a group, once for each that takes it otherwise.
	FlowKbps float64 `json:"flow_kbps"`
}

// Ways are the ways out of one camera, and what they cost together.
type Ways struct {
	Ways []Way   `json:"ways"`
	Kbps float64 `json:"kbps" doc:"of all that flows"`
}

// WaysOf returns the ways out of a camera that offers its picture in more than one; nil of one that does not.
func WaysOf(st *latch.Status) *Ways {
	out := &Ways{}
	hows := map[string]bool{}
	for _, s := range st.Streams {
		u, err := streamurl.Parse(s.URL)
		if err != nil {
			continue
		}
		w := Way{Role: s.Role, How: st.Proofs[s.Role].Transport, Kbps: kbpsOf(st, s.Role), Always: u.Datagrams(), Targets: []string{}}
		for _, p := range st.Placements {
			if slices.ContainsFunc(p.Gives, func(g latch.Given) bool { return g.URL == s.URL }) {
				w.Targets = append(w.Targets, p.Name)
			}
		}
		if w.FlowKbps = w.Kbps * float64(len(w.Targets)); w.Always {
			w.FlowKbps = w.Kbps
		}
		hows[u.Scheme] = true
		out.Ways = append(out.Ways, w)
		out.Kbps += w.FlowKbps
	}
	if len(hows) < 2 {
		return nil
	}
	return out
}
