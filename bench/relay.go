package main

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/player"
	"unlatch/core/wire/rtsp"
	"unlatch/core/work/fanout"
	"unlatch/core/work/relay"
	"unlatch/sim"
	"unlatch/sim/scene"
)

// What is relayed, and for how long it is measured.
const (
	relayStreams = 200
	relayTakers  = 2 // of each
	relayFPS     = 25
	relayFor     = 10 * time.Second
)

// relayVariable tells this program that it is one of the processes of that measurement: which one, and the addresses that it needs.
const relayVariable = "UNLATCH_BENCH_RELAY"

// relayPart runs one of the processes: "feed" are the cameras, "relay" is measured, "copy" is the floor, "take" are the consumers.
func relayPart(ctx context.Context, order string) error {
	fields := strings.Fields(order)
	switch fields[0] {
	case "feed":
		return feedRelay(ctx)
	case "relay":
		return runRelay(ctx, fields[1])
	case "copy":
		return copyStreams(fields[1], fields[2])
	case "take":
		return takeRelays(ctx, fields[1], fields[2])
	}
	return fmt.Errorf("there is no part %q", fields[0])
}

// A tape is what one camera sends, by pictures.
func tape(ctx context.Context) (pictures [][][]byte, err error) {
	lib := &scene.Library{Dir: filepath.Join(".unlatch", "media")}
	clip, err := lib.Clip(ctx, scene.Format{Scene: "turntable", Width: 1280, Height: 720, FPS: relayFPS, Kbps: 4000, GOP: 25,
		Profile: "main"})
	if err != nil {
		return nil, err
	}
	var picture [][]byte
	for _, p := range sim.Packets(clip) {
		picture = append(picture, p)
		if p[1]&0x80 != 0 {
			pictures = append(pictures, picture)
			picture = nil
		}
	}
	return pictures, nil
}

// stampLength is how long the time is that stands at the end of a picture's last packet: nobody decodes it here.
const stampLength = 8

// send sends a tape from a place in it on, in its own time, through put, which sends one picture.
func send(ctx context.Context, pictures [][][]byte, from int, put func([][]byte) error) {
	tick := time.NewTicker(time.Second / relayFPS)
	defer tick.Stop()
	seq := uint16(0)
	for i := from; ; i++ {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		var out [][]byte
		for _, p := range pictures[i%len(pictures)] {
			b := slices.Clone(p)
			binary.BigEndian.PutUint16(b[2:], seq)
			binary.BigEndian.PutUint32(b[4:], uint32(i*90000/relayFPS))
			seq++
			out = append(out, b)
		}
		last := out[len(out)-1]
		if len(last) > 12+stampLength+4 {
			binary.BigEndian.PutUint64(last[len(last)-stampLength:], uint64(time.Now().UnixNano()))
		}
		if put(out) != nil {
			return
		}
	}
}

// fedStream is the stream of a camera.
type fedStream struct {
	pictures [][][]byte
	from     int
}

func (s fedStream) SDP() string {
	return "v=0\r\no=- 0 0 IN IP4 0.0.0.0\r\ns=x\r\nt=0 0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:track1\r\n"
}

func (s fedStream) Send(ctx context.Context, to *rtsp.Sink) {
	send(ctx, s.pictures, s.from, func(picture [][]byte) error {
		for _, p := range picture {
			to.RTP(1, p)
		}
		return to.Flush()
	})
}

type feedHandler struct{ pictures [][][]byte }

func (feedHandler) Request(*rtsp.Viewer, *rtsp.Request) bool { return false }

func (h feedHandler) Stream(target string) (rtsp.Stream, int, bool) {
	u, err := streamurl.Parse(target)
	if err != nil {
		return nil, 0, false
	}
	path, track := strings.Trim(u.Target(), "/"), 0
	if base, ok := strings.CutSuffix(path, "/track1"); ok {
		path, track = base, 1
	}
	n, err := strconv.Atoi(path)
	return fedStream{h.pictures, n * 7}, track, err == nil
}

// feedRelay serves the cameras, and the same bytes plainly to whoever connects to a second port.
func feedRelay(ctx context.Context) error {
	pictures, err := tape(ctx)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return err
	}
	plain, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println(l.Addr(), plain.Addr())
	go (&rtsp.Server{Name: "bench", Handler: feedHandler{pictures}}).Serve(ctx, l)
	for n := 0; ; n++ {
		c, err := plain.Accept()
		if err != nil {
			return err
		}
		go send(ctx, pictures, n*7, func(picture [][]byte) error {
			var out []byte
			for _, p := range picture {
				out = binary.BigEndian.AppendUint16(append(out, '$', 0), uint16(len(p)))
				out = append(out, p...)
			}
			_, err := c.Write(out)
			return err
		})
	}
}

var benchTaker = signin.SignIn{User: "desk", Secret: signin.NewSecret("bench-door")}

// runRelay is what is measured.
func runRelay(ctx context.Context, feed string) error {
	var hub fanout.Hub
	server := &relay.Server{FromOne: 2 * relayStreams * relayTakers} // here one address takes all, which no network does
	var list []relay.Relay
	for i := range relayStreams {
		u, err := streamurl.Parse(fmt.Sprintf("rtsp://%s/%d", feed, i))
		if err != nil {
			return err
		}
		list = append(list, relay.Relay{ID: strconv.Itoa(i), Path: strconv.Itoa(i), User: benchTaker.User, Secret: benchTaker.Secret,
			Take: func(ctx context.Context) (*fanout.Consumer, error) {
				return hub.Join(ctx, strconv.Itoa(i), func(ctx context.Context) (*player.Session, error) {
					return player.Open(ctx, player.Request{URL: u, Dial: &address.Guard{Allowed: address.MustParse("127.0.0.0/8")}, Transport: rtsp.TCP})
				})
			}})
	}
	server.Set(list)
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println(l.Addr())
	return server.Serve(ctx, l)
}

// copyStreams copies what it reads of each camera to as many sinks as a stream has takers.
func copyStreams(feed, sink string) error {
	for range relayStreams {
		in, err := net.Dial("tcp4", feed)
		if err != nil {
			return err
		}
		var out []io.Writer
		for range relayTakers {
			c, err := net.Dial("tcp4", sink)
			if err != nil {
				return err
			}
			out = append(out, c)
		}
		go io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(out...)}, struct{ io.Reader }{in}, make([]byte, 64<<10))
	}
	fmt.Println("copying")
	select {}
}

// takeRelays takes every relay as often as it has takers, or where there is no relay everything that comes to a plain port. Asked by a
// line of its input, it prints what it has measured since.
func takeRelays(ctx context.Context, relays, feed string) error {
	sink, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go func() {
		for {
			c, err := sink.Accept()
			if err != nil {
				return
			}
			go io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{c}, make([]byte, 64<<10))
		}
	}()
	fmt.Println(sink.Addr())
	m := &takerMeter{}
	if relays != "-" {
		if err := m.takeAll(ctx, relays, feed); err != nil {
			return err
		}
		fmt.Println("taking")
	}
	for lines := bufio.NewScanner(os.Stdin); lines.Scan(); {
		switch lines.Text() {
		case "first":
			took, err := firstPackets(ctx, "rtsp://"+relays+"/0")
			if err != nil {
				return err
			}
			fmt.Println(took.Microseconds())
		case "stall":
			s, err := openTaker(ctx, "rtsp://"+relays+"/1")
			if err != nil {
				return err
			}
			time.AfterFunc(relayFor, func() { s.Close() }) // until then nobody reads it
			fmt.Println("stalled")
		default:
			fmt.Println(m.report())
		}
	}
	return nil
}

// openTaker takes a stream.
func openTaker(ctx context.Context, at string) (*player.Session, error) {
	u, err := streamurl.Parse(at)
	if err != nil {
		return nil, err
	}
	return player.Open(ctx, player.Request{URL: u, SignIn: benchTaker, Transport: rtsp.TCP, Timeout: 30 * time.Second,
		Dial: &address.Guard{Allowed: address.MustParse("127.0.0.0/8")}})
}

// firstPackets returns the median time from the first byte that another taker of a stream sends to the first packet that it gets.
func firstPackets(ctx context.Context, at string) (time.Duration, error) {
	var took []time.Duration
	for range 21 {
		began, got := time.Now(), false
		s, err := openTaker(ctx, at)
		if err != nil {
			return 0, err
		}
		err = s.Run(ctx, func(player.Packet) {
			if !got {
				got, took = true, append(took, time.Since(began))
			}
		}, func() bool { return got })
		s.Close()
		if err != nil {
			return 0, err
		}
	}
	slices.Sort(took)
	return took[len(took)/2], nil
}

// A takerMeter measures what takers get.
type takerMeter struct {
	mu      sync.Mutex
	relayed []time.Duration
	direct  []time.Duration
	gaps    []time.Duration // between the ends of pictures, by the relay
	lost    atomic.Int64
	frames  atomic.Int64
}

func (m *takerMeter) takeAll(ctx context.Context, at, feed string) error {
	failed := make(chan error, 1)
	var playing sync.WaitGroup
	for i := range relayStreams * relayTakers {
		playing.Add(1)
		go m.take(ctx, fmt.Sprintf("rtsp://%s/%d", at, i%relayStreams), &m.relayed, playing.Done, failed)
		time.Sleep(5 * time.Millisecond)
	}
	playing.Add(1)
	go m.take(ctx, "rtsp://"+feed+"/0", &m.direct, playing.Done, failed)
	all := make(chan struct{})
	go func() { playing.Wait(); close(all) }()
	select {
	case <-all:
		return nil
	case err := <-failed:
		return err
	case <-time.After(time.Minute):
		return errors.New("not all of them play within a minute")
	}
}

// take takes one stream, and measures how late each picture's end is.
func (m *takerMeter) take(ctx context.Context, at string, into *[]time.Duration, playing func(), failed chan<- error) {
	s, err := openTaker(ctx, at)
	if err == nil {
		playing()
		next, begun, last := uint16(0), false, time.Time{}
		err = s.Run(ctx, func(p player.Packet) {
			if p.RTCP || len(p.Payload) < 12 {
				return
			}
			seq := binary.BigEndian.Uint16(p.Payload[2:])
			if begun && seq != next {
				m.lost.Add(int64(seq - next))
			}
			next, begun = seq+1, true
			if p.Payload[1]&0x80 == 0 || len(p.Payload) <= 12+stampLength+4 {
				return
			}
			sent := time.Unix(0, int64(binary.BigEndian.Uint64(p.Payload[len(p.Payload)-stampLength:])))
			now := time.Now()
			m.frames.Add(1)
			m.mu.Lock()
			*into = append(*into, now.Sub(sent))
			if !last.IsZero() && into == &m.relayed {
				m.gaps = append(m.gaps, now.Sub(last))
			}
			last = now
			m.mu.Unlock()
		}, func() bool { return false })
	}
	select {
	case failed <- fmt.Errorf("%s: %w", at, err):
	default:
	}
}

// report returns what was measured since the last call: pictures, lost packets, the p95 of the delay by the relay and without it, and the
// p99 of the gaps between pictures, in microseconds.
func (m *takerMeter) report() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	at := func(list []time.Duration, percent int) int64 {
		if len(list) == 0 {
			return -1
		}
		slices.Sort(list)
		return list[len(list)*percent/100].Microseconds()
	}
	out := fmt.Sprint(m.frames.Swap(0), " ", m.lost.Swap(0), " ", at(m.relayed, 95), " ", at(m.direct, 95), " ", at(m.gaps, 99))
	m.relayed, m.direct, m.gaps = nil, nil, nil
	return out
}

// A part is a process of the measurement.
type part struct {
	cmd *exec.Cmd
	in  io.Writer
	out *bufio.Reader
}

func startPart(order string) (*part, error) {
	cmd := exec.Command("/proc/self/exe")
	cmd.Env = append(os.Environ(), relayVariable+"="+order)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	return &part{cmd, in, bufio.NewReader(out)}, cmd.Start()
}

func (p *part) line() (string, error) {
	text, err := p.out.ReadString('\n')
	return strings.TrimSpace(text), err
}

// ask sends a line to a process, and reads the numbers that it answers with; a word is none.
func (p *part) ask(what string) (numbers []int64, err error) {
	if _, err := fmt.Fprintln(p.in, what); err != nil {
		return nil, err
	}
	text, err := p.line()
	if err != nil {
		return nil, err
	}
	for _, field := range strings.Fields(text) {
		if n, err := strconv.ParseInt(field, 10, 64); err == nil {
			numbers = append(numbers, n)
		}
	}
	return numbers, nil
}

func (p *part) stop() {
	p.cmd.Process.Kill()
	p.cmd.Wait()
}

// used returns how much of a core a process has used, and how much memory it has.
func (p *part) used() (cpu time.Duration, resident int64, err error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))
	if err != nil {
		return 0, 0, err
	}
	fields := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
	user, _ := strconv.ParseInt(fields[11], 10, 64)
	system, _ := strconv.ParseInt(fields[12], 10, 64)
	pages, _ := strconv.ParseInt(fields[21], 10, 64)
	return time.Duration(user+system) * 10 * time.Millisecond, pages * int64(os.Getpagesize()), nil
}

// busy measures a process for a while, in cores.
func (p *part) busy() (cores float64, err error) {
	before, _, err := p.used()
	if err != nil {
		return 0, err
	}
	began := time.Now()
	time.Sleep(relayFor)
	after, _, err := p.used()
	return (after - before).Seconds() / time.Since(began).Seconds(), err
}

// relayed measures what it costs to serve many streams on, against a plain copy of the same bytes to as many sockets.
func relayed(context.Context, *scene.Library) (out []figure, err error) {
	feed, err := startPart("feed")
	if err != nil {
		return nil, err
	}
	defer feed.stop()
	at, err := feed.line()
	if err != nil {
		return nil, err
	}
	cameras, plain, _ := strings.Cut(at, " ")
	floor, err := relayFloor(plain)
	if err != nil {
		return nil, fmt.Errorf("the plain copy: %w", err)
	}
	server, err := startPart("relay " + cameras)
	if err != nil {
		return nil, err
	}
	defer server.stop()
	relays, err := server.line()
	if err != nil {
		return nil, err
	}
	takers, err := startPart("take " + relays + " " + cameras)
	if err != nil {
		return nil, err
	}
	defer takers.stop()
	for range 2 { // where it listens, and that all play
		if _, err := takers.line(); err != nil {
			return nil, fmt.Errorf("the takers: %w", err)
		}
	}
	return measureRelay(server, takers, floor)
}

// measureRelay measures a relay that all take.
func measureRelay(server, takers *part, floor float64) ([]figure, error) {
	time.Sleep(3 * time.Second)
	if _, err := takers.ask(""); err != nil {
		return nil, err
	}
	cores, err := server.busy()
	if err != nil {
		return nil, err
	}
	even, err := takers.ask("")
	if err != nil {
		return nil, err
	}
	if _, err := takers.ask("stall"); err != nil {
		return nil, err
	}
	time.Sleep(relayFor)
	beside, err := takers.ask("")
	if err != nil {
		return nil, err
	}
	first, err := takers.ask("first")
	if err != nil {
		return nil, err
	}
	_, resident, err := server.used()
	if err != nil {
		return nil, err
	}
	frames, lost := even[0], even[1]+beside[1]
	added := time.Duration(max(0, even[2]-even[3])) * time.Microsecond
	begins := time.Duration(first[0]) * time.Microsecond
	perStream := float64(resident) / relayStreams / 1e6
	return []figure{
		{what: fmt.Sprintf("%d streams of 4 Mbit/s served on to %d takers", relayStreams, relayStreams*relayTakers),
			got: fmt.Sprintf("%.2f cores", cores), floor: fmt.Sprintf("%.2f cores", floor), ratio: fmt.Sprintf("%.2f", cores/floor), want: 2.5},
		{what: "which is, of one core", got: fmt.Sprintf("%.2f cores", cores), floor: "-", ratio: fmt.Sprintf("%.2f", cores), want: 1.0},
		{what: "delay that this adds, p95", got: added.Round(100 * time.Microsecond).String(), floor: "20 ms",
			ratio: fmt.Sprintf("%.2f", added.Seconds()/0.020), want: 1.0},
		{what: "packets lost of it, while pictures came", got: fmt.Sprintf("%d of %d pictures", lost, frames), floor: "-",
			ratio: fmt.Sprint(lost), want: 0.0},
		{what: "first packet to another taker, sign-in and all", got: begins.Round(100 * time.Microsecond).String(), floor: "30 ms",
			ratio: fmt.Sprintf("%.2f", begins.Seconds()/0.030), want: 1.0},
		{what: "gaps between pictures of the others while one reads nothing for 10 s, p99", got: fmt.Sprintf("%.1f ms", float64(beside[4])/1000),
			floor: fmt.Sprintf("%.1f ms", float64(even[4])/1000), ratio: fmt.Sprintf("%.2f", float64(beside[4])/float64(even[4])), want: 1.2},
		{what: "memory for each stream", got: fmt.Sprintf("%.1f MB", perStream), floor: "3 MB",
			ratio: fmt.Sprintf("%.2f", perStream/3), want: 1.0},
	}, nil
}

// relayFloor measures the plain copy.
func relayFloor(plain string) (cores float64, err error) {
	sink, err := startPart("take - -")
	if err != nil {
		return 0, err
	}
	defer sink.stop()
	at, err := sink.line()
	if err != nil {
		return 0, err
	}
	copier, err := startPart("copy " + plain + " " + at)
	if err != nil {
		return 0, err
	}
	defer copier.stop()
	if _, err := copier.line(); err != nil {
		return 0, err
	}
	time.Sleep(2 * time.Second)
	return copier.busy()
}
