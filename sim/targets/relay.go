package targets

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"unlatch/core/ground/httpauth"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/media"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/rtsp"
	"unlatch/sim/puller"
)

// sendOn opens the port on which a recorder sends its slots on.
func (b *Bridge) sendOn() error {
	l, err := listen(b.t, b.t.Streams)
	if err != nil {
		return err
	}
	b.relay = &rtsp.Server{Name: b.t.Maker, Handler: sending{b}}
	go b.relay.Serve(b.ctx, l)
	return nil
}

// sent returns where the streams of a slot can be had.
func (b *Bridge) sent(s *slot) (out []bridge.Stream) {
	for _, role := range []string{"main", "sub"} {
		if p := s.pulls[role]; p != nil {
			out = append(out, bridge.Stream{Role: role, URL: fmt.Sprintf("rtsp://%s/out/%s/%s", b.t.hostPort(b.t.Streams), s.ID, role)})
		}
	}
	return out
}

// sending is the RTSP side of a recorder.
type sending struct{ b *Bridge }

// Request implements rtsp.Handler.
func (h sending) Request(v *rtsp.Viewer, q *rtsp.Request) bool {
	if q.Method == "OPTIONS" || h.b.t.User == "" {
		return false
	}
	line := fmt.Sprintf(`Digest realm="recorder", nonce="%s", qop="auth", algorithm=MD5`, h.b.nonce)
	c := httpauth.ParseChallenges([]string{line})[0]
	if _, ok := httpauth.Check(q.Header.Get("Authorization"), c, q.Method, func(user string) (string, bool) {
		return h.b.t.Secret.Reveal(), user == h.b.t.User
	}); ok {
		return false
	}
	v.Reply(q, 401, "Unauthorized", rtsp.Field{Name: "WWW-Authenticate", Value: line})
	return true
}

// Stream implements rtsp.Handler.
func (h sending) Stream(at string) (rtsp.Stream, int, bool) {
	u, err := streamurl.Parse(at)
	if err != nil {
		return nil, 0, false
	}
	path := strings.TrimSuffix(strings.TrimSuffix(u.Target(), "/track1"), "/")
	parts := strings.Split(strings.TrimPrefix(path, "/out/"), "/")
	if len(parts) != 2 {
		return nil, 0, false
	}
	h.b.mu.Lock()
	defer h.b.mu.Unlock()
	s := h.b.slot(parts[0])
	if s == nil || s.pulls[parts[1]] == nil {
		return nil, 0, false
	}
	if state, _ := s.pulls[parts[1]].State(); state != puller.Connected {
		return nil, 0, false
	}
	return Relay{s.pulls[parts[1]]}, 1, true
}

// A Relay is what is sent on of a pull: the packets as they arrive, whatever the source was set to meanwhile.
type Relay struct{ P *puller.Pull }

// SDP describes the picture as the source has described it.
func (r Relay) SDP() string { return Describe(r.P.Track()) }

// Describe returns a description of one video track.
func Describe(t media.Track) string {
	var b strings.Builder
	fmt.Fprintf(&b, "v=0\r\no=- 1 1 IN IP4 0.0.0.0\r\ns=relay\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\nm=video 0 RTP/AVP %d\r\n",
		t.Payload)
	fmt.Fprintf(&b, "a=rtpmap:%d %s/%d\r\n", t.Payload, t.Codec, max(t.ClockRate, 8000))
	if len(t.Fmtp) > 0 {
		var parts []string
		for _, k := range sortedKeys(t.Fmtp) {
			parts = append(parts, k+"="+t.Fmtp[k])
		}
		fmt.Fprintf(&b, "a=fmtp:%d %s\r\n", t.Payload, strings.Join(parts, "; "))
	}
	return b.String() + "a=control:track1\r\n"
}

// Send sends on what arrives from now on.
func (r Relay) Send(ctx context.Context, to *rtsp.Sink) {
	packets := make(chan []byte, 512)
	r.P.Watch(packets, true)
	defer r.P.Watch(packets, false)
	for {
		select {
		case <-ctx.Done():
			return
		case b := <-packets:
			to.RTP(1, b)
			if to.Flush() != nil {
				return
			}
		}
	}
}

func sortedKeys(m map[string]string) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
