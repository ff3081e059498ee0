package scene

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
)

// loopSeconds is how long a scene takes to meet itself.
const loopSeconds = 4

// version changes the content key when drawing or encoding changes.
const version = 3

// A Format is what to encode a scene as.
type Format struct {
	Scene, Caption string
	Width, Height  int
	FPS            int
	Kbps           int
	GOP            int    // frames between key frames
	Profile        string // x264 profile: baseline, main, high
}

func (f Format) key() string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %d %+v", version, loopSeconds, f))
	return hex.EncodeToString(sum[:12])
}

// A Clip is an encoded loop: NAL units of each frame, ready to be sent again and again.
type Clip struct {
	Format
	SPS, PPS []byte
	Frames   []Frame
}

// A Frame is one access unit.
type Frame struct {
	Key  bool
	NALs [][]byte
}

// A Library encodes clips once and keeps them under a folder by content key.
type Library struct {
	Dir string

	mu    sync.Mutex
	clips map[string]*Clip
}

// Clip returns the clip for a format, encoding it through ffmpeg when it is not in the folder yet. It is safe for concurrent use.
func (l *Library) Clip(ctx context.Context, f Format) (*Clip, error) {
	l.mu.Lock()
	c := l.clips[f.key()]
	l.mu.Unlock()
	if c != nil {
		return c, nil
	}
	path := filepath.Join(l.Dir, f.key()+".h264")
	raw, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		if raw, err = encode(ctx, f); err == nil {
			err = keep(path, raw)
		}
	}
	if err != nil {
		return nil, err
	}
	if c, err = parse(f, raw); err != nil {
		os.Remove(path)
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.clips == nil {
		l.clips = map[string]*Clip{}
	}
	l.clips[f.key()] = c
	return c, nil
}

func keep(path string, raw []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), "clip-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	if _, err := tmp.Write(raw); err != nil {
		tmp.Close()
		return err
	}
	if err := tmp.Close(); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), path)
}

func encode(ctx context.Context, f Format) ([]byte, error) {
	frameCount := f.FPS * loopSeconds
	kbps := fmt.Sprintf("%dk", f.Kbps)
	cmd := exec.CommandContext(ctx, "ffmpeg", "-v", "error", "-f", "rawvideo", "-pix_fmt", "rgba",
		"-s", fmt.Sprintf("%dx%d", f.Width, f.Height), "-r", fmt.Sprint(f.FPS), "-i", "pipe:0",
		// Grain, as a sensor has it: without it a drawing would not fill the bitrate.
		"-vf", "noise=alls=9:allf=t,format=yuv420p", "-c:v", "libx264", "-preset", "ultrafast", "-tune", "zerolatency",
		"-profile:v", f.Profile, "-threads", "1", "-b:v", kbps, "-minrate", kbps, "-maxrate", kbps, "-bufsize", kbps,
		"-g", fmt.Sprint(f.GOP), "-keyint_min", fmt.Sprint(f.GOP), "-sc_threshold", "0", "-bf", "0",
		"-x264-params", "repeat-headers=1:slices=1:nal-hrd=cbr", "-f", "h264", "pipe:1")
	var out, complaint bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &complaint
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("ffmpeg draws the scenes and is not to be had (%w); install Debian's package ffmpeg", err)
	}
	drawErr := frames(f.Scene, f.Caption, f.Width, f.Height, frameCount, func(img *image.RGBA) error {
		_, err := in.Write(img.Pix)
		return err
	})
	in.Close()
	if err := cmd.Wait(); err != nil {
		return nil, fmt.Errorf("encoding scene %s: %w: %s", f.Scene, err, complaint.Bytes())
	}
	return out.Bytes(), drawErr
}

// parse splits an Annex B stream into frames. The encoder writes one slice a frame.
func parse(f Format, raw []byte) (*Clip, error) {
	c := &Clip{Format: f}
	var pending [][]byte
	for _, nal := range split(raw) {
		pending = append(pending, nal)
		switch nal[0] & 0x1f {
		case 7:
			c.SPS = nal
		case 8:
			c.PPS = nal
		case 1, 5:
			c.Frames = append(c.Frames, Frame{Key: nal[0]&0x1f == 5, NALs: pending})
			pending = nil
		case 12: // filler belongs to the frame before it
			if n := len(c.Frames); n > 0 && len(pending) == 1 {
				c.Frames[n-1].NALs = append(c.Frames[n-1].NALs, nal)
				pending = nil
			}
		}
	}
	if len(c.Frames) != f.FPS*loopSeconds || c.SPS == nil || c.PPS == nil || !c.Frames[0].Key {
		return nil, fmt.Errorf("scene %s did not encode to %d frames", f.Scene, f.FPS*loopSeconds)
	}
	return c, nil
}

func split(raw []byte) (out [][]byte) {
	code := []byte{0, 0, 1}
	at := bytes.Index(raw, code)
	for at >= 0 {
		raw = raw[at+3:]
		at = bytes.Index(raw, code)
		nal := raw
		if at >= 0 {
			nal = raw[:at]
		}
		if nal = bytes.TrimRight(nal, "\x00"); len(nal) > 0 {
			out = append(out, nal)
		}
	}
	return out
}
