package pages

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"unlatch/core/stream/fmp4"
	"unlatch/core/stream/hls"
	"unlatch/core/stream/media"
	"unlatch/core/wire/player"
	"unlatch/core/work/fanout"
)

// Errors of taking a stream for a page.
var (
	errNoPicture = errors.New("the stream has no picture in H.264 or H.265, which pages play")
	errStarting  = errors.New("the stream has not begun yet")
)

// A feed cuts one stream for HLS while somebody asks for it.
type feed struct {
	page   *served
	stream *hls.Stream
	stop   context.CancelFunc
	begun  chan struct{} // closed with the first picture

	mu     sync.Mutex
	asked  time.Time
	codecs string
	width  int
	height int
}

// feeding returns what cuts the stream of a page, and begins that where nobody asked for it before.
func (s *Server) feeding(p *served) *feed {
	p.mu.Lock()
	f := p.feed
	if f == nil {
		f = &feed{page: p, stream: hls.New(), begun: make(chan struct{})}
		var ctx context.Context
		ctx, f.stop = context.WithCancel(p.until)
		p.feed = f
		s.all.Go(func() { f.run(ctx) })
	}
	p.mu.Unlock()
	f.mu.Lock()
	f.asked = time.Now()
	f.mu.Unlock()
	return f
}

// run takes the stream until nobody has asked for a while. A stream that breaks off is taken again; it goes on after a discontinuity.
func (f *feed) run(ctx context.Context) {
	defer func() {
		f.page.mu.Lock()
		f.page.feed = nil
		f.page.mu.Unlock()
		f.stream.End()
		f.stop()
	}()
	for wait := 500 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		err := f.play(ctx)
		if errors.Is(err, errIdle) || ctx.Err() != nil {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		if f.idle() {
			return
		}
	}
}

var errIdle = errors.New("nobody asks for the stream any more")

func (f *feed) idle() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return time.Since(f.asked) > idle
}

// play cuts one session of the stream.
func (f *feed) play(ctx context.Context) error {
	c, err := f.page.take(ctx)
	if err != nil {
		return err
	}
	defer c.Linger()
	cut, err := newCutter(f, c)
	if err != nil {
		return err
	}
	for list := []fanout.Packet(nil); ; {
		if list, err = c.Next(ctx, list[:0]); err != nil {
			return err
		}
		for _, p := range list {
			cut.packet(p)
		}
		if f.idle() {
			return errIdle
		}
	}
}

// A cutter makes fragments of packets.
type cutter struct {
	feed   *feed
	frames *media.Assembler
	mux    fmp4.Muxer
	video  int
	audio  int // -1 for none that pages play
	heard  *media.Listener
	sound  fmp4.Sound
	sounds media.SoundTimes

	generation int
	at         time.Time // of the packet that is taken
	begun      time.Time // when the first picture came
	last       uint64    // the time of the last picture, in ticks
	buffer     []byte
}

func newCutter(f *feed, c *fanout.Consumer) (*cutter, error) {
	x := &cutter{feed: f, audio: -1}
	tracks := c.Tracks()
	x.video = slices.IndexFunc(tracks, func(t player.Track) bool { return t.Codec == "H264" || t.Codec == "H265" })
	if x.video < 0 {
		return nil, errNoPicture
	}
	x.frames, _ = media.NewAssembler(tracks[x.video].Track)
	x.mux.H265 = tracks[x.video].Codec == "H265"
	for i, t := range tracks {
		l, ok := media.NewListener(t.Track)
		if t.Kind == "audio" && ok && l.Form != media.Samples {
			x.audio, x.heard = i, l
			x.sound = fmp4.Sound{Opus: l.Form == media.Opus, Config: l.Config, Object: l.Object, Rate: l.Rate, Channels: l.Channels}
			x.sounds.Rate = l.Rate
			break
		}
	}
	return x, nil
}

func (x *cutter) packet(p fanout.Packet) {
	x.at = p.At
	switch {
	case p.RTCP:
	case p.Track == x.video:
		x.frames.Packet(p.Payload, x.frame)
	case p.Track == x.audio && x.generation > 0:
		x.heard.Packet(p.Payload, x.unit)
	}
}

func (x *cutter) frame(frame media.Frame, stamp uint32) {
	key := frame.Kind == media.Key
	var ok bool
	if x.buffer, ok = x.mux.Frame(x.buffer[:0], frame.Data, key, stamp); !ok {
		return
	}
	if x.generation != x.mux.Generation {
		x.begin()
	}
	ticks := x.mux.Time()
	lasts := time.Duration(ticks-x.last) * time.Second / fmp4.Timescale
	if x.last = ticks; ticks == 0 {
		lasts = time.Second / 25
	}
	x.feed.stream.Picture(x.buffer, key, lasts, x.at)
}

// begin says what the fragments from now on are read with.
func (x *cutter) begin() {
	if x.begun.IsZero() {
		x.begun = x.at
	}
	x.generation = x.mux.Generation
	init, codecs := x.mux.Init(nil), x.mux.Codec()
	if x.audio >= 0 {
		init, codecs = x.mux.InitWith(nil, &x.sound), codecs+","+x.sound.Codec()
	}
	x.feed.stream.Init(init)
	f := x.feed
	f.mu.Lock()
	defer f.mu.Unlock()
	first := f.codecs == ""
	f.codecs = codecs
	f.width, f.height = x.mux.Size()
	if first {
		close(f.begun)
	}
}

// unit takes a piece of sound.
func (x *cutter) unit(data []byte) {
	x.sound.Time = uint64(x.sounds.Next(x.at.Sub(x.begun), x.sound.Samples(data)))
	x.feed.stream.Sound(x.sound.Frame(nil, data))
}

// hls answers for a playlist or what stands in one.
func (s *Server) hls(w http.ResponseWriter, r *http.Request, p *served, leaf string) {
	name, isName := hls.ParseName(leaf)
	if leaf != "index.m3u8" && leaf != "stream.m3u8" && !isName {
		http.Error(w, "There is nothing of that name.", http.StatusNotFound)
		return
	}
	f := s.feeding(p)
	ctx, done := context.WithTimeout(r.Context(), answerBy)
	defer done()
	if isName {
		data, err := f.named(ctx, name)
		s.send(w, r, "video/mp4", data, err)
		return
	}
	select {
	case <-f.begun:
	case <-ctx.Done():
		s.send(w, r, "", nil, errStarting)
		return
	}
	const playlist = "application/vnd.apple.mpegurl"
	if leaf == "index.m3u8" { // with it each player begins
		s.noteTaken(p, r)
		s.send(w, r, playlist, []byte(f.index()), nil)
		return
	}
	err := f.await(ctx, r)
	s.send(w, r, playlist, []byte(f.stream.Playlist()), err)
}

// index is the playlist that says what the stream consists of (RFC 8216 §4.3.4.2).
func (f *feed) index() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return fmt.Sprintf("#EXTM3U\n#EXT-X-VERSION:9\n#EXT-X-STREAM-INF:BANDWIDTH=%d,CODECS=%q,RESOLUTION=%dx%d\nstream.m3u8\n",
		max(f.stream.Kbps(), 100)*1200, f.codecs, f.width, f.height)
}

// await waits for what a request says that the playlist shall hold, or for the first whole segment: players that know no parts take a
// list without segments for a stream without anything.
func (f *feed) await(ctx context.Context, r *http.Request) error {
	q := r.URL.Query()
	if !q.Has("_HLS_msn") {
		return f.stream.Wait(ctx, 0, -1)
	}
	number, err := strconv.Atoi(q.Get("_HLS_msn"))
	part := -1
	if err == nil && q.Has("_HLS_part") {
		part, err = strconv.Atoi(q.Get("_HLS_part"))
	}
	if err != nil || number < 0 {
		return errQuery
	}
	return f.stream.Wait(ctx, number, part)
}

var errQuery = errors.New("a segment and a part are asked for by their numbers")

// named returns what a name in the playlist stands for.
func (f *feed) named(ctx context.Context, n hls.Name) ([]byte, error) {
	switch {
	case n.Init >= 0:
		return f.stream.Initial(n.Init)
	case n.Part >= 0:
		return f.stream.Part(ctx, n.Segment, n.Part)
	}
	return f.stream.Segment(n.Segment)
}

// send answers with data, or with what an error means.
func (s *Server) send(w http.ResponseWriter, r *http.Request, kind string, data []byte, err error) {
	switch {
	case err == nil:
		w.Header().Set("Content-Type", kind)
		w.Header().Set("Content-Length", strconv.Itoa(len(data)))
		if r.Method != http.MethodHead {
			w.Write(data)
		}
	case errors.Is(err, hls.ErrGone):
		http.Error(w, "That part of the stream is over.", http.StatusNotFound)
	case errors.Is(err, hls.ErrFuture), errors.Is(err, errQuery):
		http.Error(w, err.Error(), http.StatusBadRequest)
	default:
		w.Header().Set("Retry-After", "2")
		http.Error(w, "The stream does not come just now.", http.StatusServiceUnavailable)
	}
}
