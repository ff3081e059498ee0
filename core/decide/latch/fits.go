package latch

import (
	"slices"

	"unlatch/core/decide/fit"
	"unlatch/core/stream/tuning"
)

// Verdicts on a camera and a target, before it is placed.
const (
	Fits        = "fits"
	AfterTuning = "after_tuning" // once its streams are set to the nearest plan
	Cannot      = "cannot"
	Unknown     = "unknown" // nothing of it is proven yet
)

// A Fitting is whether a target would take a camera, and why not.
type Fitting struct {
	Verdict string       `json:"verdict" enum:"fits,after_tuning,cannot,unknown"`
	Reasons []fit.Reason `json:"reasons,omitempty"`
}

// settable are the fields that a plan can change.
var settable = []string{"codec", "profile", "size", "fps", "bitrate_kbps", "gop_seconds", "audio", "role"}

// FittingOn says whether a target would take the camera as it is, after its streams were set, or not at all.
func (s *Status) FittingOn(t Target) Fitting {
	if t.Through && s.Via == "" {
		sent := slices.ContainsFunc(s.Placements, func(p Placement) bool { return p.Target != t.ID && p.Slot != "" && len(p.SendsOn) > 0 })
		if !sent {
			return Fitting{Cannot, []fit.Reason{{Target: t.Name, Field: "way", Has: "by itself", Wants: "a channel of a recorder"}}}
		}
	}
	streams := s.FitStreams()
	if len(streams) == 0 {
		return Fitting{Verdict: Unknown}
	}
	if t.Intake == nil {
		return Fitting{Verdict: Fits}
	}
	reasons, ok := t.takes(streams)
	if ok {
		return Fitting{Verdict: Fits}
	}
	out := Fitting{AfterTuning, reasons}
	nothingToSet := s.SignedIn != nil && s.SignedIn.StreamOnly // it has no device service
	fixed := slices.ContainsFunc(reasons, func(r fit.Reason) bool { return !slices.Contains(settable, r.Field) })
	if nothingToSet || fixed || s.offersNone(reasons, t.Intake.Codecs) {
		out.Verdict = Cannot
	}
	return out
}

// offersNone reports whether another codec is wanted and the camera is known to offer none of those that are taken.
func (s *Status) offersNone(reasons []fit.Reason, codecs []string) bool {
	wanted := slices.ContainsFunc(reasons, func(r fit.Reason) bool { return r.Field == "codec" })
	if s.Offers == nil || len(s.Offers.Streams) == 0 || !wanted {
		return false
	}
	taken := func(c tuning.CodecOptions) bool { return slices.Contains(codecs, c.Codec) }
	return !slices.ContainsFunc(s.Offers.Streams, func(o tuning.Offer) bool {
		return o.Problem != "" || slices.ContainsFunc(o.Options.Codecs, taken)
	})
}
