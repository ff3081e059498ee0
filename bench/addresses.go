package main

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"unlatch/core/decide/command"
	"unlatch/core/stream/camera"
	"unlatch/sim/scene"
)

// slowest is how long the slowest of the fifty stays away when it restarts.
const slowest = 12 * time.Second

const fifty = `
name: fifty
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Quick, maker: lumenhythe, model: L2, address: 127.61.4.10, count: 49, scene: viaduct, caption: "",
       streams: [&s {width: 320, height: 180, fps: 5, kbps: 150, gop: 5}], defects: {restart_seconds: 3}}
  - {name: Slow, maker: lumenhythe, model: L2, address: 127.61.4.90, scene: viaduct, caption: "", streams: [*s],
       defects: {restart_seconds: 12}}
`

// fiftyAddresses applies an address plan to fifty devices that all restart.
func fiftyAddresses(ctx context.Context, _ *scene.Library) ([]figure, error) {
	r, err := newRig(ctx, fifty, "127.61.4.0/24")
	if err != nil {
		return nil, err
	}
	defer r.stop()
	if _, _, err := r.open(ctx, 50); err != nil {
		return nil, err
	}
	devices, err := r.store.Devices.List(ctx, r.site.ID)
	if err != nil {
		return nil, err
	}
	plan := command.Work{Kind: "address"}
	to := netip.MustParseAddr("127.61.4.150")
	for i := range devices {
		if devices[i].Status.Device.Stray {
			continue
		}
		setting := camera.Network{Addr: to, Bits: 24}
		plan.Devices = append(plan.Devices, command.OnDevice{Device: devices[i].ID, Do: command.Device{Address: &setting}})
		to = to.Next()
	}
	plan.Steps = 2 * int64(plan.Len())
	took, err := r.carryOut(ctx, plan)
	if err != nil {
		return nil, err
	}
	if devices, err = r.store.Devices.List(ctx, r.site.ID); err != nil {
		return nil, err
	}
	moved := 0
	var most time.Duration
	for i := range devices {
		if a := devices[i].Status.Addressed; a != nil && a.Diagnosis == nil {
			moved++
			var one time.Duration
			for _, st := range a.Steps {
				one += time.Duration(st.MS * float64(time.Millisecond))
			}
			most = max(most, one)
		}
	}
	if moved != 50 {
		return nil, fmt.Errorf("%d of 50 devices were moved", moved)
	}
	return []figure{{"Address plan for 50 devices that restart, 64 at once, opened anew included", fmt.Sprintf("%.1f s", took.Seconds()),
		fmt.Sprintf("%.1f s for the slowest device, away for %s", most.Seconds(), slowest), fmt.Sprintf("%.2f",
			took.Seconds()/most.Seconds()), "about the slowest, not the sum"}}, nil
}
