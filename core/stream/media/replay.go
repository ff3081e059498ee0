package media

import (
	"encoding/binary"
	"time"
)

// replayExtension is the id of the RTP header extension of replayed packets (ONVIF Streaming Specification, "RTP header extension").
const replayExtension = 0xABAC

// recordedAt returns when the frame of a replayed packet was recorded, by the recorder's clock; nil for a packet that does not say.
func recordedAt(p packet) *time.Time {
	if p.extension != replayExtension || len(p.extended) < 12 {
		return nil
	}
	at := timeOfNTP(binary.BigEndian.Uint64(p.extended))
	return &at
}

// ReplayHeader returns the body of the header extension of a frame that was recorded at a moment: its NTP time, flags (none set), the
// low byte of the sequence of the request, padding.
func ReplayHeader(at time.Time, cseq byte) (profile uint16, body []byte) {
	body = binary.BigEndian.AppendUint64(nil, ntpOf(at))
	return replayExtension, append(body, 0, cseq, 0, 0)
}

// timeOfNTP and ntpOf turn 64-bit NTP times (RFC 5905 §6): seconds since 1900 and their fraction.
func timeOfNTP(ntp uint64) time.Time {
	fraction := time.Duration((ntp & 0xffffffff) * uint64(time.Second) >> 32)
	return ntpEpoch.Add(time.Duration(ntp>>32) * time.Second).Add(fraction)
}

func ntpOf(at time.Time) uint64 {
	d := at.Sub(ntpEpoch)
	return uint64(d/time.Second)<<32 | uint64(d%time.Second)<<32/uint64(time.Second)
}
