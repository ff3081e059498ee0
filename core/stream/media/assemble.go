package media

import "time"

// An Assembler puts the RTP packets of a video track together to whole frames. A frame of which a packet is missing is left out, and so is
// every one after it up to the next key frame, since it could not be decoded. It is not safe for concurrent use and allocates nothing per
// packet once its buffers have grown.
type Assembler struct {
	track   Track
	format  Format
	sort    sorter
	stamp   uint32
	begun   bool // of the frame under way
	damaged bool
	broken  bool // frames since the last key frame are missing
}

// NewAssembler prepares an assembler; ok is false for a codec that is not read.
func NewAssembler(t Track) (a *Assembler, ok bool) {
	format, ok := formats[t.Codec]
	if !ok {
		return nil, false
	}
	return &Assembler{track: t, format: format(t), broken: true}, true
}

// Packet takes one RTP packet as it arrived and hands on the frames that it ends, each with its time in the track's clock. The data of a
// frame is valid during the call.
func (a *Assembler) Packet(b []byte, each func(f Frame, stamp uint32)) {
	p, err := parseRTP(b)
	if err != nil || p.payloadType != a.track.Payload {
		return
	}
	if a.sort.straight(p.seq) {
		a.inOrder(p, false, each)
		return
	}
	a.sort.insert(b, p, time.Time{})
	for x, gap, ok := a.sort.take(); ok; x, gap, ok = a.sort.take() {
		p, _ := parseRTP(x.b) // it was read before
		a.inOrder(p, gap > 0, each)
	}
}

// inOrder takes one packet in order; gap says that some before it are missing for good.
func (a *Assembler) inOrder(p packet, gap bool, each func(f Frame, stamp uint32)) {
	if a.begun && p.timestamp != a.stamp {
		a.damaged = a.damaged || gap
		a.end(each)
	}
	a.damaged = a.damaged || gap
	a.begun, a.stamp = true, p.timestamp
	if x, ok := a.format.(extended); ok && p.extended != nil {
		x.Extension(p.extension, p.extended)
	}
	if a.format.Payload(p.payload) != nil {
		a.damaged = true
	}
	if p.marker {
		a.end(each)
	}
}

func (a *Assembler) end(each func(Frame, uint32)) {
	f := a.format.EndFrame()
	whole := !a.damaged && f.Data != nil
	a.begun, a.damaged = false, false
	switch {
	case !whole:
		a.broken = true
	case f.Kind == Key:
		a.broken = false
	}
	if whole && !a.broken {
		each(f, a.stamp)
	}
}

// Picture returns what the stream says of its picture; nil before it has.
func (a *Assembler) Picture() *Picture {
	pic, err := a.format.Picture()
	if err != nil {
		return nil
	}
	return pic
}

// Decoder returns the name that ffmpeg has for the raw stream.
func (a *Assembler) Decoder() string { return a.format.Decoder() }
