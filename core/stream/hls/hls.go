// Package hls keeps the newest seconds of a live stream as HLS wants them (RFC 8216, and its second edition for low latency): segments of
// fragmented MP4 that are cut into parts, and the playlist that names them. Whoever asks for what is to come next waits for it.
package hls

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
)

// What a stream is cut into.
const (
	// TargetDuration is what no segment is longer than. A group of pictures that is, is cut within.
	TargetDuration = 4 * time.Second
	// PartTarget is what no part is longer than, but for a single picture that lasts longer.
	PartTarget = 250 * time.Millisecond
	// shortest is what a segment lasts at least where key frames come more often.
	shortest = time.Second
)

// Bounds of what is kept.
const (
	kept      = 8 // segments
	withParts = 3 // of these, the newest, whose parts are named one by one
	mostBytes = 8 << 20
)

// Errors of asking.
var (
	ErrGone = errors.New("that is not kept any more")
	// ErrFuture is for what lies so far ahead that it is not waited for (§6.2.5.2).
	ErrFuture = errors.New("that lies too far ahead")
)

// A Stream is the newest seconds of a live stream. It is made by New, and safe for concurrent use.
type Stream struct {
	mu      sync.Mutex
	changed chan struct{} // closed with whatever comes
	ended   bool
	inits   [][]byte
	first   int // number of segments[0]
	list    []*segment
	part    []byte // under way
	partFor time.Duration
	partKey bool
}

type segment struct {
	init    int // index of what it is read with
	begun   time.Time
	lasts   time.Duration
	bytes   int
	key     bool // it begins with a key frame
	whole   bool
	parts   []part
	changed bool // what it is read with is another than that of the one before
}

type part struct {
	data  []byte
	lasts time.Duration
	key   bool
}

// New returns a stream of which nothing has come yet.
func New() *Stream { return &Stream{changed: make(chan struct{})} }

// Init says what the fragments from now on are read with: an initialisation segment.
func (s *Stream) Init(data []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.endSegment()
	s.inits = append(s.inits, append([]byte(nil), data...))
}

// Picture takes the fragment of one picture, which lasts for some time. at is the time of day. Init was called before.
func (s *Stream) Picture(fragment []byte, key bool, lasts time.Duration, at time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.partFor > 0 && (key || s.partFor+lasts > PartTarget) {
		s.endPart()
	}
	if x := s.open(); x != nil && (key && x.lasts >= shortest || x.lasts+s.partFor+lasts > TargetDuration || x.bytes > mostBytes) {
		s.endSegment()
	}
	if s.open() == nil {
		s.begin(key, at)
	}
	if s.partFor == 0 {
		s.partKey = key
	}
	s.part = append(s.part, fragment...)
	s.partFor += min(lasts, TargetDuration)
}

// Sound takes a fragment of sound, which goes with the pictures about it. It is left out before the first picture.
func (s *Stream) Sound(fragment []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open() != nil && len(s.part) < mostBytes {
		s.part = append(s.part, fragment...)
	}
}

// End says that no more comes.
func (s *Stream) End() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.endSegment()
	s.ended = true
	s.wake()
}

// open returns the segment under way, or nil.
func (s *Stream) open() *segment {
	if n := len(s.list); n > 0 && !s.list[n-1].whole {
		return s.list[n-1]
	}
	return nil
}

func (s *Stream) begin(key bool, at time.Time) {
	x := &segment{init: len(s.inits) - 1, key: key, begun: at}
	if n := len(s.list); n > 0 {
		x.changed = s.list[n-1].init != x.init
	}
	s.list = append(s.list, x)
	for len(s.list) > kept {
		s.inits[s.list[0].init] = s.keptInit(s.list[0].init)
		s.list = s.list[1:]
		s.first++
	}
}

// keptInit returns an initialisation segment where a segment but the oldest is read with it, and nil where none is.
func (s *Stream) keptInit(n int) []byte {
	for _, x := range s.list[1:] {
		if x.init == n {
			return s.inits[n]
		}
	}
	return nil
}

// endPart makes what was gathered a part of the segment under way.
func (s *Stream) endPart() {
	x := s.open()
	if x == nil || len(s.part) == 0 || s.partFor == 0 {
		return
	}
	x.parts = append(x.parts, part{s.part, s.partFor, s.partKey})
	x.lasts += s.partFor
	x.bytes += len(s.part)
	s.part, s.partFor = nil, 0
	s.wake()
}

func (s *Stream) endSegment() {
	s.endPart()
	if x := s.open(); x != nil {
		x.whole = true
		s.wake()
	}
}

func (s *Stream) wake() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// Playlist returns the media playlist (§4). Names of segments and parts stand in it without a folder, each followed by query.
func (s *Stream) Playlist() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var b strings.Builder
	hold := 3 * PartTarget
	fmt.Fprintf(&b, "#EXTM3U\n#EXT-X-VERSION:9\n#EXT-X-TARGETDURATION:%.0f\n#EXT-X-PART-INF:PART-TARGET=%.3f\n"+
		"#EXT-X-SERVER-CONTROL:CAN-BLOCK-RELOAD=YES,PART-HOLD-BACK=%.3f\n#EXT-X-MEDIA-SEQUENCE:%d\n", TargetDuration.Seconds(),
		PartTarget.Seconds(), hold.Seconds(), s.first)
	if n := s.discontinuities(); n > 0 {
		fmt.Fprintf(&b, "#EXT-X-DISCONTINUITY-SEQUENCE:%d\n", n)
	}
	for i, x := range s.list {
		if i > 0 && x.changed {
			b.WriteString("#EXT-X-DISCONTINUITY\n")
		}
		if i == 0 || x.changed {
			fmt.Fprintf(&b, "#EXT-X-MAP:URI=\"%s\"\n", InitName(x.init))
		}
		fmt.Fprintf(&b, "#EXT-X-PROGRAM-DATE-TIME:%s\n", x.begun.UTC().Format("2006-01-02T15:04:05.000Z"))
		if i >= len(s.list)-withParts {
			for n, p := range x.parts {
				fmt.Fprintf(&b, "#EXT-X-PART:DURATION=%.5f,URI=\"%s\"", p.lasts.Seconds(), PartName(s.first+i, n))
				if p.key {
					b.WriteString(",INDEPENDENT=YES")
				}
				b.WriteString("\n")
			}
		}
		if x.whole {
			fmt.Fprintf(&b, "#EXTINF:%.5f,\n%s\n", x.lasts.Seconds(), SegmentName(s.first+i))
		}
	}
	if s.ended {
		b.WriteString("#EXT-X-ENDLIST\n")
	} else if len(s.list) > 0 {
		number, n := s.first+len(s.list)-1, len(s.list[len(s.list)-1].parts)
		if s.list[len(s.list)-1].whole {
			number, n = number+1, 0
		}
		fmt.Fprintf(&b, "#EXT-X-PRELOAD-HINT:TYPE=PART,URI=\"%s\"\n", PartName(number, n))
	}
	return b.String()
}

// discontinuities counts those before the first segment that is kept: each initialisation segment but the first made one.
func (s *Stream) discontinuities() int {
	if len(s.list) == 0 {
		return 0
	}
	return s.list[0].init
}

// Wait returns once the playlist holds a part of a segment, or the whole segment where part is negative (§6.2.5.2: _HLS_msn, _HLS_part).
func (s *Stream) Wait(ctx context.Context, number, part int) error {
	for {
		s.mu.Lock()
		there, more := s.has(number, part), s.changed
		ahead, ended := number > s.first+len(s.list)+1, s.ended
		s.mu.Unlock()
		switch {
		case there || ended:
			return nil
		case ahead:
			return ErrFuture
		}
		select {
		case <-more:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// has reports whether a part has come; one behind the end of its segment is the first of the next.
func (s *Stream) has(number, part int) bool {
	if number < s.first {
		return true
	}
	i := number - s.first
	if i >= len(s.list) {
		return false
	}
	x := s.list[i]
	if part < 0 || part >= len(x.parts) {
		return x.whole && (part < 0 || i+1 < len(s.list) && len(s.list[i+1].parts) > 0)
	}
	return true
}

// Segment returns a whole segment.
func (s *Stream) Segment(number int) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := number - s.first
	if i < 0 || i >= len(s.list) || !s.list[i].whole {
		return nil, ErrGone
	}
	out := make([]byte, 0, s.list[i].bytes)
	for _, p := range s.list[i].parts {
		out = append(out, p.data...)
	}
	return out, nil
}

// Part returns one part, and waits for one that is to come next.
func (s *Stream) Part(ctx context.Context, number, n int) ([]byte, error) {
	if err := s.Wait(ctx, number, n); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	i := number - s.first
	if i < 0 || i >= len(s.list) || n < 0 || n >= len(s.list[i].parts) {
		return nil, ErrGone
	}
	return s.list[i].parts[n].data, nil
}

// Initial returns an initialisation segment.
func (s *Stream) Initial(n int) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if n < 0 || n >= len(s.inits) || s.inits[n] == nil {
		return nil, ErrGone
	}
	return s.inits[n], nil
}

// Kbps returns what the stream takes, by the segments that are kept.
func (s *Stream) Kbps() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	bytes, lasts := 0, time.Duration(0)
	for _, x := range s.list {
		bytes, lasts = bytes+x.bytes, lasts+x.lasts
	}
	if lasts == 0 {
		return 0
	}
	return int(float64(bytes) * 8 / 1000 / lasts.Seconds())
}
