package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"

	"unlatch/core/stream/fmp4"
	"unlatch/e2e/browser"
	"unlatch/sim"
	"unlatch/sim/scene"
)

// nine cameras, and one whose stream is as heavy as they come.
const watched = `
name: bench live
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Camera, maker: corvane, model: V4, address: 127.61.8.1, count: 9, scene: viaduct, streams: [{width: 640, height: 360,
       fps: 10, kbps: 600, gop: 10}]}
  - {name: Heavy, maker: corvane, model: V4, address: 127.61.8.20, scene: turntable, streams: [{width: 1280, height: 720, fps: 25,
       kbps: 4000, gop: 25}]}
`

// looker is a server of its own with the cameras proven, and a person who is signed in.
type looker struct {
	server  *browser.Server
	client  *http.Client
	site    string
	devices map[string]string // by address
	undo    []func()
}

func (l *looker) stop() {
	for i := len(l.undo) - 1; i >= 0; i-- {
		l.undo[i]()
	}
}

// do sends JSON and reads it.
func (l *looker) do(method, path string, body, into any) error {
	raw, _ := json.Marshal(body)
	req, err := http.NewRequest(method, strings.TrimSuffix(l.server.URL, "/")+path, bytes.NewReader(raw))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := l.client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	out, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode >= 300 {
		return fmt.Errorf("%s %s: %s %s (%w)", method, path, res.Status, out, err)
	}
	if into != nil {
		return json.Unmarshal(out, into)
	}
	return nil
}

func newLooker() (l *looker, err error) {
	l = &looker{devices: map[string]string{}}
	defer func() {
		if err != nil {
			l.stop()
		}
	}()
	dir, err := os.MkdirTemp("", "unlatch-bench-*")
	if err != nil {
		return l, err
	}
	l.undo = append(l.undo, func() { os.RemoveAll(dir) })
	os.Chmod(dir, 0o755)
	if l.server, err = browser.StartServer("serve", "--data", dir, "--listen", "127.0.0.1:0"); err != nil {
		return l, err
	}
	l.undo = append(l.undo, func() { l.server.Stop() })
	jar, _ := cookiejar.New(nil)
	l.client = &http.Client{Jar: jar}
	code := regexp.MustCompile(`/setup#(\S+)`).FindStringSubmatch(l.server.Output)
	if code == nil {
		return l, fmt.Errorf("no set-up code in %q", l.server.Output)
	}
	var site struct{ ID string }
	for _, step := range []func() error{
		func() error {
			return l.do("POST", "/api/setup", map[string]string{"name": "keeper", "password": "a long password", "code": code[1]}, nil)
		},
		func() error {
			return l.do("POST", "/api/sites", map[string]any{"name": "Line", "ranges": []string{"127.61.8.0/27"}}, &site)
		},
		func() error {
			return l.do("POST", "/api/sign-ins", map[string]string{"user": "fitter", "secret": "bench"}, nil)
		},
		func() error { l.site = site.ID; return l.do("POST", "/api/sites/"+site.ID+"/sweeps", struct{}{}, nil) },
		func() error { return l.settled(10, func(d device) bool { return true }) },
		func() error {
			var ids []string
			for _, id := range l.devices {
				ids = append(ids, id)
			}
			return l.do("POST", "/api/sites/"+site.ID+"/open", map[string]any{"devices": ids}, nil)
		},
		func() error {
			return l.settled(10, func(d device) bool { return len(d.Streams) > 0 && d.Streams[0].Proof != nil && d.Streams[0].Proof.OK })
		},
	} {
		if err := step(); err != nil {
			return l, err
		}
	}
	return l, nil
}

type device struct {
	ID, Address string
	Streams     []struct{ Proof *struct{ OK bool } }
}

// settled waits until n devices are as wanted.
func (l *looker) settled(n int, is func(device) bool) error {
	for range 600 {
		var list []device
		if err := l.do("GET", "/api/sites/"+l.site+"/devices", nil, &list); err != nil {
			return err
		}
		got := 0
		for _, d := range list {
			l.devices[d.Address] = d.ID
			if is(d) {
				got++
			}
		}
		if got >= n {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return fmt.Errorf("the cameras did not get so far: %v", l.devices)
}

// look opens a stream as a page does, and returns its messages' sizes as they come until ctx ends.
func (l *looker) look(ctx context.Context, address string, each func(n int)) error {
	at := "ws" + strings.TrimPrefix(strings.TrimSuffix(l.server.URL, "/"), "http") + "/api/devices/" + l.devices[address] + "/live?role=main"
	conn, _, err := websocket.Dial(ctx, at, &websocket.DialOptions{HTTPClient: l.client})
	if err != nil {
		return err
	}
	defer conn.CloseNow()
	conn.SetReadLimit(16 << 20)
	for {
		kind, r, err := conn.Reader(ctx)
		if err != nil {
			return err
		}
		n, err := io.Copy(io.Discard, r)
		if err != nil {
			return err
		}
		if kind == websocket.MessageBinary {
			each(int(n))
		}
	}
}

// liveViewing measures how soon a picture moves after a click, in a real browser, and what looking costs the server.
func liveViewing(ctx context.Context, lib *scene.Library) ([]figure, error) {
	scenario, err := sim.ParseScenario([]byte(watched))
	if err != nil {
		return nil, err
	}
	w, err := sim.Start(ctx, scenario, sim.Options{Media: lib})
	if err != nil {
		return nil, err
	}
	defer w.Stop()
	l, err := newLooker()
	if err != nil {
		return nil, err
	}
	defer l.stop()
	out, err := l.clicks(ctx, w)
	if err != nil {
		return nil, err
	}
	nine, err := l.nine(ctx)
	if err != nil {
		return nil, err
	}
	fifty, err := l.fifty(ctx)
	if err != nil {
		return nil, err
	}
	frame, err := muxing(ctx, lib)
	return append(append(append(out, nine...), fifty), frame), err
}

const clicked = 15

// clicks presses Live on the bench of a camera and waits for the first picture that the browser draws.
func (l *looker) clicks(ctx context.Context, w *sim.World) ([]figure, error) {
	chrome, err := browser.Start()
	if err != nil {
		return nil, err
	}
	defer chrome.Stop()
	p, err := chrome.Page(l.server.URL, 1280, 800)
	if err != nil {
		return nil, err
	}
	const camera = "127.61.8.1"
	if _, err := p.Eval(`async () => { await fetch("/api/session", { method: "POST", headers: { "Content-Type": "application/json" },
		body: JSON.stringify({ name: "keeper", password: "a long password" }) }); }`); err != nil {
		return nil, err
	}
	if err := p.Navigate(strings.TrimSuffix(l.server.URL, "/") + "/sites/" + l.site + "?device=" + l.devices[camera]); err != nil {
		return nil, err
	}
	if _, err := p.ElementR("button", "^Play live$"); err != nil {
		return nil, err
	}
	once := func() (float64, time.Time, error) {
		began := time.Now()
		v, err := p.Eval(`() => new Promise((done) => {
			const began = performance.now();
			[...document.querySelectorAll("button")].find((b) => b.textContent === "Play live").click();
			const wait = () => {
				const v = document.querySelector("[data-live] video");
				if (v) v.requestVideoFrameCallback(() => done(performance.now() - began));
				else requestAnimationFrame(wait);
			};
			wait();
		})`)
		if err != nil {
			return 0, began, err
		}
		_, err = p.Eval(`() => [...document.querySelectorAll("button")].find((b) => b.textContent === "Show the still").click()`)
		return v.Value.Num(), began, err
	}
	var warm, cold, waits, over []float64
	watching, leave := context.WithCancel(ctx)
	go l.look(watching, camera, func(int) {})
	time.Sleep(3 * time.Second)
	for range clicked {
		got, _, err := once()
		if err != nil {
			leave()
			return nil, err
		}
		warm = append(warm, got)
		time.Sleep(200 * time.Millisecond)
	}
	leave()
	for range clicked {
		time.Sleep(3*time.Second + rand.N(time.Second)) // until the session with the camera has ended
		got, began, err := once()
		if err != nil {
			return nil, err
		}
		wait := float64(w.Device("Camera 001").NextKeyframe(0, began).Sub(began).Microseconds()) / 1000
		cold, waits, over = append(cold, got), append(waits, wait), append(over, got-wait)
	}
	trip, err := roundTrip(w.Device("Camera 001").RTSP())
	if err != nil {
		return nil, err
	}
	return []figure{
		{"Live: click to moving picture in the browser, somebody looks already", fmt.Sprintf("%.0f ms", median(warm)), ms(trip) +
			" a bare exchange", "", under(400, median(warm), " ms")},
		{"Live: the same, cold", fmt.Sprintf("%.0f ms", median(cold)), fmt.Sprintf("%.0f ms wait for that key frame", median(waits)),
			fmt.Sprintf("%.0f ms on top", median(over)), atMost(300, median(over), " ms on top")},
	}, nil
}

// usage returns the processor time of a process so far and its resident size.
func usage(pid int) (cpu time.Duration, rss int64) {
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/schedstat", pid))
	for _, t := range tasks {
		raw, _ := os.ReadFile(t)
		n, _ := strconv.ParseInt(strings.Fields(string(raw) + " 0")[0], 10, 64)
		cpu += time.Duration(n)
	}
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for _, line := range strings.Split(string(raw), "\n") {
		if v, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseInt(strings.Fields(v)[0], 10, 64)
			rss = kb * 1000
		}
	}
	return cpu, rss
}

// over10 returns the processor time that a process takes in ten seconds.
func over10(pid int) (time.Duration, int64) {
	before, _ := usage(pid)
	time.Sleep(10 * time.Second)
	after, rss := usage(pid)
	return after - before, rss
}

func (l *looker) nine(ctx context.Context) ([]figure, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	for n := 1; n <= 9; n++ {
		go l.look(ctx, fmt.Sprintf("127.61.8.%d", n), func(int) {})
	}
	time.Sleep(3 * time.Second)
	cpu, rss := over10(l.server.PID())
	return []figure{
		{"Live: nine H.264 pictures, the server's share of a core", fmt.Sprintf("%.2f", cpu.Seconds()/10), "", "",
			under(0.5, cpu.Seconds()/10, "")},
		{"The same: its resident size", fmt.Sprintf("%d MB", rss/1e6), "", "", under(150, float64(rss)/1e6, " MB")},
	}, nil
}

const viewers = 50

// fifty compares what a viewer more costs with a plain copy of the same bytes to a socket, by another process.
func (l *looker) fifty(ctx context.Context) (figure, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	const camera = "127.61.8.20"
	var sizes []string
	first := make(chan struct{})
	go l.look(ctx, camera, func(n int) {
		if len(sizes) < 100 { // four whole groups of pictures
			if sizes = append(sizes, strconv.Itoa(n)); len(sizes) == 100 {
				close(first)
			}
		}
	})
	<-first
	time.Sleep(2 * time.Second)
	one, _ := over10(l.server.PID())
	for range viewers {
		go l.look(ctx, camera, func(int) {})
	}
	time.Sleep(3 * time.Second)
	many, _ := over10(l.server.PID())
	each := (many - one) / viewers

	sink, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return figure{}, err
	}
	defer sink.Close()
	go func() {
		for {
			c, err := sink.Accept()
			if err != nil {
				return
			}
			go io.Copy(io.Discard, c)
		}
	}()
	own, err := os.Executable()
	if err != nil {
		return figure{}, err
	}
	copier := exec.CommandContext(ctx, own)
	copier.Env = append(os.Environ(), copierVariable+"="+sink.Addr().String()+" "+strings.Join(sizes, " "))
	if err := copier.Start(); err != nil {
		return figure{}, err
	}
	time.Sleep(2 * time.Second)
	plain, _ := over10(copier.Process.Pid)
	copier.Process.Kill()
	copier.Wait()
	floor := plain / viewers
	return figure{"Live: one viewer more of 50 on one camera (4 Mbit/s, 25 fps), processor time a second", ms(each / 10),
		ms(floor/10) + " a plain copy to a socket",
		fmt.Sprintf("%.2f", float64(each)/float64(floor)), atMost(2, float64(each)/float64(floor), "")}, nil
}

// copierVariable tells this program that it is the plain copier: where to, and how large what it copies is, 25 times a second.
const copierVariable = "UNLATCH_BENCH_COPIER"

func copyPlainly(order string) error {
	fields := strings.Fields(order)
	var conns []net.Conn
	for range viewers {
		c, err := net.Dial("tcp", fields[0])
		if err != nil {
			return err
		}
		conns = append(conns, c)
	}
	data := make([]byte, 8<<20)
	tick := time.NewTicker(40 * time.Millisecond)
	for i := 1; ; i++ {
		<-tick.C
		n, err := strconv.Atoi(fields[1+i%(len(fields)-1)])
		if err != nil {
			return err
		}
		for _, c := range conns {
			if _, err := c.Write(data[:n]); err != nil {
				return err
			}
		}
	}
}

// muxing measures the writer of fragmented MP4 against a copy of the same bytes.
func muxing(ctx context.Context, lib *scene.Library) (figure, error) {
	c, err := lib.Clip(ctx, scene.Format{Scene: "turntable", Width: 1280, Height: 720, FPS: 25, Kbps: 4000, GOP: 25, Profile: "main"})
	if err != nil {
		return figure{}, err
	}
	var frames [][]byte
	bytesOfAll := 0
	for _, f := range c.Frames {
		var b []byte
		for _, nal := range append([][]byte{c.SPS, c.PPS}, f.NALs...) {
			b = append(append(b, 0, 0, 0, 1), nal...)
		}
		frames = append(frames, b)
		bytesOfAll += len(b)
	}
	var m fmp4.Muxer
	out := make([]byte, 0, 1<<20)
	var wrote, copied []time.Duration
	for range 21 {
		began := time.Now()
		for i, f := range frames {
			out, _ = m.Frame(out[:0], f, c.Frames[i].Key, uint32(i*3600))
		}
		wrote = append(wrote, time.Since(began)/time.Duration(len(frames)))
		began = time.Now()
		for _, f := range frames {
			out = append(out[:0], f...)
		}
		copied = append(copied, time.Since(began)/time.Duration(len(frames)))
	}
	allocations := testing.AllocsPerRun(100, func() { out, _ = m.Frame(out[:0], frames[0], true, 0) })
	return figure{fmt.Sprintf("fMP4: a frame of %d kB written; allocations a frame: %g", bytesOfAll/len(frames)/1000, allocations),
		fmt.Sprintf("%.1f µs", float64(median(wrote).Nanoseconds())/1000), fmt.Sprintf("%.1f µs copied",
			float64(median(copied).Nanoseconds())/1000),
		fmt.Sprintf("%.1f", float64(median(wrote))/float64(median(copied))), none(int(allocations))}, nil
}
