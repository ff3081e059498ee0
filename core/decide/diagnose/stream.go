package diagnose

import (
	"fmt"
	"math"
	"slices"
	"time"

	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/media"
)

// Bounds from which on something is a finding.
const (
	longInterval  = 4 * time.Second // between key frames: a viewer waits half of it in the mean
	overClaim     = 2.0             // times the claimed bitrate
	lossPermille  = 5               // of the packets
	clockOffBy    = time.Minute     // the sender's clock against ours
	maxSeenValues = 6
)

// Stream lists what an installer should act on at a stream that was measured, most urgent first. audio may be nil; what the device claims
// may be the zero Settings. transport is how the packets came, as the proof names it.
func Stream(v *media.Measured, audio *media.Audio, transport string, claimed camera.Settings) (out []Diagnosis) {
	if v == nil {
		return nil
	}
	add := func(d Diagnosis) { out = append(out, d) }
	if all := v.Packets + v.Lost; v.Lost > 0 && v.Lost*1000 >= all*lossPermille {
		d := Diagnosis{Cause: trouble.PacketLoss, Summary: fmt.Sprintf("%.1f %% of the packets are lost on the way.",
			float64(v.Lost)*100/float64(all)),
			Fix: "Look at the cable, the switch port and the uplink, or take the stream over TCP."}
		if !slices.Contains([]string{"udp", "multicast", "mpeg-ts", "mpeg-ts over rtp"}, transport) {
			// TCP loses nothing: the device has left them out.
			d.Summary = fmt.Sprintf("The device leaves out %.1f %% of the packets itself: it sends more than it can.",
				float64(v.Lost)*100/float64(all))
			d.Fix = "Lower its bitrate or frame rate, or have fewer viewers at once."
		}
		d.Seen = fmt.Sprintf("%d of %d packets missing, %d out of order, jitter %.1f ms", v.Lost, all, v.Reordered, v.JitterMS)
		add(d)
	}
	if v.ClockDrift != "" {
		add(Diagnosis{Cause: trouble.WrongRTPClock,
			Summary: "Its time stamps do not run with time: players stutter, and recordings play too fast or too slow.",
			Fix:     "Update the device's firmware; until then a player that goes by arrival shows it.",
			Seen:    fmt.Sprintf("%.3g s of RTP time in one second", v.ClockRate)})
	}
	if longest := longestInterval(v); longest > longInterval.Seconds() && v.KeyPattern != "" {
		d := Diagnosis{Cause: trouble.LongKeyInterval,
			Summary: fmt.Sprintf("Whoever opens this stream waits up to %.0f s for the first picture: key frames "+
				"are that far apart.", longest),
			Fix:  "Set the key-frame interval to one or two seconds on the device.",
			Seen: intervals(v)}
		if uneven(v.KeyIntervals) {
			d.Fix = "Switch the smart coding off on the device, or its key-frame interval to fixed: it leaves key frames out while nothing moves."
		}
		add(d)
	}
	if c := float64(claimed.BitrateKbps); c > 0 && v.BitrateKbps >= overClaim*c {
		add(Diagnosis{Cause: trouble.OverBitrate,
			Summary: fmt.Sprintf("%.1f times the bitrate that the device claims comes: disks fill and links are "+
				"loaded that much sooner.", v.BitrateKbps/c),
			Fix:  "Set a ceiling for the bitrate on the device, or reckon with what was measured.",
			Seen: fmt.Sprintf("%.0f kbit/s measured, %.0f claimed", v.BitrateKbps, c)})
	}
	if claimed.Codec != "" && v.Codec != "" && claimed.Codec != v.Codec {
		add(Diagnosis{Cause: trouble.OtherCodec, Summary: fmt.Sprintf("It sends %s and claims %s.", v.Codec, claimed.Codec),
			Fix: "Save the codec once more on the device, then prove again. Targets that go by the claim show nothing."})
	}
	if len(v.Segments) > 1 {
		a, b := v.Segments[0], v.Segments[1]
		add(Diagnosis{Cause: trouble.SizeChanges,
			Summary: "The picture changes its size while it plays: many recorders and players stop at that.",
			Fix:     "Set a fixed size on the device, and switch off what adapts it to the link.",
			Seen:    fmt.Sprintf("%d × %d, then %d × %d after %.1f s", a.Width, a.Height, b.Width, b.Height, float64(b.FromMS)/1000)})
	}
	if v.SenderClockMS != nil {
		if off := time.Duration(*v.SenderClockMS) * time.Millisecond; off.Abs() >= clockOffBy {
			way := "ahead of"
			if off < 0 {
				way = "behind"
			}
			add(Diagnosis{Cause: trouble.WrongClock,
				Summary: fmt.Sprintf("The wall clock in its stream runs %s %s ours: recordings are filed under the "+
					"wrong time.", roundedDuration(off.Abs()), way),
				Fix: "Set the device's clock, or give it a time server.", Seen: "its sender reports (RTCP)"})
		}
	}
	return append(out, sound(audio)...)
}

func sound(a *media.Audio) (out []Diagnosis) {
	switch {
	case a == nil:
	case a.Problem != "":
		out = append(out, Diagnosis{Cause: trouble.BadAudioConfig, Summary: "Players cannot decode its audio: " + a.Problem + ".",
			Fix: "Set the audio codec anew on the device, or switch audio off."})
	case a.Silent:
		out = append(out, Diagnosis{Cause: trouble.SilentAudio, Summary: "There is an audio track, and it is silent.",
			Fix: "Switch the microphone on, or leave the audio off and save its bitrate.", Seen: fmt.Sprintf("%.0f dBFS", *a.LevelDBFS)})
	}
	return out
}

// longestInterval returns the longest time between key frames in seconds, that since the last one included.
func longestInterval(v *media.Measured) float64 {
	total, longest := 0.0, 0.0
	for _, s := range v.KeyIntervals {
		longest, total = max(longest, s), total+s
	}
	return max(longest, float64(v.MeasuredForMS)/1000-total)
}

func uneven(intervals []float64) bool {
	if len(intervals) < 2 {
		return false
	}
	least, most := intervals[0], intervals[0]
	for _, s := range intervals {
		least, most = min(least, s), max(most, s)
	}
	return most-least > 0.5
}

func intervals(v *media.Measured) string {
	list := v.KeyIntervals
	if len(list) == 0 {
		return fmt.Sprintf("%d key frame within %.0f s", v.Keyframes, float64(v.MeasuredForMS)/1000)
	}
	text := "key frames after "
	for i, s := range list[:min(len(list), maxSeenValues)] {
		if i > 0 {
			text += ", "
		}
		text += fmt.Sprintf("%.3g", s)
	}
	return text + " s"
}

// roundedDuration returns a length of time as people say it.
func roundedDuration(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%.0f days", math.Round(d.Hours()/24))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%.0f hours", math.Round(d.Hours()))
	case d >= 2*time.Minute:
		return fmt.Sprintf("%.0f min", math.Round(d.Minutes()))
	}
	return fmt.Sprintf("%.0f s", d.Seconds())
}
