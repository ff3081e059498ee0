package player

import (
	"context"
	"maps"
	"time"

	"unlatch/core/stream/media"
	"unlatch/core/stream/mpegts"
)

// A carriage is a stream that no RTSP session carries: it comes in datagrams, or as the answer to an HTTP request. What comes is made into
// the RTP packets that would have carried it, so that it is measured and shown as every other stream is.
type carriage struct {
	session *Session
	source  source
	timeout time.Duration
	wanted  map[string]bool // kinds of track
	demux   mpegts.Demuxer  // of a transport stream
	streams map[uint16]*carried
	each    func(Packet)
	err     error // for which the stream cannot be played
}

// A source is where a carriage comes from.
type source interface {
	// next takes what comes until a moment, or the first piece before it.
	next(until time.Time) error
	// came returns how many pieces have come.
	came() int
	// none says that no picture has come within the time, and what has come instead.
	none() error
	close() error
}

// carried is an elementary stream that is played.
type carried struct {
	elementary *media.Elementary
	kind       string
	track      int // index in Session.Tracks; -1 before it is known
}

// codecs are the elementary streams that are read, by what rtpmaps call them.
var codecs = map[mpegts.StreamType]string{mpegts.H264: "H264", mpegts.H265: "H265", mpegts.ADTS: "MPEG4-GENERIC",
	mpegts.MPEG1Audio: "MPA", mpegts.MPEG2Audio: "MPA"}

// codecOf returns what rtpmaps call the codec of an elementary stream; "" for one that is not read.
func codecOf(s mpegts.Stream) string {
	if s.Type == mpegts.Private && s.Registered == "Opus" {
		return "OPUS"
	}
	return codecs[s.Type]
}

func newCarriage(s *Session, req Request) *carriage {
	c := &carriage{session: s, timeout: req.Timeout, streams: map[uint16]*carried{}, wanted: map[string]bool{}}
	if c.timeout == 0 {
		c.timeout = 5 * time.Second
	}
	for _, k := range req.Kinds {
		c.wanted[k] = true
	}
	c.demux.Each = c.unit
	c.each = func(p Packet) {
		if len(s.early) < maxEarly {
			p.Payload = append([]byte(nil), p.Payload...)
			s.early = append(s.early, p)
		}
	}
	return c
}

// soundWait is how long sound is waited for that the tables name, once the picture comes.
const soundWait = time.Second

// await waits for the first unit of the picture.
func (c *carriage) await(ctx context.Context) error {
	var picture time.Time // when it came
	for end := time.Now().Add(c.timeout); picture.IsZero() || c.missing() && time.Since(picture) < soundWait; {
		if err := ctx.Err(); err != nil {
			return err
		}
		if picture.IsZero() && time.Now().After(end) {
			return c.source.none()
		}
		if err := c.next(); err != nil {
			return err
		}
		if picture.IsZero() && c.session.First("video") >= 0 {
			picture = time.Now()
		}
	}
	c.leaveOut()
	return nil
}

// next takes the next piece, or waits for a while.
func (c *carriage) next() error {
	if err := c.source.next(time.Now().Add(200 * time.Millisecond)); err != nil {
		return err
	}
	return c.err
}

// run hands on packets until done reports true.
func (c *carriage) run(ctx context.Context, each func(Packet), done func() bool) error {
	c.each = each
	heard := time.Now()
	for before := c.source.came(); !done(); {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := c.next(); err != nil {
			return err
		}
		if n := c.source.came(); n != before {
			before, heard = n, time.Now()
		} else if time.Since(heard) > c.timeout {
			return c.source.none()
		}
	}
	return nil
}

// missing reports whether a stream that is to be played has not come yet.
func (c *carriage) missing() bool {
	for _, x := range c.streams {
		if x.track < 0 {
			return true
		}
	}
	return false
}

// leaveOut plays without what has not come.
func (c *carriage) leaveOut() {
	maps.DeleteFunc(c.streams, func(_ uint16, x *carried) bool { return x.track < 0 })
}

// choose sets up what of the program is played, once its tables have come: the first stream of each kind that is wanted and read.
func (c *carriage) choose() {
	streams, known := c.demux.Streams()
	if !known || len(c.streams) > 0 || c.err != nil {
		return
	}
	have := map[string]bool{}
	var unread string
	for _, s := range streams {
		kind := "audio"
		if s.Type.Video() {
			kind = "video"
		}
		e, ok := media.NewElementary(codecOf(s))
		if !ok || have[kind] || !c.wanted[kind] {
			if kind == "video" && !ok {
				unread = s.Type.String()
			}
			continue
		}
		have[kind] = true
		c.streams[s.PID] = &carried{elementary: e, kind: kind, track: -1}
	}
	switch {
	case have["video"]:
	case unread != "":
		c.err = &UnreadError{Codec: unread}
	default:
		c.err = &NoTrackError{Kind: "video"}
	}
}

// unit takes one unit of an elementary stream of a transport stream.
func (c *carriage) unit(u mpegts.Unit) {
	if x := c.streams[u.Stream.PID]; x != nil {
		c.take(x, u)
	}
}

// take makes packets of one unit.
func (c *carriage) take(x *carried, u mpegts.Unit) {
	if x.kind != "video" && c.session.First("video") < 0 { // the picture is the first track
		return
	}
	x.elementary.Unit(u.Data, u.PTS, u.HasPTS, u.Damaged, func(b []byte) {
		if x.track < 0 {
			t, _ := x.elementary.Track()
			x.track = len(c.session.Tracks)
			c.session.Tracks = append(c.session.Tracks, Track{Track: t})
		}
		c.each(Packet{Track: x.track, Payload: b, At: u.At})
	})
}
