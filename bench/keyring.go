package main

import (
	"context"
	"fmt"
	"strings"

	"unlatch/core/ground/signin"
	"unlatch/sim/scene"
)

// fiveKinds is 200 cameras of five kinds, each of which takes another sign-in.
func fiveKinds() string {
	var b strings.Builder
	b.WriteString("name: kinds\ndevices:\n")
	for i := range 5 {
		fmt.Fprintf(&b, "  - {name: Kind %d, maker: corvane, model: V%d, address: 127.62.%d.10, count: 40, scene: viaduct, caption: \"\", "+
			"users: [{name: %s, secret: bench, level: Administrator}], defects: {locks_after: 5}, streams: [{width: 160, height: 90, fps: 5, "+
			"kbps: 100, gop: 5, profile: baseline}]}\n",
			i, i+1, i+1, fitters[i])
	}
	return b.String()
}

// fitters are the users; the first is the one that every rig has on its keyring.
var fitters = []string{"fitter", "keeper", "warden", "porter", "signal"}

// keyring opens 200 cameras with five sign-ins of which each camera takes one, and counts what was tried. No camera may see more wrong
// ones than the guard allows; one that would have is left waiting.
func keyring(ctx context.Context, _ *scene.Library) ([]figure, error) {
	r, err := newRig(ctx, fiveKinds(), "127.62.1.0/26, 127.62.2.0/26, 127.62.3.0/26, 127.62.4.0/26, 127.62.5.0/26")
	if err != nil {
		return nil, err
	}
	defer r.stop()
	for _, user := range fitters[1:] {
		if _, err := r.store.SignIns.Add(ctx, signin.New{Label: user, User: user, Secret: signin.NewSecret("bench")}); err != nil {
			return nil, err
		}
	}
	took, proven, err := r.openSome(ctx, 200)
	if err != nil {
		return nil, err
	}
	var tries, wrong, most int
	err = r.store.Pool.QueryRow(ctx, `SELECT sum(n)::int, sum(refused)::int, max(refused)::int FROM
		(SELECT count(*) AS n, count(*) FILTER (WHERE result <> 'opened') AS refused
			FROM tries WHERE purpose = 'device' GROUP BY device_id) d`).Scan(&tries, &wrong, &most)
	if err != nil {
		return nil, err
	}
	if most > signin.Budget {
		return nil, fmt.Errorf("a camera has seen %d wrong tries; the guard allows %d", most, signin.Budget)
	}
	return []figure{
		{"200 cameras of 5 kinds, a keyring of 5: from Heard to Proven", fmt.Sprintf("%.1f s", took.Seconds()),
			fmt.Sprintf("%d proven, %d wait for the guard", proven, 200-proven), "", "stated"},
		{"The same: tries of a sign-in on a device service", fmt.Sprint(tries),
			fmt.Sprintf("200 with the right one first; %d were wrong", wrong), fmt.Sprintf("%.2f", float64(tries)/200), "stated"},
		{"The same: most wrong tries on one camera, which locks after 5", fmt.Sprint(most),
			fmt.Sprintf("%d is the guard's bound", signin.Budget), "", atMost(signin.Budget, float64(most), "")},
	}, nil
}
