package media

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rtpPacket returns a packet of payload type 96.
func rtpPacket(seq uint16, stamp uint32, marker bool, payload ...byte) []byte {
	b := []byte{0x80, 96, byte(seq >> 8), byte(seq), byte(stamp >> 24), byte(stamp >> 16), byte(stamp >> 8), byte(stamp), 0, 0, 0, 1}
	if marker {
		b[1] |= 0x80
	}
	return append(b, payload...)
}

func TestAssemblerHandsOnWholeFrames(t *testing.T) {
	a, ok := NewAssembler(Track{Payload: 96, Codec: "H264"})
	require.True(t, ok)
	sps := []byte{0x67, 0x42, 0xc0, 0x1e, 0xd9, 0x00, 0xa0, 0x47, 0xfe, 0xc8}
	type got struct {
		key   bool
		stamp uint32
	}
	var out []got
	take := func(f Frame, stamp uint32) { out = append(out, got{f.Kind == Key, stamp}) }
	feed := func(packets ...[]byte) {
		for _, p := range packets {
			a.Packet(p, take)
		}
	}
	p := func(seq uint16, stamp uint32) []byte { return rtpPacket(seq, stamp, true, 0x41, 0x9a, 1, 2) }
	key := func(seq uint16, stamp uint32) [][]byte {
		return [][]byte{rtpPacket(seq, stamp, false, sps...), rtpPacket(seq+1, stamp, false, 0x68, 0xce, 0x38, 0x80),
			rtpPacket(seq+2, stamp, true, 0x65, 0x88, 4, 5)}
	}
	feed(p(1, 0)) // before any key frame nothing can be decoded
	feed(key(2, 3000)...)
	feed(p(5, 6000), p(7, 12000), p(8, 15000)) // 6 is lost: what follows rests on it
	feed(key(9, 18000)...)
	feed(p(12, 21000), p(12, 21000))
	assert.Equal(t, []got{{true, 3000}, {false, 6000}, {true, 18000}, {false, 21000}}, out)
	_, ok = NewAssembler(Track{Codec: "VP8"})
	assert.False(t, ok)
}
