package act

import (
	"fmt"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/latch"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/feed"
	"unlatch/core/wire/target/viabridge"
)

// vault is a recorder with slots as a text draws them, one a letter: . free, x used by a stranger, b blocked; a digit is the camera of that
// number, which stands there.
func vault(kind target.Kind, drawn string) (Target, Facts, []uuid.UUID) {
	t := Target{Target: latch.Target{ID: uuid.New(), Kind: kind, Name: "Vault"}, Layout: &target.Layout{}}
	f := Facts{Devices: map[uuid.UUID]*latch.Device{}, Targets: map[uuid.UUID]Target{}}
	var cameras []uuid.UUID
	for i := range 10 {
		d := &latch.Device{ID: uuid.New(), Title: fmt.Sprint("Camera ", i)}
		if i%2 == 0 {
			d.Endpoint = fmt.Sprint("urn:camera:", i)
		}
		f.Devices[d.ID], f.Order = d, append(f.Order, d.ID)
		cameras = append(cameras, d.ID)
	}
	for i, is := range drawn {
		s := target.Slot{Token: fmt.Sprint("s", i+1), Label: fmt.Sprint("slot ", i+1), Is: target.Free}
		switch {
		case is == 'x':
			s.Is, s.Identity = target.Used, "urn:stranger"
		case is == 'b':
			s.Is = target.Blocked
		case is != '.':
			s.Is, s.Identity = target.Used, f.Devices[cameras[is-'0']].Identity()
		}
		t.Layout.Slots = append(t.Layout.Slots, s)
	}
	f.Targets[t.ID] = t
	return t, f, cameras
}

func TestCamerasGoIntoSlotsInOrder(t *testing.T) {
	for name, c := range map[string]struct {
		slots  string
		wanted string // "camera=slot …": planned before
		placed string // the cameras, in the order in which they were chosen: "camera" or "camera=slot"
		into   string // the slots in the order of those that go
		full   int
	}{
		"an empty recorder":          {"....", "", "3 1 2", "s1 s2 s3", 0},
		"past what is used":          {"x.b.x.", "", "1 2 3", "s2 s4 s6", 0},
		"one stands there already":   {".1..", "", "2 1 3", "s1 s2 s3", 0},
		"one was planned before":     {"....", "5=s1 6=s2", "1 6 2", "s3 s2 s4", 0},
		"one has a slot by name":     {"....", "", "1 2=s1 3", "s2 s1 s3", 0},
		"more than there are":        {"x..", "", "1 2 3 4", "s2 s3", 2},
		"a slot that has gone since": {"..", "", "1=s9 2", "s9 s1", 0},
		"none is free":               {"xx", "", "1", "", 1},
	} {
		tgt, f, cameras := vault(viabridge.Kind, c.slots)
		read := func(text string) (out []Placement) {
			for _, w := range strings.Fields(text) {
				camera, slot, _ := strings.Cut(w, "=")
				out = append(out, Placement{Device: cameras[camera[0]-'0'], Target: tgt.ID, Slot: slot})
			}
			return out
		}
		for _, p := range read(c.wanted) {
			f.Wanted = append(f.Wanted, Wish{Device: p.Device, Target: p.Target, Slot: p.Slot})
		}
		going, planned, full := f.planSlots(read(c.placed))
		var into []string
		for i, p := range going {
			into = append(into, p.Slot)
			assert.Equal(t, p.Device, planned[i].Device, name)
		}
		want := strings.Fields(c.into)
		assert.Equal(t, want, append([]string{}, into...), name)
		assert.Len(t, full, c.full, name)
		for _, l := range full {
			assert.Equal(t, "no_free_slot", l.Cause, name)
		}
	}
}

// Two thousand cameras onto twelve free slots: the first twelve go, and each other one is named.
func TestMoreCamerasThanSlots(t *testing.T) {
	tgt, f, _ := vault(viabridge.Kind, "xx............")
	place := Place{}
	for i := range 2000 {
		d := &latch.Device{ID: uuid.New(), Title: fmt.Sprint("Camera ", i)}
		f.Devices[d.ID] = d
		place.Placements = append(place.Placements, Placement{Device: d.ID, Target: tgt.ID})
	}
	out, err := place.Decide(f)
	require.NoError(t, err)
	assert.Len(t, out.Work.Devices, 12)
	assert.Len(t, out.Slots, 12)
	assert.Equal(t, "slot 3", out.Slots[0].Slot)
	assert.Len(t, out.Left, 1988)
	assert.Equal(t, "Camera 12", out.Left[0].Name)
	assert.Equal(t, "Place 12 cameras on Vault", out.Work.Title)
	place.Strict = true
	_, err = place.Decide(f)
	refused := new(Refusal)
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "no_free_slot", refused.Cause)
}

// A target that names no slots is left to choose.
func TestTargetsThatChooseThemselves(t *testing.T) {
	tgt, f, cameras := vault(feed.Kind, "..")
	out, err := Place{Placements: []Placement{{Device: cameras[0], Target: tgt.ID}}}.Decide(f)
	require.NoError(t, err)
	assert.Empty(t, out.Slots)
	assert.Equal(t, Wishes{{Device: cameras[0], Target: tgt.ID}}, out.Keep[0])
	unseen := tgt
	unseen.Kind, unseen.Layout = viabridge.Kind, nil
	f.Targets[tgt.ID] = unseen
	out, err = Place{Placements: []Placement{{Device: cameras[0], Target: tgt.ID}}}.Decide(f)
	require.NoError(t, err)
	assert.Empty(t, out.Slots)
}

// Of two thousand cameras twelve go onto a recorder with twelve free slots: the first twelve, in order, and each of the others is named
// with its reason.
func TestFarMoreCamerasThanSlots(t *testing.T) {
	vault, f, _ := vault(viabridge.Kind, strings.Repeat(".", 12))
	place := Place{}
	for i := range 2000 {
		d := &latch.Device{ID: uuid.New(), Title: fmt.Sprint("Camera ", i)}
		f.Devices[d.ID], f.Order = d, append(f.Order, d.ID)
		place.Placements = append(place.Placements, Placement{Device: d.ID, Target: vault.ID})
	}
	out, err := place.Decide(f)
	require.NoError(t, err)
	require.Len(t, out.Slots, 12)
	require.Len(t, out.Left, 1988)
	assert.Equal(t, "slot 12", out.Slots[11].Slot)
	assert.Equal(t, place.Placements[11].Device, out.Slots[11].Device)
	assert.Equal(t, "Camera 12", out.Left[0].Name)
	assert.Equal(t, "no_free_slot", out.Left[0].Cause)
	assert.Len(t, out.Work.Devices, 12, "nothing is begun for those that are left out")
	place.Strict = true
	_, err = place.Decide(f)
	assert.Error(t, err, "a program that wants all or nothing gets nothing")
}
