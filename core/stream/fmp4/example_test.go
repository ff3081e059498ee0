package fmp4_test

import (
	"io"

	"unlatch/core/stream/fmp4"
)

// A fragment for each frame, and an initialisation segment before the first (ISO/IEC 14496-12 §8.8).
func ExampleMuxer() {
	write := func(to io.Writer, frames [][]byte) {
		var m fmp4.Muxer
		var out []byte
		generation := -1
		for i, frame := range frames {
			fragment, ok := m.Frame(out[:0], frame, i == 0, uint32(i)*3600) // 25 frames a second at 90 kHz
			if !ok {
				continue // nothing can be shown before the first key frame
			}
			if m.Generation != generation {
				generation = m.Generation
				to.Write(m.Init(nil))
			}
			to.Write(fragment)
			out = fragment
		}
	}
	write(io.Discard, nil)
}
