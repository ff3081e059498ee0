//go:build linux

package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/sim/netns"
	"unlatch/sim/scene"
)

const silentRange = "198.18.0.0/22"

// silent sweeps a range whose packets are all lost, in a network of its own, against the least that waiting for it can take.
func silent(context.Context, *scene.Library) ([]figure, error) {
	var times []time.Duration
	for range 3 {
		out, err := netns.Again("silent")
		if err != nil {
			return nil, fmt.Errorf("%w: %s", err, out)
		}
		var took time.Duration
		if err := json.Unmarshal(out, &took); err != nil {
			return nil, fmt.Errorf("%w: %s", err, out)
		}
		times = append(times, took)
	}
	pairs := int(address.MustParse(silentRange).Count()) * len(discovery.DefaultPorts)
	floor := time.Duration(pairs) * discovery.ConnectTimeout / discovery.ConnectWindow
	got := median(times)
	return []figure{{fmt.Sprintf("Sweep of a silent /22, 5 ports (%d pairs, %d at once, %s each)", pairs, discovery.ConnectWindow,
		discovery.ConnectTimeout),
		ms(got), ms(floor) + " pairs × timeout / window", fmt.Sprintf("%.2f", float64(got)/float64(floor)), atMost(1.2,
			float64(got)/float64(floor), "")}}, nil
}

// silentInside is the part that runs in the network of its own.
func silentInside(ctx context.Context) error {
	if err := netns.Wire("198.18.3.254/22"); err != nil {
		return err
	}
	began := time.Now()
	s := discovery.Sweep{Ranges: address.MustParse(silentRange), Ports: discovery.DefaultPorts, Interfaces: []string{}}
	if err := s.Run(ctx, func(sighting.Sighting) {}); err != nil {
		return err
	}
	return json.NewEncoder(os.Stdout).Encode(time.Since(began))
}
