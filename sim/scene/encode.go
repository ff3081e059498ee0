package scene

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
)

// loopSeconds is how long a scene takes to meet itself; smartSeconds that of one whose key frames come irregularly.
const (
	loopSeconds  = 4
	smartSeconds = 24
)

// version changes the content key when drawing or encoding changes.
const version = 4

// A Codec is what a scene is encoded as.
type Codec string

const (
	H264  Codec = "h264"
	H265  Codec = "h265"
	JPEG  Codec = "jpeg"
	MPEG4 Codec = "mpeg4"
)

// A Format is what to encode a scene as.
type Format struct {
	Scene, Caption string
	Width, Height  int
	FPS            int
	Kbps           int
	GOP            int    // frames between key frames
	Profile        string // of H.264: baseline, main, high
	Codec          Codec  // "" for H.264
	Obstacle       string // cover, black, blur or turn: what keeps a camera from showing its scene; "" for nothing
	Pan            int    // pixels by which a camera looks to the right of where its scene was drawn
	Smart          bool   // key frames after 3, 5 and 16 seconds, as a coder sends them that waits for a change of the scene
}

func (f Format) key() string {
	obstacle := f.Obstacle
	type plain struct { // as formats were before there were obstacles: clips that are drawn already keep their names
		Scene, Caption string
		Width, Height  int
		FPS, Kbps, GOP int
		Profile        string
		Codec          Codec
		Pan            int
		Smart          bool
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %d %+v%s", version, loopSeconds, plain{f.Scene, f.Caption, f.Width, f.Height, f.FPS, f.Kbps,
		f.GOP, f.Profile, f.Codec, f.Pan, f.Smart}, obstacle))
	return hex.EncodeToString(sum[:12])
}

// frameCount returns how many frames the loop has.
func (f Format) frameCount() int {
	if f.Smart {
		return f.FPS * smartSeconds
	}
	n := f.FPS * loopSeconds
	if f.GOP > 0 && n%f.GOP != 0 { // whole intervals, so that key frames are as far apart where the loop joins on to itself
		n += f.GOP - n%f.GOP
	}
	return n
}

// A Clip is an encoded loop, ready to be sent again and again.
type Clip struct {
	Format
	VPS, SPS, PPS []byte // of H.264 and H.265
	Config        []byte // of MPEG-4: its headers
	Frames        []Frame
}

// A Frame is one access unit.
type Frame struct {
	Key  bool
	NALs [][]byte // of JPEG and MPEG-4 the one coded picture
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
	path := filepath.Join(l.Dir, f.key()+"."+string(cmp.Or(f.Codec, H264)))
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
	args := []string{"-v", "error", "-f", "rawvideo", "-pix_fmt", "rgba",
		"-s", fmt.Sprintf("%dx%d", f.Width, f.Height), "-r", fmt.Sprint(f.FPS), "-i", "pipe:0",
		// Grain, as a sensor has it: without it a drawing would not fill the bitrate.
		"-vf", "noise=alls=9:allf=t,format=yuv420p", "-threads", "1"}
	cmd := exec.CommandContext(ctx, "ffmpeg", append(append(args, f.coder()...), "pipe:1")...)
	var out, complaint bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &complaint
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("ffmpeg draws the scenes and is not to be had (%w); install Debian's package ffmpeg", err)
	}
	drawErr := frames(f.Scene, f.Caption, f.Width, f.Height, f.frameCount(), func(img *image.RGBA) error {
		if f.Pan != 0 {
			pan(img, f.Pan)
		}
		obstruct(img, f.Obstacle)
		_, err := in.Write(img.Pix)
		return err
	})
	in.Close()
	if err := cmd.Wait(); err != nil {
		return nil, fmt.Errorf("encoding scene %s: %w: %s", f.Scene, err, complaint.Bytes())
	}
	return out.Bytes(), drawErr
}

// pan shows a picture as a camera sees it that is turned: what leaves on one side comes in on the other.
func pan(img *image.RGBA, by int) {
	n := 4 * img.Rect.Dx()
	by = ((4*by)%n + n) % n
	row := make([]byte, n)
	for y := range img.Rect.Dy() {
		line := img.Pix[y*img.Stride : y*img.Stride+n]
		copy(row[copy(row, line[by:]):], line[:by])
		copy(line, row)
	}
}

// obstruct shows a picture as a camera sends it that has something before its lens, or was turned.
func obstruct(img *image.RGBA, by string) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	fill := func(r, g, b uint8) {
		for i := 0; i < len(img.Pix); i += 4 {
			img.Pix[i], img.Pix[i+1], img.Pix[i+2] = r, g, b
		}
	}
	switch by {
	case "black":
		fill(2, 2, 2)
	case "cover":
		fill(150, 128, 96)
	case "blur":
		blur(img, max(2, w/60))
	case "turn": // it looks down at the ground before it: stripes of gravel, and nothing of the scene
		for y := range h {
			for x := range w {
				i := img.PixOffset(x, y)
				shade := uint8(90 + 60*((x*7/w+y*5/h)%3) + (x*13+y*29)%17)
				img.Pix[i], img.Pix[i+1], img.Pix[i+2] = shade, shade-10, shade-24
			}
		}
	}
}

// blur averages each pixel with those around it, twice: along and across.
func blur(img *image.RGBA, by int) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	from := slices.Clone(img.Pix)
	pass := func(length, lines, step, line int) {
		for l := range lines {
			for c := range 3 {
				sum, n := 0, 0
				for k := range min(by, length) {
					sum, n = sum+int(from[l*line+k*step+c]), n+1
				}
				for k := range length {
					if k+by < length {
						sum, n = sum+int(from[l*line+(k+by)*step+c]), n+1
					}
					if k-by-1 >= 0 {
						sum, n = sum-int(from[l*line+(k-by-1)*step+c]), n-1
					}
					img.Pix[l*line+k*step+c] = uint8(sum / n)
				}
			}
		}
		copy(from, img.Pix)
	}
	pass(w, h, 4, img.Stride)
	pass(h, w, img.Stride, 4)
}

// coder returns the encoder's options.
func (f Format) coder() []string {
	kbps, gop := fmt.Sprintf("%dk", f.Kbps), fmt.Sprint(f.GOP)
	rate := []string{"-b:v", kbps, "-maxrate", kbps, "-bufsize", kbps}
	keys := []string{"-g", gop, "-bf", "0"}
	if f.Smart {
		keys = []string{"-g", "10000", "-force_key_frames", "0,3,8", "-bf", "0"}
	}
	switch f.Codec {
	case H265:
		return []string{"-c:v", "libx265", "-preset", "ultrafast", "-x265-params",
			fmt.Sprintf("log-level=none:pools=1:frame-threads=1:slices=1:"+
				"bframes=0:scenecut=0:keyint=%[1]d:min-keyint=%[1]d:repeat-headers=1:bitrate=%[2]d:vbv-maxrate=%[2]d:vbv-bufsize=%[2]d",
				f.GOP, f.Kbps),
			"-f", "hevc"}
	case JPEG:
		return append([]string{"-c:v", "mjpeg", "-huffman", "default", "-pix_fmt", "yuvj420p", "-f", "mjpeg"}, rate...)
	case MPEG4:
		return append(append([]string{"-c:v", "mpeg4", "-f", "m4v"}, rate...), keys...)
	}
	return append(append([]string{"-c:v", "libx264", "-preset", "ultrafast", "-tune", "zerolatency", "-profile:v", f.Profile, "-minrate",
		kbps,
		"-sc_threshold", "0", "-keyint_min", gop, "-x264-params", "repeat-headers=1:slices=1:nal-hrd=cbr", "-f", "h264"}, rate...), keys...)
}

// parse splits an encoded stream into frames.
func parse(f Format, raw []byte) (*Clip, error) {
	c := &Clip{Format: f}
	switch f.Codec {
	case H265:
		c.parse265(raw)
	case JPEG:
		for i, picture := range bytes.SplitAfter(raw, []byte{0xff, 0xd9, 0xff, 0xd8}) {
			if i > 0 {
				picture = append([]byte{0xff, 0xd8}, picture...)
			}
			c.Frames = append(c.Frames, Frame{Key: true, NALs: [][]byte{bytes.TrimSuffix(picture, []byte{0xff, 0xd8})}})
		}
	case MPEG4:
		c.parseMPEG4(raw)
	default:
		c.parse264(raw)
	}
	if len(c.Frames) != f.frameCount() || f.Codec != JPEG && c.SPS == nil && c.Config == nil || !c.Frames[0].Key {
		return nil, fmt.Errorf("scene %s encoded to %d frames in place of %d", f.Scene, len(c.Frames), f.frameCount())
	}
	return c, nil
}

// parse265 takes an Annex B stream of H.265 apart. The encoder writes one slice a frame.
func (c *Clip) parse265(raw []byte) {
	var pending [][]byte
	for _, nal := range split(raw) {
		pending = append(pending, nal)
		switch kind := nal[0] >> 1 & 0x3f; {
		case kind == 32:
			c.VPS = nal
		case kind == 33:
			c.SPS = nal
		case kind == 34:
			c.PPS = nal
		case kind < 32:
			c.Frames = append(c.Frames, Frame{Key: kind >= 16, NALs: pending})
			pending = nil
		}
	}
}

// parseMPEG4 takes a stream of MPEG-4 apart: each picture with the headers before it. The first headers are the configuration.
func (c *Clip) parseMPEG4(raw []byte) {
	begin, picture := 0, false
	for at := 0; at+4 <= len(raw); at++ {
		if raw[at] != 0 || raw[at+1] != 0 || raw[at+2] != 1 {
			continue
		}
		code := raw[at+3]
		if picture && (code == 0xb0 || code == 0xb3 || code == 0xb6) {
			c.add4(raw[begin:at])
			begin, picture = at, false
		}
		picture = picture || code == 0xb6
	}
	c.add4(raw[begin:])
}

func (c *Clip) add4(frame []byte) {
	at := bytes.Index(frame, []byte{0, 0, 1, 0xb6})
	if at < 0 || at+5 > len(frame) {
		return
	}
	if c.Config == nil {
		c.Config = frame[:at]
		if group := bytes.Index(c.Config, []byte{0, 0, 1, 0xb3}); group >= 0 {
			c.Config = c.Config[:group]
		}
	}
	c.Frames = append(c.Frames, Frame{Key: frame[at+4]>>6 == 0, NALs: [][]byte{frame}})
}

// parse264 takes an Annex B stream of H.264 apart. The encoder writes one slice a frame.
func (c *Clip) parse264(raw []byte) {
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
