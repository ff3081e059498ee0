package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"image/jpeg"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Key frames of all codecs go through decoders together: each gets its own picture, and one that is no good spoils no other.
func TestStillsTogether(t *testing.T) {
	var keyframes []Keyframe
	for i, args := range [][]string{{"-c:v", "libx264", "-preset", "ultrafast", "-f", "h264"}, {"-c:v", "libx265", "-x265-params",
		"log-level=none", "-f", "hevc"},
		{"-c:v", "mjpeg", "-f", "mjpeg"}, {"-c:v", "mpeg4", "-f", "m4v"}} {
		out, err := exec.Command("ffmpeg", append(append([]string{"-v", "error", "-f", "lavfi", "-i",
			fmt.Sprintf("testsrc2=size=%dx96:rate=1", 128+32*i),
			"-frames:v", "1", "-pix_fmt", "yuv420p"}, args...), "pipe:1")...).Output()
		require.NoError(t, err)
		keyframes = append(keyframes, Keyframe{Decoder: args[len(args)-1], Data: out})
	}
	bad := Keyframe{Decoder: "h264", Data: bytes.Repeat([]byte{0, 0, 0, 1, 0x65, 1, 2}, 50)}
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			if i%13 == 5 {
				_, err := Still(context.Background(), bad)
				assert.ErrorContains(t, err, "does not decode")
				return
			}
			still, err := Still(context.Background(), keyframes[i%4])
			if !assert.NoError(t, err) {
				return
			}
			img, err := jpeg.Decode(bytes.NewReader(still))
			assert.NoError(t, err)
			assert.Equal(t, 128+32*(i%4), img.Bounds().Dx(), "its own picture")
		})
	}
	all.Wait()
}

// A decoder that is killed, or that never ends, is told; whoever stops waiting is let go at once.
func TestDecodersThatFail(t *testing.T) {
	fake := func(script string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "ffmpeg"), []byte("#!/bin/sh\n"+script+"\n"), 0o755))
		t.Setenv("PATH", dir+":/usr/bin:/bin")
	}
	fake("kill -9 $$")
	_, err := Still(context.Background(), Keyframe{Decoder: "h264"})
	assert.ErrorContains(t, err, "does not decode")
	fake("exit 0")
	_, err = Still(context.Background(), Keyframe{Decoder: "h264"})
	assert.ErrorContains(t, err, "no picture came out of it")
	fake("exec sleep 3")
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	_, err = Still(ctx, Keyframe{Decoder: "h264"})
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}

// claiming returns a small JPEG whose header claims another size (ITU-T T.81 §B.2.2: height and width stand five bytes behind the marker).
func claiming(t *testing.T, width, height int) []byte {
	var out bytes.Buffer
	require.NoError(t, jpeg.Encode(&out, image.NewGray(image.Rect(0, 0, 64, 64)), nil))
	raw := out.Bytes()
	at := bytes.Index(raw, []byte{0xff, 0xc0})
	require.Positive(t, at)
	binary.BigEndian.PutUint16(raw[at+5:], uint16(height))
	binary.BigEndian.PutUint16(raw[at+7:], uint16(width))
	return raw
}

// A picture that claims a size which no camera has is not decoded at all; large ones are decoded one at a time.
func TestPicturesAreJudgedByTheirHeader(t *testing.T) {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	for _, size := range [][2]int{{65000, 65000}, {8000, 8000}, {8, 8}} {
		_, err := Still(context.Background(), Keyframe{Decoder: "mjpeg", Data: claiming(t, size[0], size[1])})
		var claims *PixelsError
		require.ErrorAs(t, err, &claims)
		assert.Equal(t, size[0], claims.Width)
	}
	_, err := Still(context.Background(), Keyframe{Decoder: "mjpeg", Data: []byte("<html>")})
	assert.ErrorContains(t, err, "no JPEG")
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(16<<20))

	small, large := &stillRequest{}, &stillRequest{alone: true}
	assert.Equal(t, 2, together([]*stillRequest{small, small, large, small}))
	assert.Equal(t, 1, together([]*stillRequest{large, small, large}))
	assert.Equal(t, 0, together(nil))
}
