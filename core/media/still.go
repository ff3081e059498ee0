package media

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"time"
)

// maxStill bounds a decoded picture.
const maxStill = 4 << 20

// Still decodes an H.264 key frame (Annex B, with its parameter sets) into a JPEG at most 960 pixels wide, by ffmpeg.
// A key frame that decodes to nothing is an error: the proof wants a picture, not bytes.
func Still(ctx context.Context, keyframe []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "ffmpeg", "-v", "error", "-threads", "1", "-f", "h264", "-i", "pipe:0",
		"-frames:v", "1", "-vf", "scale='min(960,iw)':-2", "-q:v", "4", "-f", "mjpeg", "pipe:1")
	cmd.Stdin = bytes.NewReader(keyframe)
	var complaint bytes.Buffer
	cmd.Stderr = &limited{to: &complaint, left: 2000}
	var out bytes.Buffer
	cmd.Stdout = &limited{to: &out, left: maxStill}
	err := cmd.Run()
	if errors.Is(err, exec.ErrNotFound) {
		return nil, errors.New("ffmpeg is not installed, so no picture can be decoded")
	}
	if err != nil || out.Len() == 0 {
		return nil, fmt.Errorf("the key frame does not decode: %s", bytes.TrimSpace(complaint.Bytes()))
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
