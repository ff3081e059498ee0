package live

import (
	"context"
	"errors"
	"slices"
	"time"

	"unlatch/core/stream/fmp4"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/work/fanout"
)

// An Open begins to take the packets of the device's stream, which others may take too.
type Open func(ctx context.Context) (*fanout.Consumer, error)

// Again is how long a stream that has been seen is asked for again when it breaks off: a camera that restarts comes back within minutes.
const Again = 3 * time.Minute

// waits are the pauses before it is asked for again; the last is kept to.
var waits = []time.Duration{500 * time.Millisecond, time.Second, 2 * time.Second, 4 * time.Second}

// Play returns the source of a device's stream. word says an error in a person's words, and whether asking again may help.
func Play(open Open, word func(error) (t *Trouble, again bool)) Source {
	return func(ctx context.Context, to *Room) error {
		var broke time.Time // when it broke off
		for n := 0; ; n++ {
			p := &playSession{room: to}
			err := p.play(ctx, open)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err == nil {
				err = errors.New("the stream ended")
			}
			if p.shown {
				broke, n = time.Now(), 0
			}
			t, again := word(err)
			if broke.IsZero() || !again || time.Since(broke) > Again {
				return t
			}
			to.Paused(Trouble{Problem: t.Problem, Fix: "It is asked for again."})
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(waits[min(n, len(waits)-1)]):
			}
		}
	}
}

// playSession is one session whose packets become messages.
type playSession struct {
	room   *Room
	tracks []player.Track
	track  media.Track // the first of them
	heard  int         // which of them is sound; -1 for none
	frames *media.Assembler
	// listening makes messages of the sound, once somebody listens.
	listening *soundSession
	pace      pace
	ids       map[Form]int                      // see Room.Wants
	native    func(f media.Frame, stamp uint32) // the form AsItComes; nil where no browser plays the codec
	asIs      *picture
	made      *converter
	broken    int // conversions that ended by themselves
	shown     bool
}

// spoken are the codecs that are shown, as people speak of them.
var spoken = map[string]string{"H264": "H.264", "H265": "H.265", "MP4V-ES": "MPEG-4", "JPEG": "MJPEG"}

func (p *playSession) play(ctx context.Context, open Open) error {
	from, err := open(ctx)
	if err != nil {
		return err
	}
	defer from.Close()
	p.tracks = from.Tracks()
	p.track = p.tracks[0].Track
	var ok bool
	if p.frames, ok = media.NewAssembler(p.track); !ok || spoken[p.track.Codec] == "" {
		return &UnshownError{p.track.CodecName()}
	}
	p.ids = map[Form]int{}
	switch p.track.Codec {
	case "H264", "H265":
		p.native = func(f media.Frame, stamp uint32) { p.asIs.frame(f.Data, f.Kind == media.Key, stamp) }
	case "JPEG":
		p.native = func(f media.Frame, _ uint32) { p.asIs.jpeg(f.Data, p.frames.Picture()) }
	}
	defer func() {
		if p.made != nil {
			p.made.close()
		}
	}()
	p.room.Seat(p.form)
	p.heard = slices.IndexFunc(p.tracks, func(t player.Track) bool { return t.Kind == "audio" })
	for list := []fanout.Packet(nil); ; {
		if list, err = from.Next(ctx, list[:0]); err != nil {
			return err
		}
		for _, packet := range list {
			p.packet(ctx, packet)
		}
	}
}

// packet makes messages of one packet.
func (p *playSession) packet(ctx context.Context, packet fanout.Packet) {
	switch {
	case packet.RTCP:
	case packet.Track == p.heard:
		if wanted, fresh := p.wants(Sound); wanted {
			if fresh {
				p.listening = listen(p.room, p.tracks[p.heard].Track)
			}
			p.listening.packet(packet.Payload)
		}
	case packet.Track == 0:
		if passed := p.pace.packet(packet.Payload, packet.At); passed != nil {
			p.room.Measured(passed...)
		}
		p.frames.Packet(packet.Payload, func(f media.Frame, stamp uint32) { p.frame(ctx, f, stamp, packet.At) })
	}
	if p.heard < 0 {
		if _, fresh := p.wants(Sound); fresh {
			listen(p.room, media.Track{}) // says that there is none
		}
	}
}

// form is that in which a wish is met.
func (p *playSession) form(w Wish) Form {
	switch {
	case w.Sound:
		return Sound
	case w.Made, p.native == nil, p.track.Codec == "H265" && !w.H265:
		return Converted
	}
	return AsItComes
}

// wants reports whether somebody looks at a form, and whether that begins anew.
func (p *playSession) wants(f Form) (wanted, fresh bool) {
	id := p.room.Wants(f)
	fresh = id != 0 && id != p.ids[f]
	p.ids[f] = id
	return id != 0, fresh
}

// frame hands on one frame in the forms that somebody looks at.
func (p *playSession) frame(ctx context.Context, f media.Frame, stamp uint32, at time.Time) {
	key := f.Kind == media.Key
	p.pace.frame(key, at)
	p.shown = true
	if wanted, fresh := p.wants(AsItComes); wanted && p.native != nil {
		if fresh {
			p.asIs = &picture{room: p.room, form: AsItComes, codec: spoken[p.track.Codec], mux: fmp4.Muxer{H265: p.track.Codec == "H265"}}
		}
		p.native(f, stamp)
	}
	wanted, fresh := p.wants(Converted)
	if p.made != nil && (!wanted || fresh) {
		p.made.close()
		p.made = nil
	}
	if !wanted {
		return
	}
	if p.made == nil && key { // it begins with a frame that rests on no other
		shown := &picture{room: p.room, form: Converted, codec: "H.264", converted: spoken[p.track.Codec]}
		var err error
		if p.made, err = convert(ctx, p.frames.Decoder(), shown.frame); err != nil {
			p.room.Refuse(Converted, err)
			return
		}
	}
	if p.made != nil {
		if err := p.made.frame(f.Data, key); err != nil {
			p.made.close()
			p.made = nil // it is begun again, and a few times at most: what cannot be converted ends it each time
			if p.broken++; p.broken > mostBroken {
				p.room.Refuse(Converted, err)
			}
		}
	}
}

// mostBroken is how often a conversion may end by itself in one session.
const mostBroken = 3

// A picture makes messages of frames.
type picture struct {
	room       *Room
	form       Form
	codec      string
	converted  string
	mux        fmp4.Muxer
	generation int
	size       [2]int // of JPEG
}

// frame shows one frame of H.264 or H.265.
func (s *picture) frame(data []byte, key bool, stamp uint32) {
	fragment, ok := s.mux.Frame(make([]byte, 0, len(data)+256), data, key, stamp)
	if !ok {
		return
	}
	if s.mux.Generation != s.generation {
		s.generation = s.mux.Generation
		b := &Begin{MIME: s.mux.MIME(), Codec: s.codec, Converted: s.converted}
		b.Width, b.Height = s.mux.Size()
		s.room.Tell(s.form, Message{Begin: b, Data: s.mux.Init(nil), Key: true})
	}
	s.room.Tell(s.form, Message{Data: fragment, Key: key})
}

// jpeg shows one picture by itself.
func (s *picture) jpeg(data []byte, p *media.Picture) {
	size := [2]int{}
	if p != nil {
		size = [2]int{p.Width, p.Height}
	}
	if s.generation == 0 || size != s.size {
		s.generation, s.size = 1, size
		s.room.Tell(s.form, Message{Begin: &Begin{MIME: "image/jpeg", Codec: s.codec, Width: size[0], Height: size[1]}, Key: true})
	}
	s.room.Tell(s.form, Message{Data: append([]byte(nil), data...), Key: true})
}

// soundSession makes messages of sound.
type soundSession struct {
	room *Room
	from *media.Listener
	mux  fmp4.Sound
}

// Unheard is told in place of sound where there is none that a browser could play.
const Unheard = "audio/none"

// listen begins to hand on the sound of a track. Where there is nothing to play it says so, and that is all.
func listen(room *Room, t media.Track) *soundSession {
	l := &soundSession{room: room}
	from, ok := media.NewListener(t)
	switch {
	case t.Codec == "":
		room.Tell(Sound, Message{Begin: &Begin{MIME: Unheard}, Key: true})
	case !ok:
		room.Tell(Sound, Message{Begin: &Begin{MIME: Unheard, Codec: t.CodecName()}, Key: true})
	case from.Form == media.Samples:
		l.from = from
		room.Tell(Sound, Message{Begin: &Begin{MIME: "audio/pcm", Codec: t.CodecName(), Rate: from.Rate, Channels: from.Channels}, Key: true})
	default:
		l.from = from
		l.mux = fmp4.Sound{Opus: from.Form == media.Opus, Config: from.Config, Object: from.Object, Rate: from.Rate, Channels: from.Channels}
		b := &Begin{MIME: l.mux.MIME(), Codec: t.CodecName(), Rate: from.Rate, Channels: from.Channels}
		room.Tell(Sound, Message{Begin: b, Data: l.mux.Init(nil), Key: true})
	}
	return l
}

func (l *soundSession) packet(b []byte) {
	if l.from == nil {
		return
	}
	l.from.Packet(b, func(data []byte) {
		if l.from.Form == media.Samples {
			data = append([]byte(nil), data...)
		} else {
			data = l.mux.Frame(nil, data)
		}
		l.room.Tell(Sound, Message{Data: data, Key: true})
	})
}
