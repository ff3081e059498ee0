package latch

// A Plain is how a camera stands, for people who know nothing of networks.
type Plain string

// The ways in which a camera stands.
const (
	PlainWorks     Plain = "works"      // all that was wanted is done
	PlainShows     Plain = "shows"      // it shows a picture, and something is still to be done
	PlainSettingUp Plain = "setting_up" // it has shown no picture yet, and nothing stands in the way
	PlainNoPicture Plain = "no_picture" // something stands in the way of its picture
)

// Plain returns how the camera stands in plain words: by whether its picture was proven, and by what it waits for.
func (s *Status) Plain() Plain {
	if s.At() == "" {
		return PlainWorks
	}
	proven := s.Latch(Proven).State
	switch {
	case proven == Open || proven == Waived:
		return PlainShows
	case s.Latch(s.At()).State == Stuck:
		return PlainNoPicture
	}
	return PlainSettingUp
}
