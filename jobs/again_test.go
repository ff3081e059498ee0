package jobs_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/wire/target/viabridge"
	"unlatch/jobs"
)

// late is a recorder that takes its time to pull a first picture.
const late = `
name: late
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, serial: L1, address: NET.11, scene: platform-clock, streams: [&s {width: 160,
       height: 90, fps: 5, kbps: 100, gop: 5, profile: baseline}]}
  - {name: Bridge, maker: corvane, model: V4, serial: L2, address: NET.12, scene: footbridge, streams: [*s]}
  - {name: Stage, maker: corvane, model: V4, serial: L3, address: NET.13, scene: coal-stage, streams: [*s]}
targets:
  - {name: Vault, kind: software, maker: Overlea, address: NET.21, port: 8081, user: desk, secret: oak-door-52, slots: 6,
     connects_ms: 26000}
`

// Cameras go into slots in the order in which they were chosen. A picture that the recorder is still connecting for is waited for, which is
// no fault, and is confirmed by itself when it has come. It does not run beside the others: their cameras want the machine.
func TestAPictureThatComesLate(t *testing.T) {
	waits := []time.Duration{2 * time.Second, 2 * time.Second, 3 * time.Second, 3 * time.Second, time.Minute}
	b := hooked(t, jobs.Hooks{LookAgain: waits}, late, "127.42.47", [3]string{"Fitter", "fitter", "brass-lamp-41"})
	vault, key := uuid.New(), uuid.New()
	_, err := b.s.SignIns.AddAll(ctx, signin.New{ID: key, Label: "Desk", User: "desk", Secret: signin.NewSecret("oak-door-52"),
		Terms: signin.Terms{Purpose: signin.Target}})
	require.NoError(t, err)
	form := act.TargetForm{Kind: viabridge.Kind, Name: "Vault", Address: "http://127.42.47.21:8081", SignIn: &key}
	require.NoError(t, b.s.Targets.Put(ctx, b.site.ID, act.PutTarget{ID: vault, New: true, TargetForm: form,
		Reach: []netip.AddrPort{netip.MustParseAddrPort("127.42.47.21:8081")}}))
	b.agreeForTarget(vault)
	b.wait(b.run(command.Work{Kind: "target", Title: "look", Targets: []command.OnTarget{{Target: vault,
		Do: command.Target{Look: &command.Look{}}}}}))
	keeper, err := b.s.People.CreateFirst(ctx, "keeper", "x")
	require.NoError(t, err)

	order := []string{"13", "11", "12"}
	place := act.Place{Site: b.site.ID}
	for _, last := range order {
		place.Placements = append(place.Placements, act.Placement{Device: b.names[last], Target: vault})
	}
	done, err := jobs.Desk{Store: b.s, Queue: b.q}.Do(ctx, keeper, place)
	require.NoError(t, err)
	b.ended(*done.Run, nil)
	for i, last := range order {
		st := b.device(last).Status
		p := st.PlacementOn(vault)
		require.NotNil(t, p)
		assert.Equal(t, fmt.Sprint(i+1), p.Token, "%s stands where it was planned: %+v", last, p)
		l := st.Latch(latch.Confirmed)
		require.Equal(t, latch.Waiting, l.State, "%s: %+v", last, l)
		assert.Equal(t, trouble.WaitsToConnect, p.Waits)
		assert.Equal(t, "Vault is connecting to it", l.Reason)
		assert.NotNil(t, l.Since)
	}
	require.Eventually(t, func() bool {
		for _, last := range order {
			if b.device(last).Status.At() != "" {
				return false
			}
		}
		return true
	}, 2*time.Minute, 200*time.Millisecond, "they are confirmed without anybody's hand")
	assert.Equal(t, "right camera", b.device("13").Status.PlacementOn(vault).Match)
	var left int
	require.NoError(t, b.s.SQL().QueryRowContext(ctx, "SELECT count(*) FROM river_job WHERE kind = 'target' AND args->'do'->'look'->>'again' "+
		"IS NOT NULL AND state IN ('available', 'scheduled', 'running', 'retryable', 'pending')").Scan(&left))
	assert.LessOrEqual(t, left, 1, "what was asked for ahead ends by itself")
}
