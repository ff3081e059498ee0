package media

import (
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
)

// rtpOf puts an RTP head before a payload.
func rtpOf(payload ...byte) []byte {
	return append([]byte{0x80, 96, 0, 1, 0, 0, 0, 9, 0, 0, 0, 7}, payload...)
}

func TestWhereADecoderCanBegin(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		what, codec string
		payload     []byte
		starts      bool
	}{
		{"an SPS", "H264", []byte{0x67, 0x42}, true},
		{"a PPS", "H264", []byte{0x68, 0xce}, false},
		{"an IDR picture", "H264", []byte{0x65, 0x88}, true},
		{"another picture", "H264", []byte{0x41, 0x9a}, false},
		{"the first fragment of an IDR picture", "H264", []byte{0x7c, 0x85, 1}, true},
		{"another fragment of it", "H264", []byte{0x7c, 0x05, 1}, false},
		{"SPS and PPS together", "H264", []byte{0x78, 0, 2, 0x67, 0x42, 0, 2, 0x68, 0xce}, true},
		{"a PPS and a picture together", "H264", []byte{0x78, 0, 2, 0x68, 0xce, 0, 2, 0x41, 0x9a}, false},
		{"an aggregate that lies", "H264", []byte{0x78, 0xff, 0xff, 0x67}, false},
		{"a VPS", "H265", []byte{0x40, 1, 0}, true},
		{"an IDR picture", "H265", []byte{0x26, 1, 0}, true},
		{"another picture", "H265", []byte{0x02, 1, 0}, false},
		{"the first fragment of an IDR picture", "H265", []byte{0x62, 1, 0x93, 0}, true},
		{"another fragment of it", "H265", []byte{0x62, 1, 0x13, 0}, false},
		{"an aggregate with an SPS", "H265", []byte{0x60, 1, 0, 2, 0x42, 1}, true},
		{"the beginning of a JPEG picture", "JPEG", []byte{0, 0, 0, 0, 1, 60, 20, 15}, true},
		{"more of it", "JPEG", []byte{0, 0, 4, 0, 1, 60, 20, 15}, false},
		{"a JPEG file", "JPEG", []byte{0xff, 0xd8, 0xff}, true},
		{"a sequence header", "MP4V-ES", []byte{0, 0, 1, 0xb0, 1}, true},
		{"an intra-coded picture", "MP4V-ES", []byte{0, 0, 1, 0xb6, 0x10}, true},
		{"a predicted one", "MP4V-ES", []byte{0, 0, 1, 0xb6, 0x50}, false},
		{"sound", "PCMU", []byte{1, 2, 3}, true},
		{"nothing", "H264", nil, false},
	} {
		assert.Equal(t, c.starts, Starts(c.codec, rtpOf(c.payload...)), "%s of %s", c.what, c.codec)
	}
	assert.False(t, Starts("H264", []byte{0x80}))
}

func FuzzStarts(f *testing.F) {
	for _, seed := range []string{"8060000100000009000000076742", "806000010000000900000007780002674200",
		"8060000100000009000000076201930026"} {
		raw, _ := hex.DecodeString(seed)
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, codec := range []string{"H264", "H265", "JPEG", "MP4V-ES", ""} {
			Starts(codec, b)
		}
	})
}
