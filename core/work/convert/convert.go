// Package convert turns a stream into another form by ffmpeg, for targets that take it in no other way: the picture to another codec, size
// or rate, the sound to AAC. What comes out is a session like that with a camera, to be taken by any number of consumers.
package convert

import (
	"context"
	"errors"
	"os"
	"slices"
	"time"

	"unlatch/core/stream/conversion"
	"unlatch/core/stream/fmp4"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/work/fanout"
)

// startBy is how long the first picture may take, to come and to come out again.
const startBy = 20 * time.Second

// Errors of a conversion.
var (
	ErrNoFFmpeg = errors.New("ffmpeg is not installed, so no stream can be converted")
	ErrNoVideo  = errors.New("the stream has no picture that can be converted")
	// ErrChanged ends a conversion whose source is no longer the stream that it was: its takers ask anew.
	ErrChanged = errors.New("the camera has changed its stream")
)

// Bounds on the program that converts. A decoder holds a dozen pictures, so that pixels are what its memory goes by.
const (
	maxPixels = 16 << 20 // of one picture; 4K has 8.3 million
	maxAlloc  = 64 << 20 // bytes that it may ask for in one piece
)

// An underway is one ffmpeg at work.
type underway struct {
	from   *fanout.Consumer
	form   conversion.Shape
	source conversion.Source

	frames    *media.Assembler
	mux       *fmp4.Muxer // writes frames with their times; nil for codecs that go in as they are
	video     int         // index of its track
	audio     int         // -1 for none
	heard     *media.Listener
	beside    *media.Track // of sound that goes on as it comes; nil for none
	made      *player.MadeStream
	pictures  *pipe
	samples   *pipe  // nil where no sound is converted
	folder    string // of what ffmpeg reads besides; "" for nothing
	generated int    // of the muxer's beginning
	buffer    []byte
	changed   bool

	process process
}

// Open turns what a consumer takes into a form, and returns once the first picture has come out. source is what was measured of the
// stream; what is not known of it is read off its first picture. The session ends when the consumer's stream ends or is changed by the
// camera, and with ffmpeg. Closing it closes the consumer. The error is one of this package's, a *conversion.BudgetError, or that of the
// consumer.
func (m *Machine) Open(ctx context.Context, from *fanout.Consumer, source conversion.Source, form conversion.Shape) (*player.Session,
	error) {
	leave, err := m.enter(source, form)
	if err != nil {
		from.Close()
		return nil, err
	}
	ctx, done := context.WithTimeout(ctx, startBy)
	defer done()
	u := &underway{from: from, form: form, source: source, audio: -1, pictures: newPipe()}
	end := func() {
		u.process.end()
		if u.folder != "" {
			os.RemoveAll(u.folder)
		}
		from.Close()
		leave()
	}
	if err := u.begin(ctx, m.Rates()); err != nil {
		end()
		return nil, err
	}
	u.made.OnClose(end)
	return u.made.Session, nil
}

// begin starts ffmpeg once the first picture that can be decoded has come, and waits until one comes out.
func (u *underway) begin(ctx context.Context, rates conversion.Rates) error {
	if err := u.choose(); err != nil {
		return err
	}
	if err := u.first(ctx); err != nil {
		return err
	}
	if err := u.write(); err != nil {
		return err
	}
	to := u.form.Becomes(u.source)
	out, err := u.process.start(u.folder, u.arguments(to, rates.Encoder(to.Codec)), u.pictures, u.samples)
	if err != nil {
		return err
	}
	ready, fed := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(fed)
		u.process.because(u.feed(u.process.life, ready))
	}()
	u.made, err = player.Read(ctx, player.Making{Out: out, Files: u.files(), Beside: u.beside, Timeout: startBy})
	close(ready)
	if err != nil {
		u.process.end()
		<-fed
		return u.process.why(err)
	}
	return nil
}

// files reports whether JPEG files come out, and no transport stream.
func (u *underway) files() bool { return u.form.Picture() && u.form.Becomes(u.source).Codec == "MJPEG" }

// choose says what becomes of each track.
func (u *underway) choose() error {
	tracks := u.from.Tracks()
	u.video = slices.IndexFunc(tracks, func(t player.Track) bool { return t.Kind == "video" })
	if u.video < 0 {
		return ErrNoVideo
	}
	picture := tracks[u.video].Track
	var ok bool
	if u.frames, ok = media.NewAssembler(picture); !ok {
		return ErrNoVideo
	}
	if u.source.Codec == "" {
		u.source.Codec = picture.CodecName()
	}
	if picture.Codec == "H264" || picture.Codec == "H265" {
		u.mux = &fmp4.Muxer{H265: picture.Codec == "H265"}
	}
	at := slices.IndexFunc(tracks, func(t player.Track) bool { return t.Kind == "audio" })
	if at < 0 || u.form.Sound == "none" {
		return nil
	}
	sound := tracks[at].Track
	if u.form.Sound == "" || sound.CodecName() == u.form.Sound {
		u.audio, u.beside = at, &sound
	} else if l, ok := media.NewListener(sound); ok && (l.Form == media.Samples || l.Form == media.AAC) {
		u.audio, u.heard, u.samples = at, l, newPipe()
	}
	return nil
}

// first takes packets until a picture has come that a decoder can begin with.
func (u *underway) first(ctx context.Context) (err error) {
	for list := []fanout.Packet(nil); !u.pictures.begun; {
		if list, err = u.from.Next(ctx, list[:0]); err != nil {
			return err
		}
		for _, p := range list {
			u.packet(p)
		}
	}
	if pic := u.frames.Picture(); pic != nil {
		u.source.Width, u.source.Height = pic.Width, pic.Height
	}
	return nil
}

// feed hands packets on until the stream ends, or ctx does. Packets of sound that goes on as it comes wait for ready.
func (u *underway) feed(ctx context.Context, ready <-chan struct{}) error {
	beside := u.beside != nil
	for list := []fanout.Packet(nil); ; {
		var err error
		if list, err = u.from.Next(ctx, list[:0]); err != nil {
			return err
		}
		for _, p := range list {
			if beside && p.Track == u.audio {
				select {
				case <-ready:
					if u.made != nil && !p.RTCP {
						u.made.Packet(p.Payload, p.At)
					}
				default:
				}
				continue
			}
			if u.packet(p); u.changed {
				return ErrChanged
			}
		}
	}
}

// packet takes one packet of what is converted.
func (u *underway) packet(p fanout.Packet) {
	switch {
	case p.RTCP:
	case p.Track == u.video:
		u.frames.Packet(p.Payload, u.frame)
	case p.Track == u.audio && u.heard != nil && u.pictures.begun:
		u.heard.Packet(p.Payload, func(b []byte) {
			if u.heard.Form == media.AAC {
				b = append(u.heard.ADTS(len(b)), b...)
			}
			u.samples.put(b, true)
		})
	}
}

// frame hands one frame on, with its time where its codec is written so.
func (u *underway) frame(f media.Frame, stamp uint32) {
	key := f.Kind == media.Key
	if u.mux == nil {
		u.pictures.put(f.Data, key)
		return
	}
	var ok bool
	if u.buffer, ok = u.mux.Frame(u.buffer[:0], f.Data, key, stamp); !ok {
		return
	}
	if !u.pictures.begun {
		u.generated = u.mux.Generation
		u.pictures.put(u.mux.Init(nil), true)
	}
	u.changed = u.changed || u.mux.Generation != u.generated
	u.pictures.put(u.buffer, key)
}
