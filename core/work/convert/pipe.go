package convert

import (
	"bytes"
	"io"
	"sync/atomic"
)

// What waits to go into ffmpeg, in pieces and in bytes: one that is slower than its stream leaves pictures out and holds nobody up.
const (
	inHand     = 60
	inHandHeld = 16 << 20
)

// A pipe is what goes into ffmpeg. It is put into by one goroutine.
type pipe struct {
	pieces  chan []byte
	held    atomic.Int64
	begun   bool // something was put in
	waiting bool // for a piece that a decoder can go on with
}

func newPipe() *pipe { return &pipe{pieces: make(chan []byte, inHand)} }

// put adds a piece; key says that a decoder can go on with it whatever was left out before.
func (p *pipe) put(b []byte, key bool) {
	p.begun = true
	if p.waiting && !key {
		return
	}
	if p.waiting = p.held.Load()+int64(len(b)) > inHandHeld; p.waiting {
		return
	}
	select {
	case p.pieces <- bytes.Clone(b):
		p.held.Add(int64(len(b)))
	default:
		p.waiting = true
	}
}

// run writes what comes until ended is closed or nothing is taken any more.
func (p *pipe) run(to io.WriteCloser, ended <-chan struct{}) {
	defer to.Close()
	for {
		select {
		case <-ended:
			return
		case b := <-p.pieces:
			p.held.Add(-int64(len(b)))
			if _, err := to.Write(b); err != nil {
				return
			}
		}
	}
}
