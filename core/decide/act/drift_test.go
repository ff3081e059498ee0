package act

import (
	"errors"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/drift"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/tuning"
)

// cameraInHand is a camera that was signed in to, with a stream of 25 fps.
func cameraInHand(title string) *latch.Device {
	s := latch.Derive(nil, latch.Intent{})
	s.SignedIn = &evidence.SignedIn{SignIn: uuid.New(), Label: "Fitter"}
	s.Streams = []camera.Stream{{Role: "main", Token: "p1", Claimed: camera.Settings{Codec: "H.264", Width: 1280, Height: 720, FPS: 25}}}
	return &latch.Device{ID: uuid.New(), Title: title, Addr: "192.0.2.7", Endpoint: "urn:" + title, Status: s}
}

func factsOf(devices ...*latch.Device) Facts {
	f := Facts{Now: time.Now(), Devices: map[uuid.UUID]*latch.Device{}, Busy: map[uuid.UUID]Busy{}, Targets: map[uuid.UUID]Target{}}
	for _, d := range devices {
		f.Devices[d.ID], f.Order = d, append(f.Order, d.ID)
	}
	return f
}

func drifted(d *latch.Device, cause drift.Cause, fields ...baseline.FieldChange) drift.Episode {
	return drift.Episode{ID: uuid.New(), Drift: drift.Drift{Device: d.ID, Title: d.Title, Cause: cause, Fields: fields}}
}

// One run puts right what can be put right, as it is done by hand; what cannot is left out with what to do.
func TestRepairDrifts(t *testing.T) {
	clock, bridge := cameraInHand("Clock"), cameraInHand("Bridge")
	agreed := drift.Index(baseline.Of([]*latch.Device{clock, bridge}))
	a := RepairDrifts{Agreed: agreed, Drifts: []drift.Episode{
		drifted(clock, drift.Settings, baseline.FieldChange{Field: baseline.Set, Subject: "main"}), drifted(clock, drift.Clock),
		drifted(bridge, drift.Silent), drifted(bridge, drift.Covered)}}
	out, err := a.Decide(factsOf(clock, bridge))
	require.NoError(t, err)
	var did []string
	for _, d := range out.Work.Devices {
		did = append(did, d.Do.Name())
	}
	assert.ElementsMatch(t, []string{"tune", "fix", "open"}, did)
	assert.Equal(t, "repair", out.Work.Kind)
	require.Len(t, out.Left, 1)
	assert.Contains(t, out.Left[0].Reason, "before the lens of Bridge")
	own, ok := out.Keep[0].(OwnPlans)
	require.True(t, ok)
	assert.Equal(t, tuning.Stream{Codec: "H.264", Width: 1280, Height: 720, FPS: 25}, own[clock.ID].Streams["main"])

	_, err = RepairDrifts{Agreed: agreed, Drifts: []drift.Episode{drifted(bridge, drift.Covered)}}.Decide(factsOf(bridge))
	var r *Refusal
	require.True(t, errors.As(err, &r))
	assert.Equal(t, "nothing_to_repair", r.Cause)
}

// What is broken cannot be agreed on; what is accepted becomes a new state with the rest as it was.
func TestAcceptDrifts(t *testing.T) {
	clock := cameraInHand("Clock")
	was := baseline.Of([]*latch.Device{clock})
	now := *clock
	now.Status.Streams = []camera.Stream{{Role: "main", Token: "p1", Claimed: camera.Settings{Codec: "H.264", Width: 1280,
		Height: 720, FPS: 10}}}
	change := drifted(clock, drift.Settings, baseline.FieldChange{Field: baseline.Set, Subject: "main"})
	a := AcceptDrifts{Was: was, Drifts: []drift.Episode{change, drifted(clock, drift.Silent)}, Reason: " on purpose "}
	out, err := a.Decide(factsOf(&now))
	require.NoError(t, err)
	assert.Len(t, out.Left, 1)
	kept := out.Keep[0].(AcceptDrifts)
	assert.Equal(t, "on purpose", kept.Reason)
	assert.Equal(t, []uuid.UUID{change.ID}, kept.Accepted())
	assert.Empty(t, drift.Index(kept.State).Find(&now))
	assert.NotEmpty(t, drift.Index(was).Find(&now))

	for name, a := range map[string]AcceptDrifts{
		"no_reason":      {Was: was, Drifts: []drift.Episode{change}},
		"not_acceptable": {Was: was, Drifts: []drift.Episode{drifted(clock, drift.Silent)}, Reason: "x"},
	} {
		_, err := a.Decide(factsOf(&now))
		var r *Refusal
		require.True(t, errors.As(err, &r), name)
		assert.Equal(t, name, r.Cause)
	}
}

// A camera is replaced by another one that is free, and its slots are taken over.
func TestReplaceDevice(t *testing.T) {
	old, fresh, busy := cameraInHand("Clock"), cameraInHand("New"), cameraInHand("Busy")
	target := uuid.New()
	old.Status.Placements = []latch.Placement{{Target: target, Slot: "1"}}
	busy.Status.Placements = []latch.Placement{{Target: target, Slot: "2"}}
	out, err := ReplaceDevice{Old: old.ID, New: fresh.ID}.Decide(factsOf(old, fresh))
	require.NoError(t, err)
	require.Len(t, out.Work.Devices, 1)
	assert.Equal(t, fresh.ID, out.Work.Devices[0].Device)
	assert.Equal(t, old.ID, out.Work.Devices[0].Do.Place.Replaces)
	for cause, a := range map[string]ReplaceDevice{"same_device": {Old: old.ID, New: old.ID}, "in_use": {Old: old.ID, New: busy.ID}} {
		_, err := a.Decide(factsOf(old, fresh, busy))
		var r *Refusal
		require.True(t, errors.As(err, &r))
		assert.Equal(t, cause, r.Cause)
	}
}
