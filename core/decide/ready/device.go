package ready

import (
	"fmt"
	"math"
	"slices"
	"time"

	"unlatch/core/decide/latch"
	"unlatch/core/ground/certificate"
	"unlatch/core/stream/sighting"
)

// administrator is the level of a user who may change everything (ONVIF Device Management §8.4, UserLevel).
const administrator = "Administrator"

// deviceFindings tells the findings of one device.
func deviceFindings(d *latch.Device, now time.Time, add func(Cause, Thing)) {
	st := &d.Status
	if in := st.SignedIn; in != nil && in.Diagnosis == nil && d.Via == nil {
		switch {
		case in.Factory:
			add(FactoryPassword, thing(d, in.User))
		case in.Open && !in.StreamOnly:
			add(FactoryPassword, thing(d, ""))
		}
	}
	if d.Via == nil {
		if !st.Agreed.IsZero() {
			add(ReadableSignIn, thing(d, ""))
		}
		if role := openStream(st); role != "" {
			add(OpenStream, thing(d, role))
		}
		if r := st.Reached; r != nil && r.ClockWrong() {
			add(ClockWrong, thing(d, fmt.Sprintf("%+d s", int64(math.Round(float64(r.SkewMS)/1000)))))
		}
		if until := certificateEnd(st); !until.IsZero() && until.Before(now.Add(endsWithin)) {
			add(CertificateEnds, thing(d, until.UTC().Format(time.DateOnly)))
		}
	}
	if name := adminGiven(st); name != "" {
		add(AdminGiven, thing(d, name))
	}
	if at := StandsAt(d); at != "" {
		add(Unfinished, thing(d, string(at)))
	}
	if d.Name == "" && st.Device.Kind == sighting.Camera {
		add(NoName, thing(d, ""))
	}
}

// StandsAt returns the latch that keeps a device from being finished; "" where it is. A recorder is finished once it is signed in to: it
// takes cameras then.
func StandsAt(d *latch.Device) latch.Name {
	if d.Status.Device.Kind == sighting.Recorder && d.Status.Latch(latch.SignedIn).State == latch.Open {
		return ""
	}
	return d.Status.At()
}

// openStream returns the role of a stream that was played without a sign-in; "" where none was.
func openStream(st *latch.Status) string {
	for _, s := range st.Streams {
		if p, ok := st.Proofs[s.Role]; ok && p.OK && p.Auth == "none" {
			return s.Role
		}
	}
	return ""
}

// certificateEnd returns when the first certificate ends that the device showed for its service or its streams; the zero time where it
// showed none.
func certificateEnd(st *latch.Status) (first time.Time) {
	var shown []*certificate.Certificate
	if st.Reached != nil {
		shown = append(shown, st.Reached.TLS)
	}
	for _, p := range st.Proofs {
		shown = append(shown, p.TLS)
	}
	for _, c := range shown {
		if c != nil && !c.Until.IsZero() && (first.IsZero() || c.Until.Before(first)) {
			first = c.Until
		}
	}
	return first
}

// adminGiven returns the name of a target that was given the sign-in of an administrator of the device; "" where none was.
func adminGiven(st *latch.Status) string {
	in := st.SignedIn
	if in == nil || in.Level != administrator {
		return ""
	}
	i := slices.IndexFunc(st.Placements, func(p latch.Placement) bool {
		return p.SignIn == in.SignIn && (p.Confirmed || p.Slot != "") && !p.ByHand()
	})
	if i < 0 {
		return ""
	}
	return st.Placements[i].Name
}

// Progress is how complete a camera or a target is.
type Progress struct {
	Thing
	Target bool `json:"target,omitempty"`
	// Latch is the latch that a device stands at; "" where all are open or waived. Waived are those that were passed over.
	Latch  latch.Name   `json:"latch,omitempty"`
	Waived []latch.Name `json:"waived,omitempty"`
	// Open and Causes are the findings of it that are not waived, and those that are.
	Open   []Cause `json:"open"`
	Passed []Cause `json:"passed,omitempty" doc:"causes that somebody has waived"`
	// Cameras and Shown count what stands on a target, and of how many of them it shows the picture.
	Cameras int `json:"cameras,omitempty"`
	Shown   int `json:"shown,omitempty"`
}

// Complete reports whether nothing is open.
func (p Progress) Complete() bool { return p.Latch == "" && len(p.Open) == 0 && p.Shown == p.Cameras }

// Progress returns how complete each device and target is, devices first.
func (s *Site) Progress(found []Finding) []Progress {
	out := []Progress{}
	for _, d := range s.own() {
		p := Progress{Thing: thing(d, d.Addr), Latch: StandsAt(d)}
		for _, l := range d.Status.Latches {
			if l.State == latch.Waived {
				p.Waived = append(p.Waived, l.Name)
			}
		}
		out = append(out, p)
	}
	for _, t := range s.Targets {
		p := Progress{Thing: Thing{ID: t.ID, Title: t.Name}, Target: true}
		for _, d := range s.Devices {
			if on := d.Status.PlacementOn(t.ID); on != nil {
				p.Cameras++
				if on.Confirmed {
					p.Shown++
				}
			}
		}
		if p.Cameras > 0 || t.Silent {
			out = append(out, p)
		}
	}
	for i := range out {
		p := &out[i]
		p.Open = []Cause{}
		for _, f := range found {
			has := func(t Thing) bool { return t.ID == p.ID }
			if slices.ContainsFunc(f.Things, has) {
				p.Open = append(p.Open, f.Cause)
			} else if slices.ContainsFunc(f.Waived, has) {
				p.Passed = append(p.Passed, f.Cause)
			}
		}
	}
	return out
}
