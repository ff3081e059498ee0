package convert

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"time"

	"unlatch/core/decide/handover/paper"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/media"
)

// process is ffmpeg at work.
type process struct {
	life context.Context
	stop context.CancelFunc
	cmd  *exec.Cmd
	done chan struct{} // closed when it has ended

	mu        sync.Mutex
	reason    error // for which what goes into it has ended
	complaint complaint
}

// arguments are those of ffmpeg: pictures come on its standard input and sound on descriptor 3, and what is made goes to its standard
// output.
func (u *underway) arguments(to conversion.Source, encoder string) []string {
	args := []string{"-v", "error", "-fflags", "nobuffer", "-flags", "low_delay", "-probesize", "65536", "-analyzeduration", "0",
		"-max_alloc", strconv.Itoa(maxAlloc), "-filter_threads", "1", "-threads", "2", "-max_pixels", strconv.Itoa(maxPixels)}
	if u.mux != nil {
		args = append(args, "-f", "mp4")
	} else {
		args = append(args, "-use_wallclock_as_timestamps", "1", "-f", u.frames.Decoder())
	}
	args = append(args, "-i", "pipe:0")
	if u.samples != nil {
		args = append(args, u.sounding()...)
	} else {
		args = append(args, "-an")
	}
	if u.form.Picture() {
		args = append(args, u.encoding(to, encoder)...)
	} else {
		args = append(args, "-c:v", "copy")
	}
	if u.files() {
		return append(args, "-f", "mjpeg", "-flush_packets", "1", "pipe:1")
	}
	return append(args, "-f", "mpegts", "-muxdelay", "0", "-muxpreload", "0", "-flush_packets", "1", "-pes_payload_size", "0", "pipe:1")
}

// sounding are the arguments of sound that is made anew.
func (u *underway) sounding() []string {
	args := []string{"-use_wallclock_as_timestamps", "1", "-thread_queue_size", "256", "-probesize", "32"}
	if u.heard.Form == media.AAC {
		args = append(args, "-f", "aac")
	} else {
		args = append(args, "-f", "s16le", "-ar", strconv.Itoa(u.heard.Rate), "-ac", strconv.Itoa(u.heard.Channels))
	}
	encoder := map[string]string{"AAC": "aac", "Opus": "libopus"}[u.form.Sound]
	return append(args, "-i", "pipe:3", "-map", "0:v:0", "-map", "1:a:0", "-c:a", encoder, "-b:a", "48k", "-ac", "1",
		"-af", "aresample=async=1")
}

// Files that ffmpeg reads in the folder of a conversion.
const (
	fontFile = "font.ttf"
	textFile = "text.txt"
)

// write writes what ffmpeg reads besides pictures and sound. The text for the picture goes by a file: what ffmpeg takes in an argument has
// signs that mean something.
func (u *underway) write() (err error) {
	if u.form.Text == "" {
		return nil
	}
	if u.folder, err = os.MkdirTemp("", "unlatch-relay-"); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(u.folder, fontFile), paper.Sans(), 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(u.folder, textFile), []byte(u.form.Text), 0o600)
}

// turns are filters that turn a picture to the right.
var turns = map[int]string{90: "transpose=clock,", 180: "hflip,vflip,", 270: "transpose=cclock,"}

// encoding are the arguments of a picture that is made anew.
func (u *underway) encoding(to conversion.Source, encoder string) []string {
	filter := turns[u.form.Turn] + fmt.Sprintf("scale=%d:%d:force_original_aspect_ratio=decrease,pad=%d:%d:-1:-1,setsar=1",
		to.Width, to.Height, to.Width, to.Height)
	if u.form.Text != "" {
		filter += fmt.Sprintf(",drawtext=fontfile=%s:textfile=%s:expansion=none:fontsize=%d:fontcolor=white:box=1:boxcolor=black@0.6:"+
			"boxborderw=%d:x=%[5]d:y=h-th-%[5]d", fontFile, textFile, max(to.Height/16, 8), max(to.Height/90, 2), max(to.Height/30, 4))
	}
	if u.form.FPS > 0 {
		filter = fmt.Sprintf("fps=%g,", u.form.FPS) + filter
	}
	args := []string{"-vf", filter, "-c:v", encoder}
	if to.Codec == "MJPEG" {
		args = append(args, "-pix_fmt", "yuvj420p", "-huffman", "default")
		if u.form.Kbps == 0 {
			return append(args, "-q:v", "5")
		}
	} else {
		gop := 2 * time.Second
		if u.form.GOPSeconds > 0 {
			gop = time.Duration(u.form.GOPSeconds * float64(time.Second))
		}
		args = append(args, "-pix_fmt", "yuv420p", "-bf", "0", "-force_key_frames", fmt.Sprintf("expr:gte(t,n_forced*%g)", gop.Seconds()),
			"-g", "600")
	}
	switch encoder {
	case "libx264":
		args = append(args, "-preset", "veryfast", "-tune", "zerolatency", "-profile:v", "main")
	case "libx265":
		args = append(args, "-preset", "ultrafast", "-tune", "zerolatency", "-x265-params", "log-level=error")
	}
	if u.form.Kbps > 0 {
		rate := strconv.Itoa(u.form.Kbps) + "k"
		args = append(args, "-b:v", rate, "-maxrate", rate, "-bufsize", rate)
	}
	return args
}

// start begins ffmpeg in a folder and returns what it writes.
func (p *process) start(folder string, args []string, pictures, samples *pipe) (io.ReadCloser, error) {
	p.life, p.stop = context.WithCancel(context.Background())
	p.cmd = exec.CommandContext(p.life, "ffmpeg", args...)
	p.cmd.Dir = folder
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} // it ends with this program
	p.cmd.WaitDelay = time.Second
	p.cmd.Stderr = &p.complaint
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	in, err := p.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	var sound *os.File
	if samples != nil {
		var theirs *os.File
		if theirs, sound, err = os.Pipe(); err != nil {
			return nil, err
		}
		defer theirs.Close()
		p.cmd.ExtraFiles = []*os.File{theirs}
	}
	if err := p.cmd.Start(); err != nil {
		if sound != nil {
			sound.Close()
		}
		if errors.Is(err, exec.ErrNotFound) {
			err = ErrNoFFmpeg
		}
		return nil, err
	}
	p.done = make(chan struct{})
	go pictures.run(in, p.life.Done())
	if samples != nil {
		go samples.run(sound, p.life.Done())
	}
	return &written{ReadCloser: out, of: p}, nil
}

// because keeps why nothing goes in any more, and ends ffmpeg.
func (p *process) because(err error) {
	p.mu.Lock()
	if p.reason == nil {
		p.reason = err
	}
	p.mu.Unlock()
	p.stop()
}

// why returns the reason for which nothing comes out: that for which nothing goes in, or what ffmpeg has said.
func (p *process) why(err error) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch said := p.complaint.String(); {
	case p.reason != nil && !errors.Is(p.reason, context.Canceled):
		return p.reason
	case said != "":
		return fmt.Errorf("the conversion ended: %s", wiretext.Line(said, 300))
	case errors.Is(err, io.EOF):
		return errors.New("the conversion ended: ffmpeg was stopped")
	}
	return err
}

// end ends ffmpeg and waits for it.
func (p *process) end() {
	if p.stop == nil {
		return
	}
	p.stop()
	if p.done != nil {
		p.cmd.Wait()
	}
}

// written is what ffmpeg writes; its end has a reason.
type written struct {
	io.ReadCloser
	of *process
}

func (w *written) Read(b []byte) (int, error) {
	n, err := w.ReadCloser.Read(b)
	if err != nil {
		w.of.stop()
		err = w.of.why(err)
	}
	return n, err
}

// complaint keeps the beginning of what ffmpeg writes on its error output.
type complaint struct {
	mu sync.Mutex
	b  bytes.Buffer
}

const mostComplaint = 2000 // bytes

func (c *complaint) Write(b []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.b.Write(b[:min(len(b), mostComplaint-min(mostComplaint, c.b.Len()))])
	return len(b), nil
}

func (c *complaint) String() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.b.String()
}
