package live

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"sync/atomic"
	"syscall"
	"time"
)

// mostConverted is how many streams are turned into H.264 at once: each takes a good part of a processor.
const mostConverted = 3

// ErrBusy is for one conversion too many.
var ErrBusy = fmt.Errorf("%d streams are converted for browsers at once already", mostConverted)

var converting = make(chan struct{}, mostConverted)

// A converter turns frames of another codec into H.264 of the size of a sub stream, by ffmpeg. What comes out has the time at which
// it came.
type converter struct {
	in      io.WriteCloser
	frames  chan []byte
	held    atomic.Int64 // bytes that wait in frames
	waiting bool         // for a key frame, since it was too slow
	done    chan error
	stop    func()
}

// What waits for a conversion, in frames and in bytes: one that is slower than its stream leaves frames out and holds nobody up.
const (
	inHand     = 30
	inHandHeld = 16 << 20
)

// Bounds on the program that converts. A decoder holds a dozen pictures, so that pixels are what its memory goes by.
const (
	maxConvertPixels = 16 << 20 // of one picture; 4K has 8.3 million
	maxConvertAlloc  = 64 << 20 // bytes that it may ask for in one piece
)

// convert begins; each is called with the frames that come out, one after the other.
func convert(ctx context.Context, decoder string, each func(frame []byte, key bool, stamp uint32)) (*converter, error) {
	select {
	case converting <- struct{}{}:
	default:
		return nil, ErrBusy
	}
	ctx, cancel := context.WithCancel(ctx)
	cmd := exec.CommandContext(ctx, "ffmpeg", "-v", "error", "-fflags", "nobuffer", "-flags", "low_delay", "-probesize", "32768",
		"-max_alloc", strconv.Itoa(maxConvertAlloc), "-filter_threads", "1", "-threads", "2", "-max_pixels", strconv.Itoa(maxConvertPixels),
		"-f", decoder, "-i", "pipe:0", "-an", "-vf", "scale='min(640,iw)':-2",
		"-c:v", "libx264", "-preset", "ultrafast", "-tune", "zerolatency", "-profile:v", "baseline", "-g", "20",
		"-bsf:v", "h264_metadata=aud=insert", "-f", "h264", "pipe:1")
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} // it ends with this program
	c := &converter{frames: make(chan []byte, inHand), done: make(chan error, 1), stop: cancel}
	out, err := cmd.StdoutPipe()
	if err == nil {
		if c.in, err = cmd.StdinPipe(); err == nil {
			err = cmd.Start()
		}
	}
	if err != nil {
		cancel()
		<-converting
		return nil, err
	}
	go c.write(ctx)
	go func() {
		err := accessUnits(out, each)
		cancel()
		if werr := cmd.Wait(); err == nil {
			err = werr
		}
		<-converting
		c.done <- err
	}()
	return c, nil
}

// write hands the frames on until the conversion ends.
func (c *converter) write(ctx context.Context) {
	defer c.in.Close()
	for {
		select {
		case <-ctx.Done():
			return
		case data := <-c.frames:
			c.held.Add(-int64(len(data)))
			if _, err := c.in.Write(data); err != nil {
				return
			}
		}
	}
}

// frame takes one frame, with its parameter sets where it is a key frame. An error means that the conversion has ended.
func (c *converter) frame(data []byte, key bool) error {
	select {
	case err := <-c.done:
		c.done <- err
		return errors.Join(errors.New("the conversion for browsers ended"), err)
	default:
	}
	if c.waiting && !key {
		return nil
	}
	if c.waiting = c.held.Load()+int64(len(data)) > inHandHeld; c.waiting {
		return nil
	}
	select {
	case c.frames <- bytes.Clone(data):
		c.held.Add(int64(len(data)))
	default:
		c.waiting = true
	}
	return nil
}

// close ends it and waits.
func (c *converter) close() {
	c.stop()
	<-c.done
}

// maxConverted bounds one converted frame.
const maxConverted = 4 << 20

// delimiter is an access unit delimiter, which stands before each frame (ITU-T H.264 §7.3.2.4).
var delimiter = []byte{0, 0, 0, 1, 9}

// accessUnits reads a byte stream of H.264 and hands on its frames.
func accessUnits(r io.Reader, each func(frame []byte, key bool, stamp uint32)) error {
	in := bufio.NewReaderSize(r, 64<<10)
	began := time.Now()
	var frame []byte
	part := make([]byte, 32<<10)
	for {
		n, err := in.Read(part)
		frame = append(frame, part[:n]...)
		for {
			at := bytes.Index(frame[min(len(frame), len(delimiter)):], delimiter)
			if at < 0 {
				break
			}
			at += len(delimiter)
			each(frame[:at], bytes.Contains(frame[:at], []byte{0, 0, 1, 0x65}), uint32(time.Since(began).Milliseconds()*90))
			frame = append(frame[:0], frame[at:]...)
		}
		if len(frame) > maxConverted {
			return errors.New("a converted frame without end")
		}
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return err
		}
	}
}
