package sim

import (
	"context"
	"encoding/binary"
	"fmt"
	"strings"
	"sync"
	"time"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/media"
	"unlatch/core/wire/onvif"
	"unlatch/core/wire/rtsp"
	"unlatch/sim/puller"
	"unlatch/sim/targets"
)

// How much of a recording is kept: its beginning, and what came last.
const (
	tapeBeginning = 3 * time.Second
	tapeEnd       = 8 * time.Second
	// tapeAge is how much older than it is the beginning of a recording says to be: recorders hold days.
	tapeAge = time.Hour
)

// A tape is what a recorder has recorded of one stream.
type tape struct {
	mu     sync.Mutex
	pull   *puller.Pull
	stop   context.CancelFunc
	oldest []recorded
	newest []recorded
}

// recorded is one packet and when it came.
type recorded struct {
	at     time.Time
	packet []byte
}

// roll has each recording record what its job pulls now; the caller holds mu.
func (r *recorder) roll() {
	for _, j := range r.state.Jobs {
		t := r.tapes[j.Recording]
		if t == nil {
			t = &tape{}
			r.tapes[j.Recording] = t
		}
		if p := r.live[j.Receivers[0]]; p != nil {
			t.record(r.ctx, p)
		}
	}
}

// record goes on with another source.
func (t *tape) record(ctx context.Context, p *puller.Pull) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.pull == p {
		return
	}
	if t.stop != nil {
		t.stop()
	}
	ctx, t.stop = context.WithCancel(ctx)
	t.pull = p
	packets := make(chan []byte, 512)
	p.Watch(packets, true)
	go func() {
		defer p.Watch(packets, false)
		for {
			select {
			case <-ctx.Done():
				return
			case b := <-packets:
				t.add(recorded{time.Now(), b})
			}
		}
	}()
}

func (t *tape) add(x recorded) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.oldest) == 0 || x.at.Sub(t.oldest[0].at) < tapeBeginning {
		t.oldest = append(t.oldest, x)
	}
	t.newest = append(t.newest, x)
	for x.at.Sub(t.newest[0].at) > tapeEnd {
		t.newest = t.newest[1:]
	}
}

// from returns what was recorded from a moment on; the zero moment is before all of it.
func (t *tape) from(at time.Time) (out []recorded, now *puller.Pull) {
	t.mu.Lock()
	defer t.mu.Unlock()
	list := t.newest
	if at.IsZero() {
		list = t.oldest
	}
	for _, x := range list {
		if !x.at.Before(at) {
			out = append(out, x)
		}
	}
	return out, t.pull
}

// span returns the oldest and the newest moment; ok is false where nothing was recorded yet.
func (t *tape) span() (oldest, newest time.Time, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.newest) == 0 {
		return oldest, newest, false
	}
	return t.oldest[0].at.Add(-tapeAge), t.newest[len(t.newest)-1].at, true
}

// spool is the path under which recordings are played, followed by their tokens.
const spool = "/spool/"

// replayService says where a recording can be played.
func (r *recorder) replayService(o operation) (string, *fault) {
	if o.name != "GetReplayUri" {
		return unsupported(o)
	}
	token := o.arg("RecordingToken")
	if _, ok := r.played(token); !ok {
		return "", invalid("ter:NoRecording", "There is no such recording")
	}
	return "<X:Uri>rtsp://" + onvif.Escape(r.d.named(r.d.rtspPort)+spool+token) + "</X:Uri>", nil
}

// searchService says what recordings hold, by the recorder's clock.
func (r *recorder) searchService(o operation) (string, *fault) {
	if o.name != "GetRecordingInformation" {
		return unsupported(o)
	}
	token := o.arg("RecordingToken")
	s, ok := r.played(token)
	if !ok {
		return "", invalid("ter:NoRecording", "There is no such recording")
	}
	oldest, newest := r.d.epoch, time.Now()
	if s, recorded := s.(taped); recorded {
		if oldest, newest, ok = s.t.span(); !ok {
			return "<X:RecordingInformation><T:RecordingToken>" + token + "</T:RecordingToken></X:RecordingInformation>", nil
		}
	}
	ahead := r.d.ahead()
	return fmt.Sprintf("<X:RecordingInformation><T:RecordingToken>%s</T:RecordingToken><T:EarliestRecording>%s</T:EarliestRecording>"+
		"<T:LatestRecording>%s</T:LatestRecording><T:RecordingStatus>Recording</T:RecordingStatus></X:RecordingInformation>", token,
		oldest.Add(ahead).UTC().Format(time.RFC3339Nano), newest.Add(ahead).UTC().Format(time.RFC3339Nano)), nil
}

// played returns the stream as which a recording is played.
func (r *recorder) played(token string) (rtsp.Stream, bool) {
	var own int
	if _, err := fmt.Sscanf(token, "own_%d", &own); err == nil {
		if r.d.Defects.OwnChannels == "mixed" {
			own = own%len(r.d.Channels) + 1
		}
		for _, f := range r.d.sending() {
			if f.channel == own && f.tier == 0 {
				return liveStream{d: r.d, f: f, replayed: true}, true
			}
		}
		return nil, false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	_, there := r.state.Recordings[token]
	t := r.tapes[token]
	return taped{r.d, t}, there && t != nil
}

// replays finds the recording that a path of the device leads to.
func (d *device) replays(path string) (rtsp.Stream, bool) {
	token, ok := strings.CutPrefix(path, spool)
	if !ok || d.recorder == nil || len(d.Channels) == 0 {
		return nil, false
	}
	return d.recorder.played(token)
}

// refusesReplay answers who asks for a recording and does not say so as the standard wants.
func (d *device) refusesReplay(v *rtsp.Viewer, q *rtsp.Request) bool {
	u, err := streamurl.Parse(q.URL)
	if err != nil || d.Defects.Replay != "refuses" || !strings.HasPrefix(u.Target(), spool) {
		return false
	}
	switch q.Method {
	case "DESCRIBE", "SETUP", "PLAY":
		if q.Header.Get("Require") != "onvif-replay" {
			v.Reply(q, 400, "Bad Request")
			return true
		}
	}
	return false
}

// A taped is a recording as it is played.
type taped struct {
	d *device
	t *tape
}

// SDP describes the picture as its source has described it.
func (s taped) SDP() string {
	_, p := s.t.from(time.Now())
	return targets.Describe(p.Track())
}

// Send sends what was recorded from the moment that was asked for, as fast as it is taken, and then what comes: from the oldest picture on
// where nobody asked for another.
func (s taped) Send(ctx context.Context, to *rtsp.Sink) {
	from, asked := rtsp.RangeFrom(to.Asked("Range"))
	if !asked || s.d.Defects.Replay == "oldest" {
		from = time.Time{}
	} else {
		from = from.Add(-s.d.ahead())
	}
	packets := make(chan []byte, 512)
	list, p := s.t.from(from)
	if !from.IsZero() {
		p.Watch(packets, true)
		defer p.Watch(packets, false)
	}
	for _, x := range list {
		if from.IsZero() {
			x.at = x.at.Add(-tapeAge)
		}
		to.RTP(1, s.d.stampRecorded(x))
		if to.Flush() != nil {
			return
		}
	}
	for {
		select {
		case <-ctx.Done():
			return
		case b := <-packets:
			to.RTP(1, s.d.stampRecorded(recorded{time.Now(), b}))
			if to.Flush() != nil {
				return
			}
		}
	}
}

// ahead is by how much the device's clock is ahead of ours.
func (d *device) ahead() time.Duration { return time.Until(d.clock()) }

// stampRecorded adds to a packet when it was recorded, by the device's clock.
func (d *device) stampRecorded(x recorded) []byte {
	const header, extension = 12, 0x10 // RFC 3550 §5.1: the fixed header, and the bit that says that an extension follows
	b := x.packet
	if len(b) < header || b[0]&extension != 0 {
		return b
	}
	profile, body := media.ReplayHeader(x.at.Add(d.ahead()), 0)
	at := min(header+4*int(b[0]&0x0f), len(b))
	out := append(make([]byte, 0, len(b)+4+len(body)), b[:at]...)
	out[0] |= extension
	out = binary.BigEndian.AppendUint16(out, profile)
	out = binary.BigEndian.AppendUint16(out, uint16(len(body)/4))
	return append(append(out, body...), b[at:]...)
}
