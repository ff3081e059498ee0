package main

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/recipe"
	"unlatch/core/wire/pathprobe"
	"unlatch/core/wire/rtsp"
	"unlatch/sim"
	"unlatch/sim/scene"
)

// recipes measures the language of URL shapes: expanding, inverting, learning.
func recipes(context.Context, *scene.Library) ([]figure, error) {
	t := recipe.MustParse("/lantern/{channel*8+stream}?glow=live")
	path, err := t.Expand(recipe.Values{Channel: 12, Stream: 2})
	if err != nil {
		return nil, err
	}
	three := []string{"/lantern/9?glow=live", "/lantern/17?glow=live", "/lantern/10?glow=live"}
	rate := func(n int, do func()) float64 {
		var all []float64
		for range 5 {
			began := time.Now()
			for range n {
				do()
			}
			all = append(all, float64(n)/time.Since(began).Seconds())
		}
		return median(all)
	}
	floor := rate(200000, func() { strings.Clone(path) })
	expand := rate(200000, func() { t.Expand(recipe.Values{Channel: 12, Stream: 2}) })
	invert := rate(20000, func() { t.Invert(path) })
	learn := time.Duration(float64(time.Second) / rate(100, func() { recipe.Learn(three) }))
	per := func(f float64) string { return fmt.Sprintf("%.0f a second", f) }
	return []figure{
		{"Recipe: expansions", per(expand), per(floor) + " copies of the path", fmt.Sprintf("%.0f", floor/expand), "stated"},
		{"Recipe: inversions of a number made of channel and stream", per(invert), per(floor) + " copies of the path",
			fmt.Sprintf("%.0f", floor/invert), "stated"},
		{"Recipe: learning from 3 URLs", ms(learn), "", "", under(10, msOf(learn), " ms")},
	}, nil
}

const lonely = `
name: lonely
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Mute, maker: ostrel, model: O1, address: 127.61.6.11, scene: viaduct, caption: "", streams: [{width: 320, height: 180,
       fps: 5, kbps: 150, gop: 5}]}
`

// candidates is how many paths are tried before the right one.
const candidates = 200

// likelyPaths finds the right one of 200 paths, against as many bare RTSP exchanges over one connection.
func likelyPaths(ctx context.Context, media *scene.Library) ([]figure, error) {
	s, err := sim.ParseScenario([]byte(lonely))
	if err != nil {
		return nil, err
	}
	w, err := sim.Start(ctx, s, sim.Options{Media: media})
	if err != nil {
		return nil, err
	}
	defer w.Stop()
	u, err := streamurl.Parse("rtsp://" + w.Device("Mute").RTSP())
	if err != nil {
		return nil, err
	}
	likely := make([]pathprobe.Candidate, candidates)
	for i := range likely {
		likely[i] = pathprobe.Candidate{Path: fmt.Sprintf("/guess/%d", i), Recipe: fmt.Sprint("guess ", i)}
	}
	likely[candidates-1] = pathprobe.Candidate{Path: "/orrery/crown", Recipe: "right"}
	in := signin.SignIn{User: "fitter", Secret: signin.NewSecret("bench")}
	var climbed, bare []time.Duration
	for range 41 { // one takes a few milliseconds: many give a median that another program does not move
		took, err := bareExchanges(u.HostPort(), candidates)
		if err != nil {
			return nil, err
		}
		bare = append(bare, took)
		c := pathprobe.Finder{Dial: &address.Guard{Allowed: address.MustParse("127.61.6.0/24")}, At: u,
			Leave: signin.Policy{Agreed: signin.InClear}.Leave}
		server, err := c.Ask(ctx)
		if err != nil {
			return nil, err
		}
		if err := c.SignIn(ctx, in, ""); err != nil {
			return nil, err
		}
		began := time.Now()
		found, tried, err := c.Find(ctx, server, in, likely)
		climbed = append(climbed, time.Since(began))
		c.Close()
		if err != nil || len(found) != 1 || len(tried) != candidates {
			return nil, fmt.Errorf("%d found of %d tried: %v", len(found), len(tried), err)
		}
	}
	// The bare exchange neither parses an answer nor keeps the conversation; both are wanted, and take a third of its time on loopback.
	got, floor := median(climbed), median(bare)
	return []figure{{fmt.Sprintf("Likely paths: the right one of %d paths, one DESCRIBE each", candidates), ms(got),
		ms(floor) + " bare exchanges", fmt.Sprintf("%.2f", float64(got)/float64(floor)), atMost(1.4, float64(got)/float64(floor), "")}}, nil
}

// bareExchanges sends DESCRIBE requests of the same size that are refused for want of a sign-in, and reads the answers, and does
// nothing else.
func bareExchanges(hostport string, n int) (time.Duration, error) {
	conn, err := net.Dial("tcp", hostport)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	r := bufio.NewReader(conn)
	began := time.Now()
	for i := range n {
		fmt.Fprintf(conn, "DESCRIBE rtsp://%s/guess/%d RTSP/1.0\r\nCSeq: %d\r\nAccept: application/sdp\r\nAuthorization: Basic "+
			"Zml0dGVyOmJlbmNo\r\n\r\n", hostport, i, i+1)
		if _, err := rtsp.ReadResponse(r); err != nil {
			return 0, err
		}
	}
	return time.Since(began), nil
}
