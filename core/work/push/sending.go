package push

import (
	"bytes"
	"errors"
	"slices"
	"time"

	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/work/fanout"
)

// A publisher takes frames for a platform; *rtmp.Publisher is one.
type publisher interface {
	Video(frame []byte, key bool, at uint32, later int32) error
	Audio(unit, config []byte, at uint32) error
	Failed() error
}

// Silence in AAC-LC of one channel at 44.1 kHz: its AudioSpecificConfig (ISO/IEC 14496-3 §1.6.2.1: object type 2, rate index 4, one
// channel), and an access unit of a single channel element with no bands and no gain, followed by the end (§4.4.2.1).
var (
	silenceConfig = []byte{0x12, 0x08}
	silence       = []byte{0, 0, 0, 7}
)

// silenceLasts is how long one unit of silence sounds.
const silenceLasts = samplesAUnit * time.Second / 44_100

// Errors of what a stream is.
var (
	errNoPicture = errors.New("platforms take H.264, and the stream is another: give it the form H.264")
	errSound     = errors.New("platforms take sound in AAC, and the stream's is another: give it the form AAC, or leave the sound out")
)

// sending makes what a platform takes of packets.
type sending struct {
	video, audio int // indexes of tracks; audio is -1 for none
	frames       *media.Assembler
	times        media.DecodeTimes
	first        []heldFrame // the first frames, until there are enough to know how far they are out of order
	sent         bool        // those have been sent
	heard        *media.Listener
	sounds       media.SoundTimes
	silent       bool // silence is sent
	told         bool // the configuration of the sound was sent

	begun    time.Time // when the first picture that was sent came
	at       time.Time // of the packet that is taken
	quiet    int64     // units of silence that were sent
	pictures int64
	err      error
}

// A heldFrame is a frame that is sent a moment later.
type heldFrame struct {
	data  []byte
	key   bool
	stamp uint32
}

func newSending(tracks []player.Track, silence bool) (*sending, error) {
	x := &sending{audio: -1}
	x.video = slices.IndexFunc(tracks, func(t player.Track) bool { return t.Codec == "H264" })
	if x.video < 0 {
		return nil, errNoPicture
	}
	x.frames, _ = media.NewAssembler(tracks[x.video].Track)
	x.audio = slices.IndexFunc(tracks, func(t player.Track) bool { return t.Kind == "audio" })
	if x.audio < 0 {
		x.silent = silence
		return x, nil
	}
	l, ok := media.NewListener(tracks[x.audio].Track)
	if !ok || l.Form != media.AAC {
		return nil, errSound
	}
	x.heard, x.sounds.Rate = l, l.Rate
	return x, nil
}

// packet sends what a packet makes whole.
func (x *sending) packet(to publisher, p fanout.Packet) error {
	x.at = p.At
	switch {
	case p.RTCP:
	case p.Track == x.video:
		x.frames.Packet(p.Payload, func(f media.Frame, stamp uint32) { x.frame(to, f, stamp) })
	case p.Track == x.audio && !x.begun.IsZero():
		x.heard.Packet(p.Payload, func(unit []byte) { x.unit(to, unit) })
	}
	return x.err
}

func (x *sending) keep(err error) {
	if x.err == nil {
		x.err = err
	}
}

// frame takes a frame. The first few are held back.
func (x *sending) frame(to publisher, f media.Frame, stamp uint32) {
	key := f.Kind == media.Key
	if x.sent {
		x.send(to, heldFrame{f.Data, key, stamp})
		return
	}
	if x.begun.IsZero() {
		if !key {
			return
		}
		x.begun = x.at
	}
	if x.first = append(x.first, heldFrame{bytes.Clone(f.Data), key, stamp}); len(x.first) < media.LookAhead {
		return
	}
	var stamps []uint32
	for _, h := range x.first {
		stamps = append(stamps, h.stamp)
	}
	x.times.Expect(stamps)
	for _, h := range x.first {
		x.send(to, h)
	}
	x.first, x.sent = nil, true
}

func (x *sending) send(to publisher, f heldFrame) {
	const ms = 90 // ticks
	decode, show := x.times.Next(f.stamp)
	x.keep(to.Video(f.data, f.key, uint32(decode/ms), int32(show/ms-decode/ms)))
	x.pictures++
	if x.silent {
		x.hush(to, time.Duration(decode/ms)*time.Millisecond)
	}
}

// hush sends silence up to a time.
func (x *sending) hush(to publisher, until time.Duration) {
	x.config(to, silenceConfig)
	for at := time.Duration(x.quiet) * silenceLasts; at <= until; at += silenceLasts {
		x.keep(to.Audio(silence, nil, uint32(at.Milliseconds())))
		x.quiet++
		if x.err != nil {
			return
		}
	}
}

func (x *sending) config(to publisher, config []byte) {
	if !x.told {
		x.told = true
		x.keep(to.Audio(nil, config, 0))
	}
}

// samplesAUnit is what an access unit of AAC holds (ISO/IEC 14496-3 §4.5.2.1.1).
const samplesAUnit = 1024

// unit sends an access unit of sound.
func (x *sending) unit(to publisher, unit []byte) {
	x.config(to, x.heard.Config)
	at := x.sounds.Next(x.at.Sub(x.begun), samplesAUnit)
	x.keep(to.Audio(unit, nil, uint32(at*1000/int64(x.heard.Rate))))
}
