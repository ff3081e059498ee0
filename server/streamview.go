package server

import (
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/camera"
	"unlatch/store"
)

// streamView is one stream: what the device claims and what was measured.
type streamView struct {
	Token    string              `json:"token" doc:"the device's own name of the stream"`
	Role     string              `json:"role"`
	URL      string              `json:"url" doc:"without the sign-in"`
	Segments []streamurl.Segment `json:"segments"`
	Claimed  camera.Settings     `json:"claimed"`
	Given    bool                `json:"given,omitempty" doc:"a person has given its URL"`
	Proof    *proofView          `json:"proof,omitempty"`
}

type proofView struct {
	proof.Proof
	At       time.Time            `json:"at"`
	Still    *uuid.UUID           `json:"still,omitempty"`
	Findings []diagnose.Diagnosis `json:"findings,omitempty" doc:"what a person should act on at a stream that plays"`
}

// viewOfStream returns one stream with its proof. label names the sign-in that its URL has.
func viewOfStream(d *store.Device, x camera.Stream, label string) streamView {
	out := streamView{Token: x.Token, Role: x.Role, URL: x.URL, Claimed: x.Claimed, Given: x.Service == camera.ByPerson}
	p, played := d.Status.Proofs[x.Role]
	if u, err := streamurl.Parse(x.URL); err == nil {
		source := "the device's own answer"
		switch {
		case x.Service == camera.ByPerson:
			source = "a person"
		case x.Service == "recipe":
			source = fmt.Sprintf("the recipe %q, tried on the device", x.Name)
		case d.Via != nil:
			source = "the recorder's answer"
		}
		if x.Reserve != "" {
			source += ", which names another host for its streams"
		}
		if x.Corrected != "" {
			source += fmt.Sprintf(" (it named %s)", x.Corrected)
		}
		out.Segments = u.Segments(source, played && p.OK, label)
	}
	if played {
		l := d.Status.Latch(latch.Proven)
		view := &proofView{Proof: p.Proof, Still: p.Still, Findings: slices.Concat(diagnose.Stream(p.Video, p.Audio,
			p.Transport, x.Claimed), diagnose.TransportStream(p.TransportStream))}
		if l.Since != nil {
			view.At = *l.Since
		}
		out.Proof = view
	}
	return out
}
