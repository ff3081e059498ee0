package diagnose

import (
	"fmt"
	"strings"

	"unlatch/core/ground/trouble"
	"unlatch/core/stream/mpegts"
)

// longReference is the longest time between two clock references that the standard allows (ISO/IEC 13818-1 §2.7.2), in milliseconds.
const longReference = 100

// TransportStream lists what an installer should act on at a transport stream that was measured, most urgent first. ts may be nil.
func TransportStream(ts *mpegts.Transport) (out []Diagnosis) {
	if ts == nil {
		return nil
	}
	if len(ts.Also) > 0 {
		out = append(out, Diagnosis{Cause: trouble.TwoSenders,
			Summary: fmt.Sprintf("%s sends to the same place as %s: who takes the group gets both mixed up.", strings.Join(ts.Also, " and "),
				ts.Sender),
			Fix:  "Give each encoder a group of its own.",
			Seen: fmt.Sprintf("transport streams from %d senders", 1+len(ts.Also))})
	}
	if ts.Alternates {
		out = append(out, Diagnosis{Cause: trouble.MixedDatagrams,
			Summary: "Some of its datagrams come within RTP and some without: players that expect the one lose the other.",
			Fix:     "Set the encoder to one of the two. If it is, two programs on it send to the same place: stop one.",
			Seen:    "datagrams with an RTP header of payload type 33, and datagrams that begin with 0x47"})
	}
	if ts.Programs > 1 {
		out = append(out, Diagnosis{Cause: trouble.ManyPrograms,
			Summary: fmt.Sprintf("It carries %d programs, of which the first is measured. A target may show another.", ts.Programs),
			Fix:     "Have the encoder send one program to a group, or say at the target which one is wanted.",
			Seen:    fmt.Sprintf("program %d stands first in the table of programs", ts.Program)})
	}
	if ts.PCRMostMS > longReference {
		out = append(out, Diagnosis{Cause: trouble.LateReferences,
			Summary: fmt.Sprintf("Its clock references come up to %.0f ms apart; the standard allows %d. Decoders of hardware lose the picture at "+
				"that.", ts.PCRMostMS, longReference),
			Fix:  "Set the interval of the PCR at the encoder to 40 ms or less.",
			Seen: fmt.Sprintf("%.0f ms between two references at most, %.0f ms of jitter", ts.PCRMostMS, ts.PCRJitterMS)})
	}
	return out
}
