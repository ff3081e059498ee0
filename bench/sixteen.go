package main

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/viabridge"
	"unlatch/jobs"
	"unlatch/sim/scene"
	"unlatch/store"
)

const channels = 16

// sixteen goes from one damaged URL of a recorder to its sixteen channels on three targets, confirmed. What a person does for that is
// counted: each act is one.
func sixteen(ctx context.Context, _ *scene.Library) ([]figure, error) {
	scenario := `
name: sixteen
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Vault, kind: recorder, maker: holloway, model: Sixteen, address: 127.62.18.20, announces: [], channels: [`
	for n := range channels {
		scenario += fmt.Sprintf("{name: Channel %d, address: 10.254.4.%d, scene: %s, streams: [{width: 320, height: 180, fps: 5, kbps: 150, "+
			"gop: 5, profile: baseline}, {width: 160, height: 90, fps: 5, kbps: 60, gop: 5, profile: baseline}]},\n    ", n+1, 11+n,
			[]string{"turntable", "footbridge", "viaduct", "coal-stage"}[n%4])
	}
	scenario += "]}\ntargets:\n"
	for i, kind := range []string{"hybrid", "software", "hybrid"} {
		scenario += fmt.Sprintf("  - {name: Target %d, kind: %s, address: 127.62.18.%d, port: 8081, user: desk, secret: bench, slots: 20}\n", i+1,
			kind, 201+i)
	}
	r, err := newRig(ctx, scenario, "127.62.18.0/25")
	if err != nil {
		return nil, err
	}
	defer r.stop()
	person, err := r.store.People.CreateFirst(ctx, "bench", "x")
	if err != nil {
		return nil, err
	}
	acts := 0
	do := func(a act.Act) error {
		acts++
		done, err := jobs.Desk{Store: r.store, Queue: r.queue}.Do(ctx, person, a)
		if err != nil || done.Run == nil {
			return err
		}
		return finished(ctx, r.store, *done.Run)
	}
	began := time.Now()
	repaired := streamurl.Repair("“http://rtsp://fitter:bench@[127.62.18.20]:80\\strongroom\\3\\0”")
	if !repaired.OK {
		return nil, fmt.Errorf("the URL was not repaired: %s", repaired.Problem)
	}
	u := repaired.URL
	key := act.NewSignIns{{ID: uuid.Must(uuid.NewV7()), Label: "of the pasted URL", User: u.SignIn.User, Secret: u.SignIn.Secret}}
	paste := act.Paste{Site: r.site.ID, Host: u.Host, New: &key, Paste: command.Paste{Shape: "/strongroom/{channel}/{stream-1}",
		Recipe: "Holloway recorders", Channels: channels, SignIn: key[0].ID}}
	u.SignIn = signin.SignIn{}
	paste.Paste.URL = u.String()
	if err := do(paste); err != nil {
		return nil, err
	}
	proven := time.Since(began)
	devices, err := r.channels(ctx)
	if err != nil {
		return nil, err
	}
	place := act.Place{Site: r.site.ID}
	for i := range 3 {
		id := uuid.Must(uuid.NewV7())
		if err := do(act.AddTarget{Site: r.site.ID, ID: id, Agree: []target.Secret{target.OwnSignIn, target.CameraSignIn},
			TargetForm: act.TargetForm{Kind: viabridge.Kind, Name: fmt.Sprintf("Target %d", i+1), User: "desk", Secret: signin.NewSecret("bench"),
				Address: fmt.Sprintf("http://127.62.18.%d:8081", 201+i)}}); err != nil {
			return nil, err
		}
		for _, d := range devices {
			place.Placements = append(place.Placements, act.Placement{Device: d.ID, Target: id})
		}
	}
	if err := do(place); err != nil {
		return nil, err
	}
	confirmed, err := r.confirmed(ctx, channels*3)
	took := time.Since(began)
	return []figure{
		{"16 channels from one damaged URL, proven", fmt.Sprintf("%.1f s", proven.Seconds()), "", "", "stated"},
		{fmt.Sprintf("The same onto three targets, confirmed; %d of %d", confirmed, channels*3), fmt.Sprintf("%.1f s", took.Seconds()), "", "",
			"under 60 s"},
		{"The same: acts of a person", fmt.Sprint(acts), "", "", "under 8"},
	}, err
}

// channels returns the devices behind recorders.
func (r *rig) channels(ctx context.Context) (out []store.Device, err error) {
	all, err := r.store.Devices.List(ctx, r.site.ID)
	for _, d := range all {
		if d.Via != nil {
			out = append(out, d)
		}
	}
	return out, err
}

// confirmed waits until n placements are confirmed, or until nothing more comes, and returns how many are.
func (r *rig) confirmed(ctx context.Context, n int) (got int, err error) {
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		devices, err := r.channels(ctx)
		if err != nil {
			return 0, err
		}
		got = 0
		for _, d := range devices {
			for _, p := range d.Status.Placements {
				if p.Confirmed {
					got++
				}
			}
		}
		if got >= n {
			break
		}
	}
	return got, nil
}
