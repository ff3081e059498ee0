package latch

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/media"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/target/byhand"
)

// proven returns a camera with main and sub, signed in to with one key.
func proven(key uuid.UUID) *story {
	s := (&story{}).add("ws-discovery", heardAt(addr)).add("", evidence.Reached{Addr: addr}).
		add("", evidence.SignedIn{Label: "Fitter", SignIn: key}).
		add("", evidence.Located{Addr: addr, Streams: []camera.Stream{{Token: "m", Role: "main", URL: "rtsp://192.0.2.11/m"},
			{Token: "s", Role: "sub", URL: "rtsp://192.0.2.11/s"}}})
	for token, v := range map[string]media.Measured{"m": {Codec: "H.265", Width: 1920, Height: 1080, FPS: 25},
		"s": {Codec: "H.264", Width: 640, Height: 360, FPS: 10}} {
		role := map[string]string{"m": "main", "s": "sub"}[token]
		s.add(token, evidence.Proof{PlainURL: "rtsp://192.0.2.11/" + token, Role: role, Proof: proof.Proof{OK: true, Transport: "tcp",
			Auth: "digest MD5", Video: &v}})
	}
	return s
}

// What a target is given follows from what it takes: the first stream that fits, both where it wants both, the one that a person chose.
func TestWhatATargetIsGiven(t *testing.T) {
	key := uuid.New()
	h264 := &intake.Intake{Codecs: []string{"H.264"}}
	nothing := &intake.Intake{MaxSize: tuning.Size{Width: 160, Height: 90}}
	basic := &intake.Intake{Schemes: []string{"basic"}}
	for name, c := range map[string]struct {
		target  Target
		roles   []string
		verdict string
	}{
		"says nothing":               {Target{}, []string{"main"}, Fits},
		"takes H.264":                {Target{Intake: h264}, []string{"sub"}, Fits},
		"takes both":                 {Target{Both: true}, []string{"main", "sub"}, Fits},
		"takes both, sub only":       {Target{Both: true, Intake: &intake.Intake{Roles: []string{"sub"}}}, []string{"sub"}, Fits},
		"a person wants the sub":     {Target{Role: "sub"}, []string{"sub"}, Fits},
		"a person wants what is not": {Target{Role: "main", Intake: h264}, []string{"main"}, AfterTuning},
		"takes none as it is":        {Target{Intake: nothing}, []string{"main"}, AfterTuning},
		"speaks another scheme":      {Target{Intake: basic}, []string{"main"}, Cannot},
		"takes channels":             {Target{Through: true}, nil, Cannot},
	} {
		c.target.ID, c.target.Name = strongroom, "Panel"
		s := Derive(proven(key).records, Intent{Targets: []Target{c.target}})
		var roles []string
		for _, g := range s.Placements[0].Gives {
			roles = append(roles, g.Role)
		}
		assert.Equal(t, c.roles, roles, name)
		assert.Equal(t, c.verdict, s.FittingOn(c.target).Verdict, name)
	}
	s := Derive(upToSignedIn().records, Intent{})
	assert.Equal(t, Unknown, s.FittingOn(Target{ID: strongroom}).Verdict)
}

// A target that takes channels is given those of the recorder that the camera is on, with the recorder's sign-in.
func TestThroughARecorder(t *testing.T) {
	rec := uuid.MustParse("01900000-0000-7000-8000-000000000009")
	door := Target{ID: strongroom, Name: "Door", Through: true, Intake: &intake.Intake{Roles: []string{"sub"}}}
	intent := Intent{Targets: []Target{door, {ID: rec, Name: "Vault"}}}
	story := proven(uuid.New()).add(rec.String(), evidence.Placed{Slot: "slot 1", Token: "1"}).
		add(rec.String(), evidence.Confirmed{Says: "showing", SendsOn: []evidence.Given{{Role: "main", URL: "rtsp://192.0.2.20/1/main"},
			{Role: "sub", URL: "rtsp://192.0.2.20/1/sub"}}})
	s := Derive(story.records, intent)
	p := s.Placements[0]
	assert.Equal(t, []Given{{"sub", "rtsp://192.0.2.20/1/sub"}}, p.Gives)
	assert.Equal(t, []any{rec, "the sign-in of Vault"}, []any{p.From, p.Whose})
	assert.Equal(t, Fits, s.FittingOn(door).Verdict)
	mute := uuid.MustParse("01900000-0000-7000-8000-000000000008")
	intent.Targets = append([]Target{{ID: mute, Name: "Other"}}, intent.Targets...)
	story.add(mute.String(), evidence.Placed{Slot: "slot 9", Token: "9"}).
		add(mute.String(), evidence.Confirmed{Says: "showing", SendsOn: []evidence.Given{{Role: "main", URL: "rtsp://192.0.2.21/9"}}})
	s = Derive(story.records, intent)
	assert.Equal(t, rec, s.Placements[1].From, "one that sends on the stream that is wanted goes before another")
	intent.Targets = intent.Targets[1:]
	gone := story.add(rec.String(), evidence.Placed{Removed: true})
	s = Derive(gone.records, intent)
	assert.Empty(t, s.Placements[0].Gives)
}

// A placement is stale once its URL or its sign-in is another one; a wrong picture is told, and does not count as not taken.
func TestStalePlacements(t *testing.T) {
	key, other := uuid.New(), uuid.New()
	intent := Intent{Targets: []Target{{ID: strongroom, Name: "Desk", Both: true}}}
	gave := []evidence.Given{{Role: "main", URL: "rtsp://192.0.2.11/m"}, {Role: "sub", URL: "rtsp://192.0.2.11/s"}}
	placed := func() *story {
		return proven(key).add(strongroom.String(), evidence.Placed{Slot: "1", URL: gave[0].URL, Gave: gave, SignIn: key}).
			add(strongroom.String(), evidence.Confirmed{Says: "showing", Match: "right camera"})
	}
	state := func(s Status) PlacementState { return s.Placements[0].State }
	assert.Equal(t, PlacementWaiting, state(Derive(proven(key).records, intent)), "not placed yet")
	taken := proven(key).add(strongroom.String(), evidence.Placed{Slot: "1", Gave: gave})
	assert.Equal(t, PlacementWaiting, state(Derive(taken.records, intent)), "not confirmed yet")
	s := Derive(placed().records, intent)
	assert.Equal(t, []any{false, true, "right camera"}, []any{s.Placements[0].Moved, s.Placements[0].Confirmed, s.Placements[0].Match})
	assert.Equal(t, PlacementConfirmed, state(s))
	s = Derive(placed().add("", evidence.StreamKey{SignIn: other, Label: "viewer"}).records, intent)
	assert.Equal(t, []any{true, "sign-in", "its stream user (viewer)"}, []any{s.Placements[0].Moved, s.Placements[0].Old,
		s.Placements[0].Whose})
	assert.Equal(t, Stale, s.Latch(Placed).State)
	assert.Equal(t, PlacementStale, state(s), "though it was confirmed")
	moved := placed().add("", evidence.Located{Addr: addr, Streams: []camera.Stream{{Token: "m", Role: "main",
		URL: "rtsp://192.0.2.11/m"}, {Token: "s", Role: "sub", URL: "rtsp://192.0.2.11/other"}}})
	s = Derive(moved.records, intent)
	assert.Equal(t, []any{true, "URL"}, []any{s.Placements[0].Moved, s.Placements[0].Old}, "the second stream counts too")

	wrong := placed().add(strongroom.String(),
		evidence.Confirmed{Says: "showing", Diagnosis: &diagnose.Diagnosis{Cause: trouble.WrongPicture, Summary: "1 shows another"}})
	s = Derive(wrong.records, intent)
	assert.Equal(t, []any{false, false}, []any{s.Placements[0].Untaken, s.Placements[0].Confirmed})
	assert.Equal(t, PlacementBroken, state(s))
	assert.Equal(t, "place_again", s.Next().Action)
}

// What cannot be asked waits for a person, whose word opens the latch.
func TestAttested(t *testing.T) {
	intent := Intent{Targets: []Target{{ID: strongroom, Kind: byhand.Kind, Name: "List"}}}
	s := Derive(proven(uuid.New()).add(strongroom.String(), evidence.Placed{Slot: "the text"}).records, intent)
	require.True(t, s.Placements[0].ByHand())
	assert.Equal(t, "attest", s.Next().Action)
	s = Derive(proven(uuid.New()).add(strongroom.String(), evidence.Placed{Slot: "the text"}).add(strongroom.String(),
		evidence.Confirmed{Attested: "keeper"}).records, intent)
	assert.Equal(t, Open, s.Latch(Confirmed).State)
	assert.Contains(t, s.Latch(Confirmed).Reason, "keeper has looked")
	assert.Equal(t, "none", s.Next().Action)
}

// The slots that a target told before a camera was placed say nothing of it.
func TestSlotsToldBeforeAPlacement(t *testing.T) {
	t.Parallel()
	intent := Intent{Targets: []Target{{ID: strongroom, Kind: "bridge", Name: "Strongroom"}}}
	derive := func(body evidence.Placed) (*Placement, time.Time) {
		story := proven(uuid.New()).add(strongroom.String(), body)
		s := Derive(story.records, intent)
		return &s.Placements[0], story.records[len(story.records)-1].At
	}
	p, placed := derive(evidence.Placed{Slot: "1", Token: "slot_01"})
	assert.Equal(t, placed, p.PlacedAt)
	assert.True(t, p.ShownBy(placed.Add(time.Second)))
	assert.False(t, p.ShownBy(placed))
	assert.False(t, p.ShownBy(placed.Add(-time.Second)))
	p, placed = derive(evidence.Placed{Slot: "1"})
	assert.False(t, p.ShownBy(placed.Add(time.Second)), "a slot without a name of its own cannot be found among others")
	p, placed = derive(evidence.Placed{Removed: true})
	assert.False(t, p.ShownBy(placed.Add(time.Second)))
}
