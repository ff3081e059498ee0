package media

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/jpeg"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"sync"
	"time"

	"unlatch/core/ground/wiretext"
)

// Bounds on decoding, since a key frame is whatever a device sends.
const (
	maxStill  = 4 << 20   // bytes of a decoded picture
	maxPixels = 40 << 20  // of the picture that a parameter set claims; 8K is 33 million
	maxJPEG   = 24 << 20  // pixels of a picture that comes as a JPEG: one of 6K has 20 million
	aloneFrom = 4 << 20   // pixels from which on a JPEG gets a decoder of its own
	maxAlloc  = 256 << 20 // bytes that the decoder may ask for in one piece
	decodeFor = 15 * time.Second
	// togetherFor bounds a decoder that has several pictures; each that is not done by then gets one of its own.
	togetherFor = 6 * time.Second
	// mostTogether is how many pictures one decoder takes.
	mostTogether = 12
)

// Still decodes a key frame into a JPEG at most 960 pixels wide, by ffmpeg. The decoder ends at the first error: one that goes on
// makes a grey picture of any bytes, and the proof wants a picture, not bytes. It ends with this program.
//
// Starting the decoder takes four times as long as decoding a picture, so key frames that come while one is at work wait for the next and
// go into it together. Where it ends with an error, each of them is decoded alone: a bad one spoils no other.
func Still(ctx context.Context, keyframe Keyframe) ([]byte, error) {
	w := &stillRequest{keyframe: keyframe, done: make(chan struct{})}
	if keyframe.Decoder == "mjpeg" {
		pixels, err := JPEGPixels(keyframe.Data)
		if err != nil {
			return nil, err
		}
		w.alone = pixels > aloneFrom
	}
	decoding.add(w)
	select {
	case <-w.done:
		return w.jpeg, w.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// A PixelsError means that a picture claims more pixels than are decoded, or none.
type PixelsError struct{ Width, Height int }

func (e *PixelsError) Error() string {
	return fmt.Sprintf("a picture of %d×%d pixels, which is not decoded", e.Width, e.Height)
}

// JPEGPixels reads from the header of a JPEG (ITU-T T.81 §B.2.2) how many pixels it claims to have. Nothing is decoded. The error is a
// *PixelsError for one of no size that a camera has.
func JPEGPixels(data []byte) (int, error) {
	c, err := jpeg.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return 0, fmt.Errorf("no JPEG: %w", err)
	}
	if c.Width < 16 || c.Height < 16 || c.Width*c.Height > maxJPEG {
		return 0, &PixelsError{c.Width, c.Height}
	}
	return c.Width * c.Height, nil
}

// decoding is the one queue of key frames of this program, with as many decoders as there are processors.
var decoding = decoders{most: runtime.NumCPU()}

// stillRequest is a picture that somebody waits for.
type stillRequest struct {
	keyframe Keyframe
	alone    bool // it is too large to share a decoder
	jpeg     []byte
	err      error
	done     chan struct{}
}

type decoders struct {
	most    int
	mu      sync.Mutex
	queue   []*stillRequest
	running int
}

func (d *decoders) add(w *stillRequest) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.queue = append(d.queue, w)
	if d.running < d.most {
		d.running++
		go d.work()
	}
}

// work decodes what waits until nothing does.
func (d *decoders) work() {
	for {
		d.mu.Lock()
		n := together(d.queue)
		batch := d.queue[:n:n]
		d.queue = d.queue[n:]
		if n == 0 {
			d.running--
			d.mu.Unlock()
			return
		}
		d.mu.Unlock()
		decodeAll(batch)
	}
}

// together returns how many of the pictures that wait go into one decoder: a large one goes alone, so that what is decoded at once is
// bounded in pixels.
func together(queue []*stillRequest) int {
	n := 0
	for n < min(len(queue), mostTogether) {
		if queue[n].alone {
			return max(n, 1)
		}
		n++
	}
	return n
}

func decodeAll(batch []*stillRequest) {
	if err := decode(batch, togetherFor); err != nil && len(batch) > 1 {
		for _, w := range batch {
			decode([]*stillRequest{w}, decodeFor)
		}
	}
	for _, w := range batch {
		close(w.done)
	}
}

// decode runs one decoder over key frames. If the decoder fails, every picture gets its error; otherwise each gets its own picture.
func decode(batch []*stillRequest, within time.Duration) (err error) {
	if len(batch) == 1 {
		within = decodeFor
	}
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	args := []string{"-v", "error", "-xerror", "-max_alloc", strconv.Itoa(maxAlloc), "-filter_threads", "1"}
	var outputs []string
	var pipes pipes
	defer func() { pipes.close() }()
	for i, w := range batch {
		in, out, err := pipes.add(w)
		if err != nil {
			return w.fail(err)
		}
		args = append(args, "-threads", "1", "-max_pixels", strconv.Itoa(maxPixels), "-err_detect", "explode",
			"-f", w.keyframe.Decoder, "-i", "pipe:"+strconv.Itoa(in))
		outputs = append(outputs, "-map", strconv.Itoa(i)+":v:0", "-frames:v", "1", "-vf", "scale='min(960,iw)':-2", "-threads", "1",
			"-q:v", "4", "-f", "mjpeg", "pipe:"+strconv.Itoa(out))
	}
	cmd := exec.CommandContext(ctx, "ffmpeg", append(args, outputs...)...)
	cmd.ExtraFiles = pipes.child
	cmd.WaitDelay = time.Second
	dieWithParent(cmd)
	var complaint bytes.Buffer
	cmd.Stderr = &limitedBuffer{to: &complaint, left: 2000}
	pictures, err := pipes.run(cmd)
	switch {
	case errors.Is(err, exec.ErrNotFound):
		err = errors.New("ffmpeg is not installed, so no picture can be decoded")
	case ctx.Err() != nil:
		err = fmt.Errorf("decoding the key frame took longer than %s", within)
	case err != nil || complaint.Len() > 0:
		err = fmt.Errorf("the key frame does not decode: %s", wiretext.Line(complaint.String(), 300))
	}
	for i, w := range batch {
		if w.jpeg = pictures[i]; err == nil && len(w.jpeg) == 0 {
			err = errors.New("the key frame does not decode: no picture came out of it")
		}
	}
	for _, w := range batch {
		w.fail(err)
	}
	return err
}

// fail sets how the picture's decoding ended.
func (w *stillRequest) fail(err error) error {
	if w.err = err; err != nil {
		w.jpeg = nil
	}
	return err
}

// pipes lead key frames into a decoder and pictures out of it: two files a key frame, from file 3 on.
type pipes struct {
	child, ours []*os.File
	data        [][]byte
}

// add makes the two pipes of a key frame and returns their numbers in the child.
func (p *pipes) add(w *stillRequest) (in, out int, err error) {
	from, to, err := os.Pipe()
	if err != nil {
		return 0, 0, err
	}
	p.child, p.ours = append(p.child, from), append(p.ours, to)
	from, to, err = os.Pipe()
	if err != nil {
		return 0, 0, err
	}
	p.child, p.ours = append(p.child, to), append(p.ours, from)
	p.data = append(p.data, w.keyframe.Data)
	return len(p.child) + 1, len(p.child) + 2, nil
}

// run runs the decoder, feeds it, and returns what came out of each pipe.
func (p *pipes) run(cmd *exec.Cmd) ([][]byte, error) {
	pictures := make([][]byte, len(p.data))
	err := cmd.Start()
	for _, f := range p.child {
		f.Close()
	}
	p.child = nil
	if err != nil {
		return pictures, err
	}
	var done sync.WaitGroup
	for i, data := range p.data {
		in, out := p.ours[2*i], p.ours[2*i+1]
		done.Go(func() {
			in.Write(data) // a decoder that has enough closes its end
			in.Close()
		})
		done.Go(func() {
			var picture bytes.Buffer
			io.Copy(&limitedBuffer{to: &picture, left: maxStill}, out)
			pictures[i] = picture.Bytes()
		})
	}
	err = cmd.Wait()
	done.Wait()
	return pictures, err
}

func (p *pipes) close() {
	for _, f := range append(p.child, p.ours...) {
		f.Close()
	}
}

// limitedBuffer passes on the first bytes written and swallows the rest.
type limitedBuffer struct {
	to   *bytes.Buffer
	left int
}

func (l *limitedBuffer) Write(p []byte) (int, error) {
	n := min(len(p), l.left)
	l.to.Write(p[:n])
	l.left -= n
	return len(p), nil
}
