package main

import (
	"context"
	"fmt"
	"syscall"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/conversion"
	"unlatch/core/wire/player"
	"unlatch/core/work/convert"
	"unlatch/core/work/fanout"
	"unlatch/sim"
	"unlatch/sim/scene"
)

// convertFor is for how long a conversion is measured.
const convertFor = 20 * time.Second

// convertedYard is one camera of 720p.
const convertedYard = `
name: converted
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Turntable, maker: corvane, model: V4, address: 127.60.7.11, scene: turntable, streams: [{width: 1280, height: 720,
       fps: 25, kbps: 4000, gop: 25, profile: main}]}
`

// childSeconds is the processor time of all children that have ended.
func childSeconds() float64 {
	var u syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_CHILDREN, &u) != nil {
		return 0
	}
	return float64(u.Utime.Nano()+u.Stime.Nano()) / 1e9
}

// converted measures what one conversion takes: 720p to MJPEG of 640x360 at 5 pictures a second. The floor is what this machine was said to
// take for it before.
func converted(ctx context.Context, lib *scene.Library) ([]figure, error) {
	rates, err := convert.Measure(ctx)
	if err != nil {
		return nil, err
	}
	form := conversion.Shape{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5, Sound: "none"}
	source := conversion.Source{Codec: "H.264", Width: 1280, Height: 720, FPS: 25}
	said, _ := rates.Cost(source, form)
	rates.Budget = 8
	var machine convert.Machine
	machine.Set(rates)

	scenario, err := sim.ParseScenario([]byte(convertedYard))
	if err != nil {
		return nil, err
	}
	world, err := sim.Start(ctx, scenario, sim.Options{Media: lib})
	if err != nil {
		return nil, err
	}
	defer world.Stop()
	at, err := streamurl.Parse(world.Device("Turntable").URL(0))
	if err != nil {
		return nil, err
	}
	var hub fanout.Hub
	from, err := hub.Join(ctx, "main", func(ctx context.Context) (*player.Session, error) {
		return player.Open(ctx, player.Request{URL: at, Dial: &address.Guard{Allowed: address.MustParse("127.60.7.0/24")},
			SignIn: signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass-lamp-41")}})
	})
	if err != nil {
		return nil, err
	}
	before, begun := childSeconds(), time.Now()
	session, err := machine.Open(ctx, from, source, form)
	if err != nil {
		return nil, err
	}
	pictures := 0
	err = session.Run(ctx, func(p player.Packet) { pictures++ }, func() bool { return time.Since(begun) > convertFor })
	session.Close()
	if err != nil {
		return nil, err
	}
	span := time.Since(begun).Seconds()
	cores := (childSeconds() - before) / span
	return []figure{{what: fmt.Sprintf("one conversion, 720p at 25 to MJPEG 640x360 at 5 (%.1f pictures a second came out)",
		float64(pictures)/span), got: fmt.Sprintf("%.2f cores", cores), floor: fmt.Sprintf("%.2f cores, said before", said),
		ratio: fmt.Sprintf("%.2f", cores/said), want: "stated"}}, nil
}
