package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"image/jpeg"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strconv"
	"sync"
	"time"

	"unlatch/core/decide/camlist"
	"unlatch/core/stream/media"
	"unlatch/core/work/live"
	"unlatch/e2e/browser"
	"unlatch/sim/scene"
)

// attacked measures how much memory each attack makes the product take on top of what it held before.
func attacked(ctx context.Context, _ *scene.Library) ([]figure, error) {
	var out []figure
	state := func(what string, bytes int64, limitMB float64) {
		mb := float64(bytes) / 1e6
		out = append(out, figure{what, fmt.Sprintf("%.0f MB", mb), "", "", under(limitMB, mb, " MB")})
	}
	bomb, err := claimingJPEG(30000, 30000)
	if err != nil {
		return nil, err
	}
	grown, err := growth(func() error {
		var all sync.WaitGroup
		for range 3 {
			all.Go(func() { media.Still(ctx, media.Keyframe{Decoder: "mjpeg", Data: bomb}) })
		}
		all.Wait()
		return nil
	})
	if err != nil {
		return nil, err
	}
	state("Attacked: three pictures that claim 30000x30000 at once", grown, 100)

	grown, err = growth(slowViewers)
	if err != nil {
		return nil, err
	}
	// They may hold 256 MB and a frame each, 536 MB in all; the collector lets that much again stand before it collects.
	state("Attacked: 40 live viewers that never read, of cameras with frames of 7 MB", grown, 1300)

	grown, err = growth(func() error {
		text := `{{$x := "a"}}{{range 15}}{{$x = print $x $x}}{{end}}{{range 400000}}{{$y := print $x}}{{end}}`
		if _, err := camlist.Render(ctx, camlist.Source{Text: text}, "bench", nil); err == nil {
			return fmt.Errorf("a template that makes 13 GB was carried out")
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	state("Attacked: a template whose functions would make 13 GB of text", grown, 200)

	grown, err = unfinishedBodies()
	if err != nil {
		return nil, err
	}
	state("Attacked: the server while 100 strangers send bodies of 24 MB that do not end", grown, 100)
	return out, nil
}

// slowViewers shows forty cameras, each to one viewer who never reads, with 50 frames of 7 MB.
func slowViewers() error {
	var hub live.Hub
	rooms := make(chan *live.Room, 1)
	source := func(ctx context.Context, to *live.Room) error {
		to.Seat(func(live.Wish) live.Form { return live.AsItComes })
		rooms <- to
		<-ctx.Done()
		return ctx.Err()
	}
	for i := range 40 {
		v, err := hub.Watch(fmt.Sprint("camera ", i), live.Wish{}, source)
		if err != nil {
			return err
		}
		defer v.Close()
		room := <-rooms
		room.Tell(live.AsItComes, live.Message{Begin: &live.Begin{MIME: "x"}, Data: []byte("init"), Key: true})
		for range 50 {
			frame := make([]byte, 7<<20)
			for at := 0; at < len(frame); at += 4096 { // a page that was never written takes no memory
				frame[at] = 1
			}
			room.Tell(live.AsItComes, live.Message{Data: frame, Key: true})
		}
	}
	return nil
}

// unfinishedBodies returns by how much a server's largest resident size grows while 100 strangers begin to sign in with bodies
// that do not end.
func unfinishedBodies() (int64, error) {
	dir, err := os.MkdirTemp("", "unlatch-bench-*")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o755)
	s, err := browser.StartServer("serve", "--data", dir, "--listen", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer s.Stop()
	before, err := residentPeak(s.PID())
	if err != nil {
		return 0, err
	}
	at := regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(s.URL)
	block := bytes.Repeat([]byte(" "), 1<<20)
	var all sync.WaitGroup
	for range 100 {
		c, err := net.Dial("tcp", at)
		if err != nil {
			return 0, err
		}
		defer c.Close()
		all.Go(func() {
			c.SetDeadline(time.Now().Add(20 * time.Second))
			fmt.Fprintf(c, "POST /api/session HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n", at, 24<<20)
			for range 24 {
				if _, err := c.Write(block); err != nil {
					return
				}
			}
		})
	}
	all.Wait()
	after, err := residentPeak(s.PID())
	return after - before, err
}

// claimingJPEG returns a small picture whose header claims a size.
func claimingJPEG(width, height int) ([]byte, error) {
	var b bytes.Buffer
	if err := jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 64, 64)), nil); err != nil {
		return nil, err
	}
	raw := b.Bytes()
	at := bytes.Index(raw, []byte{0xff, 0xc0})
	binary.BigEndian.PutUint16(raw[at+5:], uint16(height))
	binary.BigEndian.PutUint16(raw[at+7:], uint16(width))
	return raw, nil
}

// growth returns by how many bytes this process's largest resident size exceeds what it held when f began.
func growth(f func() error) (int64, error) {
	debug.FreeOSMemory()
	// Writing 5 resets the peak (proc(5), clear_refs).
	if err := os.WriteFile("/proc/self/clear_refs", []byte("5"), 0); err != nil {
		return 0, err
	}
	before, err := residentPeak(os.Getpid())
	if err != nil {
		return 0, err
	}
	if err := f(); err != nil {
		return 0, err
	}
	after, err := residentPeak(os.Getpid())
	return after - before, err
}

var peakLine = regexp.MustCompile(`VmHWM:\s+(\d+) kB`)

// residentPeak returns the largest resident size of a process in bytes.
func residentPeak(pid int) (int64, error) {
	raw, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "status"))
	if err != nil {
		return 0, err
	}
	m := peakLine.FindSubmatch(raw)
	if m == nil {
		return 0, fmt.Errorf("process %d tells no largest resident size", pid)
	}
	kb, err := strconv.ParseInt(string(m[1]), 10, 64)
	return kb * 1024, err
}
