package media

import "time"

// SoundTimes puts the units of a sound beside a picture in time, by when they came: the first has the time at which it came, and each other
// one follows the one before, since they come unevenly. It is not safe for concurrent use.
type SoundTimes struct {
	Rate int // samples a second

	begun bool
	next  int64 // in samples
}

// strays is how far the time of a unit may lie behind that at which it came before it is set anew: units before it were lost.
const strays = 300 * time.Millisecond

// Next takes when a unit came, counted from the first picture on, and how many samples it holds. It returns the unit's time in samples,
// counted likewise.
func (s *SoundTimes) Next(came time.Duration, samples int) (at int64) {
	now := int64(max(0, came).Seconds() * float64(s.Rate))
	if slack := int64(strays.Seconds() * float64(s.Rate)); !s.begun || now > s.next+slack {
		s.begun, s.next = true, now
	}
	at = s.next
	s.next += int64(samples)
	return at
}
