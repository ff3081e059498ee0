package convert

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/fmp4"
	"unlatch/core/stream/media"
)

// A key frame with other parameter sets than before is another stream; the same ones again are not.
func TestAChangedStreamIsSeen(t *testing.T) {
	t.Parallel()
	picture := func(size string) media.Frame {
		_, b, err := trial(t.Context(), nil, []string{"-f", "lavfi", "-i", "testsrc2=s=" + size, "-frames:v", "1", "-c:v", "libx264",
			"-profile:v", "baseline", "-f", "h264", "pipe:1"})
		require.NoError(t, err)
		return media.Frame{Kind: media.Key, Data: b}
	}
	u := &underway{mux: &fmp4.Muxer{}, pictures: newPipe()}
	small, large := picture("160x96"), picture("320x180")
	u.frame(small, 0)
	u.frame(small, 3600)
	assert.False(t, u.changed)
	assert.Len(t, u.pictures.pieces, 3, "the beginning and two pictures")
	u.frame(large, 7200)
	assert.True(t, u.changed)
}

// What comes faster than it is taken is left out up to the next picture that a decoder can go on with.
func TestAPipeThatIsFull(t *testing.T) {
	t.Parallel()
	p := newPipe()
	for range inHand {
		p.put([]byte{1}, false)
	}
	p.put([]byte{2}, true)
	<-p.pieces
	<-p.pieces
	p.put([]byte{3}, false)
	p.put([]byte{4}, true)
	var last []byte
	for len(p.pieces) > 0 {
		last = <-p.pieces
	}
	assert.Equal(t, []byte{4}, last)
}
