package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/work/prove"
	"unlatch/sim"
	"unlatch/sim/scene"
)

const oneCamera = `
name: bench
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Camera, maker: corvane, model: V4, address: 127.61.0.1, scene: viaduct, streams: [{width: 1280, height: 720, fps: 15,
       kbps: 2000, gop: 15}]}
`

// proveTime measures the time from a URL to the proof's first key frame against the wait for that key frame: what is over the wait
// is what proving itself costs.
func proveTime(ctx context.Context, lib *scene.Library) ([]figure, error) {
	s, err := sim.ParseScenario([]byte(oneCamera))
	if err != nil {
		return nil, err
	}
	w, err := sim.Start(ctx, s, sim.Options{Media: lib})
	if err != nil {
		return nil, err
	}
	defer w.Stop()
	cam := w.Device("Camera")
	u, err := streamurl.Parse(cam.URL(0))
	if err != nil {
		return nil, err
	}
	trip, err := roundTrip(cam.RTSP())
	if err != nil {
		return nil, err
	}
	p := prove.Prover{Dial: &address.Guard{Allowed: address.MustParse("127.61.0.0/24")}}
	var took, waits, over []time.Duration
	within := 0
	const runs = 25
	for range runs {
		time.Sleep(rand.N(time.Second)) // anywhere in the key-frame interval
		began := time.Now()
		proof := p.Prove(ctx, prove.Request{URL: u, SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("bench")},
			Measure: 100 * time.Millisecond})
		if !proof.OK {
			return nil, fmt.Errorf("%+v", proof.Diagnosis)
		}
		// Six round trips come first; the key frame after them is the one to be had.
		wait := cam.NextKeyframe(0, began.Add(6*trip)).Sub(began)
		got := time.Duration(proof.FirstKeyframeMS * float64(time.Millisecond))
		took, waits, over = append(took, got), append(waits, wait), append(over, got-wait)
		if got <= wait+6*trip+30*time.Millisecond {
			within++
		}
	}
	return []figure{
		{"Prove: from URL to the first key frame", ms(median(took)), ms(median(waits)) + " wait for that key frame",
			fmt.Sprintf("%.2f", float64(median(took))/float64(median(waits))), ""},
		{"Prove: what comes on top of the wait", ms(median(over)), ms(6*trip) + " for 6 bare round trips",
			fmt.Sprintf("%d of %d within", within, runs), bound{"at most 6 round trips + 30 ms", within == runs}},
	}, nil
}

// roundTrip returns the median of bare TCP exchanges with the camera's own port: one small message there, one back.
func roundTrip(addr string) (time.Duration, error) {
	var all []time.Duration
	c, err := net.Dial("tcp", addr)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	buf := make([]byte, 2048)
	for range 51 {
		began := time.Now()
		if _, err := c.Write([]byte("OPTIONS * RTSP/1.0\r\nCSeq: 1\r\n\r\n")); err != nil {
			return 0, err
		}
		if _, err := c.Read(buf); err != nil {
			return 0, err
		}
		all = append(all, time.Since(began))
	}
	return median(all), nil
}
