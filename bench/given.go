package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/media"
	"unlatch/core/stream/mpegts"
	"unlatch/core/work/prove"
	"unlatch/sim/scene"
	"unlatch/sim/transport"
)

// givenStreams measures streams that are not RTSP: the meter of transport streams against a copy of the same bytes, and the time from a URL
// to the first key frame against the wait for it.
func givenStreams(ctx context.Context, lib *scene.Library) ([]figure, error) {
	clip, err := lib.Clip(ctx, scene.Format{Scene: "viaduct", Caption: "bench", Width: 1280, Height: 720, FPS: 15, Kbps: 4000, GOP: 15,
		Profile: "main"})
	if err != nil {
		return nil, err
	}
	metered, err := meterTransport(clip)
	if err != nil {
		return nil, err
	}
	ts, err := firstOfTransport(ctx, clip)
	if err != nil {
		return nil, err
	}
	pictures, err := firstOfHTTP(ctx, clip)
	return []figure{metered, ts, pictures}, err
}

// meterTransport takes a transport stream apart and measures its picture, on one core.
func meterTransport(clip *scene.Clip) (figure, error) {
	raw := transport.Bytes(clip, 4)
	var got, copied []float64
	into := make([]byte, 1316)
	for range 7 {
		e, _ := media.NewElementary("H264")
		track, _ := e.Track()
		m := media.NewMeter(track)
		d := mpegts.Demuxer{}
		d.Each = func(u mpegts.Unit) {
			e.Unit(u.Data, u.PTS, u.HasPTS, u.Damaged, func(b []byte) { m.Packet(b, u.At) })
		}
		at := time.Now()
		began := time.Now()
		for b := raw; len(b) >= len(into); b = b[len(into):] {
			d.Datagram(b[:len(into)], at)
		}
		got = append(got, gbits(len(raw), time.Since(began)))
		began = time.Now()
		for b := raw; len(b) >= len(into); b = b[len(into):] {
			copy(into, b)
		}
		copied = append(copied, gbits(len(raw), time.Since(began)))
		if m.Measured().Keyframes == 0 || m.Measured().Lost > 0 {
			return figure{}, fmt.Errorf("the meter saw %+v", m.Measured())
		}
	}
	ratio := median(got) / median(copied)
	return figure{"Meter: a transport stream of H.264 taken apart and measured, one core", fmt.Sprintf("%.1f Gbit/s", median(got)),
		fmt.Sprintf("%.1f Gbit/s copied", median(copied)), fmt.Sprintf("%.2f", ratio), bound{"over 1/4 of a copy", ratio > .25}}, nil
}

// moments are when key frames went out.
type moments struct {
	mu   sync.Mutex
	list []time.Time
}

func (m *moments) add(at time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.list = append(m.list, at)
}

// after returns the first moment after another.
func (m *moments) after(t time.Time) (time.Time, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, at := range m.list {
		if at.After(t) {
			return at, true
		}
	}
	return t, false
}

// overWait proves a URL again and again and returns what comes on top of the wait for the next key frame.
func overWait(ctx context.Context, url, what string, keys *moments) (figure, error) {
	u, err := streamurl.Parse(url)
	if err != nil {
		return figure{}, err
	}
	p := prove.Prover{Dial: &address.Guard{Allowed: address.MustParse("127.61.70.0/24")}}
	var over, waits []time.Duration
	for range 15 {
		time.Sleep(rand.N(time.Second)) // anywhere in the key-frame interval
		began := time.Now()
		proof := p.Prove(ctx, prove.Request{URL: u, Measure: 100 * time.Millisecond})
		if !proof.OK {
			return figure{}, fmt.Errorf("%+v", proof.Diagnosis)
		}
		at, ok := keys.after(began)
		if !ok {
			return figure{}, fmt.Errorf("no key frame went out")
		}
		wait := at.Sub(began)
		waits = append(waits, wait)
		over = append(over, time.Duration(proof.FirstKeyframeMS*float64(time.Millisecond))-wait)
	}
	on := median(over)
	return figure{"Prove: " + what + ", from URL to the first key frame, on top of the wait for it", ms(on), ms(median(waits)) + " wait",
		"", bound{"at most 10 ms", on <= 10*time.Millisecond}}, nil
}

func firstOfTransport(ctx context.Context, clip *scene.Clip) (figure, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	keys := &moments{}
	go transport.Send(ctx, transport.Options{Clip: clip, From: netip.MustParseAddr("127.61.70.1"),
		To: netip.MustParseAddrPort("239.61.70.1:20000"), Key: keys.add})
	return overWait(ctx, "udp://@239.61.70.1:20000", "a transport stream to a group", keys)
}

// firstOfHTTP serves motion JPEG whose pictures come once a second, so that there is something to wait for.
func firstOfHTTP(ctx context.Context, clip *scene.Clip) (figure, error) {
	var annexB []byte
	for _, nal := range append([][]byte{clip.SPS, clip.PPS}, clip.Frames[0].NALs...) {
		annexB = append(append(annexB, 0, 0, 0, 1), nal...)
	}
	picture, err := media.Still(ctx, media.Keyframe{Decoder: "h264", Data: annexB})
	if err != nil {
		return figure{}, err
	}
	keys := &moments{}
	l, err := net.Listen("tcp4", "127.61.70.2:0")
	if err != nil {
		return figure{}, err
	}
	epoch := time.Now()
	s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "multipart/x-mixed-replace; boundary=cut")
		w.WriteHeader(http.StatusOK)
		http.NewResponseController(w).Flush()
		for r.Context().Err() == nil {
			time.Sleep(time.Second - time.Since(epoch)%time.Second)
			fmt.Fprintf(w, "--cut\r\nContent-Type: image/jpeg\r\nContent-Length: %s\r\n\r\n", strconv.Itoa(len(picture)))
			w.Write(picture)
			if http.NewResponseController(w).Flush() != nil {
				return
			}
			keys.add(time.Now())
		}
	})}
	go s.Serve(l)
	defer s.Close()
	return overWait(ctx, "http://"+l.Addr().String()+"/", "motion JPEG by HTTP", keys)
}
