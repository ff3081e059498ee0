package media

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strconv"
	"time"

	"unlatch/core/wiretext"
)

// Bounds on decoding, since a key frame is whatever a device sends.
const (
	maxStill  = 4 << 20   // bytes of a decoded picture
	maxPixels = 40 << 20  // of the picture that a parameter set claims; 8K is 33 million
	maxAlloc  = 256 << 20 // bytes that the decoder may ask for in one piece
	decodeFor = 15 * time.Second
)

// Still decodes a key frame into a JPEG at most 960 pixels wide, by ffmpeg. The decoder
// ends at the first error: one that goes on makes a grey picture of any bytes, and the proof wants a picture, not bytes. It ends with ctx,
// and with this program.
func Still(ctx context.Context, keyframe Keyframe) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, decodeFor)
	defer cancel()
	cmd := exec.CommandContext(ctx, "ffmpeg", "-v", "error", "-xerror", "-threads", "1", "-max_alloc", strconv.Itoa(maxAlloc),
		"-max_pixels", strconv.Itoa(maxPixels),
		"-err_detect", "explode", "-f", keyframe.Decoder, "-i", "pipe:0", "-frames:v", "1", "-vf", "scale='min(960,iw)':-2", "-q:v", "4", "-f", "mjpeg", "pipe:1")
	cmd.Stdin = bytes.NewReader(keyframe.Data)
	cmd.WaitDelay = time.Second
	dieWithParent(cmd)
	var complaint bytes.Buffer
	cmd.Stderr = &limited{to: &complaint, left: 2000}
	var out bytes.Buffer
	cmd.Stdout = &limited{to: &out, left: maxStill}
	err := cmd.Run()
	if errors.Is(err, exec.ErrNotFound) {
		return nil, errors.New("ffmpeg is not installed, so no picture can be decoded")
	}
	if ctx.Err() != nil {
		return nil, fmt.Errorf("decoding the key frame took longer than %s", decodeFor)
	}
	if err != nil || out.Len() == 0 || complaint.Len() > 0 {
		return nil, fmt.Errorf("the key frame does not decode: %s", wiretext.Line(complaint.String(), 300))
	}
	return out.Bytes(), nil
}

// limited passes on the first bytes written and swallows the rest.
type limited struct {
	to   *bytes.Buffer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	n := min(len(p), l.left)
	l.to.Write(p[:n])
	l.left -= n
	return len(p), nil
}
