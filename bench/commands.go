package main

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
	"unlatch/core/stream/recipe"
	"unlatch/sim/scene"
)

const commandedCameras = 200

const pages = `
name: pages
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Page, maker: corvane, model: V4, address: 127.61.80.10, count: 200, scene: viaduct, caption: "",
       streams: [{width: 320, height: 180, fps: 5, kbps: 150, gop: 5}]}
`

// commanded sends a command to 200 cameras, read back and their streams played again, against one camera alone; and learns one.
func commanded(ctx context.Context, _ *scene.Library) ([]figure, error) {
	r, err := newRig(ctx, pages, "127.61.80.0/24")
	if err != nil {
		return nil, err
	}
	defer r.stop()
	if _, _, err := r.open(ctx, commandedCameras); err != nil {
		return nil, err
	}
	ids, err := r.devices(ctx)
	if err != nil {
		return nil, err
	}
	var c recipe.Command
	for _, b := range recipe.Shipped() {
		if found := recipe.CommandNamed(b.Commands, "Sign-in of the streams"); found != nil {
			c = *found
		}
	}
	send := func(ids []uuid.UUID, method string) (time.Duration, error) {
		return r.carryOut(ctx, command.Work{Kind: "send", Devices: command.Each(ids,
			command.Device{Send: &command.Send{Command: c, Values: map[string]string{"method": method}}})})
	}
	var alone []time.Duration
	for i := range 3 {
		took, err := send(ids[:1], []string{"both", "digest", "both"}[i])
		if err != nil {
			return nil, err
		}
		alone = append(alone, took)
	}
	all, err := send(ids[1:], "both")
	if err != nil {
		return nil, err
	}
	devices, err := r.store.Devices.List(ctx, r.site.ID)
	if err != nil {
		return nil, err
	}
	set := 0
	for _, d := range devices {
		for _, b := range d.Status.Commanded {
			if b.After["method"] == "both" && b.Diagnosis == nil {
				set++
			}
		}
	}
	if set != commandedCameras {
		return nil, fmt.Errorf("%d of %d cameras were set", set, commandedCameras)
	}
	learned := learning()
	return []figure{
		{"Command to 199 cameras, read back, their streams played again", fmt.Sprintf("%.1f s", all.Seconds()),
			fmt.Sprintf("%.1f s for one alone", median(alone).Seconds()), fmt.Sprintf("%.2f", all.Seconds()/median(alone).Seconds()),
			"about the slowest, not the sum"},
		{"Command learned from two exchanges", ms(learned), "", "", bound{"under 50 ms", learned < 50*time.Millisecond}},
	}, nil
}

// learning returns how long it takes to learn a command from two exchanges with pages of 60 kB.
func learning() time.Duration {
	page := func(value string) string {
		text := "<html>"
		for i := range 2000 {
			text += fmt.Sprintf("<p>setting %d: %d</p>\n", i, i)
		}
		return text + "signing=" + value + ";"
	}
	l := recipe.Lesson{PagePath: "/page",
		First:  recipe.Example{Request: "POST /setup HTTP/1.1\n\nsigning=digest&keep=1", Page: page("digest")},
		Second: recipe.Example{Request: "POST /setup HTTP/1.1\n\nsigning=basic&keep=1", Page: page("basic")}}
	var all []time.Duration
	for range 15 {
		began := time.Now()
		l.Learn()
		all = append(all, time.Since(began))
	}
	return median(all)
}
