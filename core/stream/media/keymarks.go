package media

// keyMarks remembers where the first and the latest key frame began.
type keyMarks struct {
	firstBytes, lastBytes   int64
	firstFrames, lastFrames int
	lastClock               int64
	n                       int
}

// A keyInterval lies between two key frames.
type keyInterval struct {
	frames int
	clock  int64
	bytes  int64
}

// key marks where a key frame began.
func (m *Meter) key(u *frameUnderWay) {
	m.m.Keyframes++
	k := &m.keys
	if k.n == 0 {
		k.firstBytes, k.firstFrames = u.bytesBefore, u.framesBefore
	} else if len(m.intervals) < maxIntervals {
		m.intervals = append(m.intervals, keyInterval{u.framesBefore - k.lastFrames, u.clock - k.lastClock, u.bytesBefore - k.lastBytes})
	}
	k.lastBytes, k.lastFrames, k.lastClock = u.bytesBefore, u.framesBefore, u.clock
	k.n++
}
