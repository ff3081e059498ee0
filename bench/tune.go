package main

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/decide/fit"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/capacity"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/tuning"
	"unlatch/sim/scene"
	"unlatch/store"
)

const tunedCameras = 100

// tuned sets main and sub of 100 cameras, reads them back and measures them, and compares with one camera alone. What one takes alone is
// the floor: a wait for its encoder to settle, and two streams that are measured for a while.
func tuned(ctx context.Context, _ *scene.Library) ([]figure, error) {
	r, err := newRig(ctx, hundreds(tunedCameras, "127.62.16.10", "127.62.16.110"), "127.62.16.0/24")
	if err != nil {
		return nil, err
	}
	defer r.stop()
	if _, _, err := r.open(ctx, tunedCameras); err != nil {
		return nil, err
	}
	plan := func(main, sub string) (p tuning.Plan, err error) {
		return tuning.ParsePlan(map[string]string{"main": main, "sub": sub})
	}
	first, err := plan("640x360,12fps,800kbps,gop12", "160x90,5fps,80kbps,gop5")
	if err != nil {
		return nil, err
	}
	second, err := plan("1280x720,15fps,2000kbps,gop15", "320x180,5fps,150kbps,gop5")
	if err != nil {
		return nil, err
	}
	ids, err := r.devices(ctx)
	if err != nil {
		return nil, err
	}
	set := func(ids []uuid.UUID, p tuning.Plan) (time.Duration, error) {
		return r.carryOut(ctx, command.Work{Kind: "tune", Devices: command.Each(ids, command.Device{Tune: &command.Tune{Plan: p}})})
	}
	// The stand-ins' new pictures are encoded once, by the first of each maker.
	for _, p := range []tuning.Plan{first, second} {
		if _, err := set([]uuid.UUID{ids[0], ids[len(ids)-1]}, p); err != nil {
			return nil, err
		}
	}
	var alone []time.Duration
	for _, p := range []tuning.Plan{first, second, first} {
		took, err := set(ids[:1], p)
		if err != nil {
			return nil, err
		}
		alone = append(alone, took)
	}
	took, err := set(ids, first)
	if err != nil {
		return nil, err
	}
	devices, err := r.store.Devices.List(ctx, r.site.ID)
	if err != nil {
		return nil, err
	}
	open := 0
	for i := range devices {
		if devices[i].Status.Latch(latch.Tuned).State == latch.Open {
			open++
		}
	}
	slowest, err := slowestJob(ctx, r.store)
	if err != nil {
		return nil, err
	}
	ms := func(d time.Duration) string { return fmt.Sprintf("%.1f s", d.Seconds()) }
	return []figure{
		{fmt.Sprintf("%d cameras, main and sub set, read back and measured", tunedCameras), ms(took), ms(slowest) + " the slowest of them",
			fmt.Sprintf("%.2f", took.Seconds()/slowest.Seconds()), atMost(1.5, took.Seconds()/slowest.Seconds(), "")},
		{"The same against one camera alone", ms(took), ms(median(alone)) + " alone", fmt.Sprintf("%.1f", took.Seconds()/median(alone).Seconds()),
			"stated"},
		{"The same: cameras whose measures meet the plan", fmt.Sprintf("%d of %d", open, tunedCameras), "", "",
			bound{"all", open == tunedCameras}},
	}, nil
}

// slowestJob returns how long the longest job of the newest run was worked on.
func slowestJob(ctx context.Context, s *store.Store) (d time.Duration, err error) {
	var seconds float64
	err = s.Pool.QueryRow(ctx,
		`SELECT max(extract(epoch FROM finalized_at - attempted_at)) FROM river_job WHERE args->>'run' =
		(SELECT id::text FROM runs WHERE kind = 'tune' ORDER BY created_at DESC LIMIT 1)`).Scan(&seconds)
	return time.Duration(seconds * float64(time.Second)), err
}

// reckoning measures the pure parts: plans and fits of 2,000 cameras, the nearest plan, and what they cost.
func reckoning(context.Context, *scene.Library) ([]figure, error) {
	const cameras = 2000
	offers := tuning.Offers{}
	for _, role := range []string{"main", "sub"} {
		e := tuning.Encoder{Codec: "H.264", Width: 1920, Height: 1080, FPS: 25, Kbps: 4000, GOPFrames: 50}
		if role == "sub" {
			e.Width, e.Height, e.Kbps = 640, 360, 600
		}
		var o tuning.CodecOptions
		for _, s := range [][2]int{{2592, 1944}, {1920, 1080}, {1280, 720}, {640, 360}, {320, 180}} {
			o.Sizes = append(o.Sizes, tuning.Size{Width: s[0], Height: s[1]})
		}
		o.Codec, o.FPS, o.Kbps, o.GOP = "H.264", []float64{5, 10, 12, 15, 25}, tuning.Span{Min: 32, Max: 16000}, tuning.Span{Min: 1, Max: 250}
		offers.Streams = append(offers.Streams, tuning.Offer{Role: role, Encoder: e, Options: tuning.Options{Codecs: []tuning.CodecOptions{o}}})
	}
	plan, err := tuning.ParsePlan(map[string]string{"main": "h264,1280x720,14fps,2000kbps,gop2s", "sub": "h264,640x360,10fps,512kbps,gop1s"})
	if err != nil {
		return nil, err
	}
	targets := intake.Shipped().Intakes
	targets = targets[len(targets)-6:]
	streams := map[string]fit.Stream{"main": {Role: "main", Codec: "H.264", Width: 1920, Height: 1080, FPS: 25, Kbps: 4000, GOPSeconds: 2},
		"sub": {Role: "sub", Codec: "H.264", Width: 640, Height: 360, FPS: 25, Kbps: 600, GOPSeconds: 2}}
	var planned, nearest, costs []time.Duration
	sources := make([]capacity.Source, 0, 2*cameras)
	for range cameras {
		sources = append(sources, capacity.Source{Role: "main", Kbps: 4000, MostKbps: 4600, Pixels: 5e7, Measured: true},
			capacity.Source{Role: "sub", Kbps: 600, Pixels: 5e6})
	}
	r := capacity.Recording{Disks: capacity.Disks{Count: 24, SizeBytes: 16e12, Layout: capacity.DoubleParity}, Records: "both"}
	for range 15 {
		began := time.Now()
		for range cameras {
			p := tuning.Look(plan, offers, tuning.Budget{})
			fit.Effects(streams, p.Wanted(offers), targets)
		}
		planned = append(planned, time.Since(began))
		began = time.Now()
		fit.NearestPlan(streams, targets)
		nearest = append(nearest, time.Since(began))
		began = time.Now()
		c, err := r.CostOf(sources)
		if err != nil {
			return nil, err
		}
		r.Curve(sources, c)
		if _, err := r.KbpsFor(30, sources, false); err != nil {
			return nil, err
		}
		costs = append(costs, time.Since(began))
	}
	copied := bareCopies(sources)
	ratio := func(d time.Duration) string { return fmt.Sprintf("%.0f", float64(d)/float64(copied)) }
	ms := func(d time.Duration) string { return fmt.Sprintf("%.3f ms", float64(d)/1e6) }
	floor := ms(copied) + " a copy of 4,000 sources"
	return []figure{
		// This runs once for each answer to a page. Under 100 ms nobody notices it; the rest is for the database and the way.
		{"2,000 cameras: plans weighed and fitted against 6 targets", ms(median(planned)), floor, ratio(median(planned)),
			under(60, msOf(median(planned)), " ms")},
		{"The nearest plan for 6 intakes", ms(median(nearest)), floor, ratio(median(nearest)), under(5, msOf(median(nearest)), " ms")},
		{"2,000 cameras: days, load, the curve and 30 days backwards", ms(median(costs)), floor, ratio(median(costs)),
			under(50, msOf(median(costs)), " ms")},
	}, nil
}

// bareCopies returns how long it takes to copy the sources once.
func bareCopies(list []capacity.Source) time.Duration {
	into := make([]capacity.Source, len(list))
	var took []time.Duration
	for range 101 {
		began := time.Now()
		copy(into, list)
		took = append(took, time.Since(began))
	}
	return max(median(took), 1)
}
