package media

import "slices"

// DecodeTimes works out when the frames of a stream are to be decoded. RTP tells when each is to be shown (RFC 3550 §5.1), and frames come
// in the order of decoding: where some of them are shown before frames that came earlier (B-frames), containers such as MP4 and FLV want
// both times. The zero value is ready. It is not safe for concurrent use.
type DecodeTimes struct {
	begun   bool
	stamp   uint32  // of the last frame, as it came
	show    int64   // of the last frame
	decode  int64   // of the last frame
	usual   int64   // ticks between frames that follow each other
	waiting []int64 // times of showing that are to become times of decoding, in order
	ahead   int64   // by which the first frame is decoded before it is shown
}

// LookAhead is of how many frames Expect wants the times.
const LookAhead = 5

// Expect tells the RTP times of the first frames before they are taken by Next, so that how far they are out of order is known from the
// first one on.
func (d *DecodeTimes) Expect(stamps []uint32) {
	held, between := 0, int64(usualTicks)
	for i, s := range stamps {
		later := 0
		for j, before := range stamps[:i] {
			if apart := int64(int32(before - s)); apart > 0 && apart < earliest {
				later++
				if between = min(between, apart); j == 0 {
					return // the first frame begins a group: nothing is shown before it
				}
			}
		}
		held = max(held, later)
	}
	d.ahead = int64(held) * between
	for n := range held {
		d.waiting = append(d.waiting, int64(n+1)*between)
	}
}

// Bounds of what the clock of a camera is believed, in ticks of 90 kHz.
const (
	usualTicks    = 90_000 / 25
	longestTicks  = 10 * 90_000 // a camera that was away goes on where the viewer is
	earliest      = 90_000      // by which a frame may be shown before the one that came just before it
	mostReordered = 16          // frames that a decoder may hold back (ITU-T H.264 annex A: MaxDpbFrames)
)

// Next takes the RTP time of the next frame, and returns when it is to be decoded and when it is to be shown, in ticks of 90 kHz since the
// first frame was decoded. decode grows with every frame. Without Expect, show is before decode in the first few frames that are out of
// order. A clock that jumps, back or far ahead, moves both by a usual frame.
func (d *DecodeTimes) Next(stamp uint32) (decode, show int64) {
	if !d.begun {
		d.begun, d.stamp, d.usual, d.show = true, stamp, usualTicks, d.ahead
		return 0, d.show
	}
	delta := int64(int32(stamp - d.stamp)) // modulo 2^32: the clock wraps every thirteen hours
	d.stamp = stamp
	if delta == 0 || delta > longestTicks || delta < -earliest {
		d.waiting = d.waiting[:0]
		d.show = max(d.show, d.decode) + d.usual
		d.decode = d.show
		return d.decode, d.show
	}
	d.show += delta
	if len(d.waiting) == 0 && d.show > d.decode {
		d.usual = d.show - d.decode
		d.decode = d.show
		return d.decode, d.show
	}
	at, _ := slices.BinarySearch(d.waiting, d.show)
	d.waiting = slices.Insert(d.waiting, at, d.show)
	next := d.decode + 1
	// A frame that was to be shown already came later than was reckoned with: from there on one more is held back.
	if d.show > d.decode || len(d.waiting) > mostReordered {
		next = max(next, d.waiting[0])
		d.waiting = d.waiting[1:]
	}
	d.decode = next
	return d.decode, d.show
}
