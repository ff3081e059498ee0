package latch

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/media"
	"unlatch/core/stream/tuning"
)

// sending returns a camera whose main stream was proven at a size and rate, with what it claims.
func sending(s *story, w, h int, fps float64) *story {
	claimed := camera.Settings{Codec: "H.264", Width: w, Height: h, FPS: fps, BitrateKbps: 1000, GOPFrames: 20}
	located := evidence.Located{Streams: []camera.Stream{{Token: "p1", Role: "main", Channel: 1, URL: mainURL, Claimed: claimed}}}
	p := evidence.Proof{PlainURL: mainURL, Role: "main", Settings: claimed.Fingerprint(), Proof: proof.Proof{OK: true, Transport: "tcp",
		Video: &media.Measured{Codec: "H.264", Width: w, Height: h, FPS: fps, BitrateKbps: 900, GOPFrames: 20, Frames: 60, Keyframes: 3}}}
	return s.add("", located).add("p1", p)
}

func upToSignedIn() *story {
	return (&story{}).add("ws-discovery", heardAt(addr)).add("", evidence.Reached{Addr: addr}).
		add("", evidence.SignedIn{Label: "Fitter", Info: camera.Info{Manufacturer: "Corvane", Model: "V4"}})
}

func planned(t *testing.T, owner tuning.Owner, texts map[string]string) Intent {
	p, err := tuning.ParsePlan(texts)
	require.NoError(t, err)
	return Intent{Plans: func(model string) []tuning.Layer {
		assert.Equal(t, "Corvane V4", model)
		return []tuning.Layer{{Owner: owner, Plan: p}}
	}}
}

func encoder(w, h int, fps float64) tuning.Encoder {
	return tuning.Encoder{Token: "e", Codec: "H.264", Width: w, Height: h, FPS: fps, Kbps: 1000, GOPFrames: 20}
}

// set is evidence that a plan was sent.
func set(t *testing.T, plan string, wanted, readBack, before tuning.Encoder) evidence.Tuned {
	s, err := tuning.ParseStream(plan)
	require.NoError(t, err)
	one := func(e tuning.Encoder) map[string]tuning.Encoder { return map[string]tuning.Encoder{"main": e} }
	return evidence.Tuned{Plan: map[string]tuning.Stream{"main": s}, Wanted: one(wanted), ReadBack: one(readBack), Before: one(before),
		Has: one(before)}
}

func TestTunedFollowsThePlan(t *testing.T) {
	large, small := encoder(1280, 720, 25), encoder(640, 360, 10)
	const plan = "640x360,10fps"
	for _, c := range []struct {
		name  string
		story *story
		want  State
		says  string
	}{
		{"measured as planned, without anything sent", sending(upToSignedIn(), 640, 360, 10), Open, "meets its plan"},
		{"measured otherwise, and nothing sent yet", sending(upToSignedIn(), 1280, 720, 25), Next, "Its plan is not on it yet"},
		{"sent and measured", sending(sending(upToSignedIn(), 1280, 720, 25).add("", set(t, plan, small, small, large)), 640, 360, 10), Open,
			"what was set"},
		{"sent and clamped", sending(sending(upToSignedIn(), 1280, 720, 25).add("", set(t, plan, small, encoder(640, 360, 5), large)), 640, 360,
			5), Stuck, "the frame rate is 5 fps, set was 10 fps"},
		{"rounded to what it offers is as good as planned", sending(sending(upToSignedIn(), 1280, 720, 25).add("", set(t, plan,
			encoder(640, 360, 8), encoder(640, 360, 8), large)), 640, 360, 8), Open, "what was set"},
		{"sent and not played since", sending(upToSignedIn(), 1280, 720, 25).add("", set(t, plan, small, small, large)).add("", evidence.Located{
			Streams: []camera.Stream{{Token: "p1", Role: "main", Channel: 1, URL: mainURL, Claimed: camera.Settings{Codec: "H.264", Width: 640,
				Height: 360, FPS: 10, BitrateKbps: 1000, GOPFrames: 20}}}}), Stale, "have not been played since"},
		{"somebody has changed it since", sending(sending(sending(upToSignedIn(), 1280, 720, 25).add("", set(t, plan, small, small, large)), 640,
			360, 10), 320, 180, 10), Stale, "the size of the main stream was 640x360, and is 320x180"},
		{"put back: the plan is not on it", sending(sending(upToSignedIn(), 640, 360, 10).add("", evidence.Tuned{Undone: true, Plan: set(t, plan,
			small, small, large).Plan}), 1280, 720, 25), Next, "Its plan is not on it yet"},
	} {
		s := Derive(c.story.records, planned(t, tuning.Site, map[string]string{"main": plan}))
		l := s.Latch(Tuned)
		assert.Equal(t, c.want, l.State, "%s: %+v", c.name, l)
		assert.Contains(t, l.Reason, c.says, c.name)
		assert.Equal(t, "the site’s", s.Whose["main"].Whose(), c.name)
	}
}

func TestADeviceThatGoesOnAsBeforeWantsARestart(t *testing.T) {
	large, small := encoder(1280, 720, 25), encoder(640, 360, 10)
	st := sending(upToSignedIn(), 1280, 720, 25).add("", set(t, "640x360", small, small, large))
	claimed := camera.Settings{Codec: "H.264", Width: 640, Height: 360, FPS: 10, BitrateKbps: 1000, GOPFrames: 20}
	st.add("", evidence.Located{Streams: []camera.Stream{{Token: "p1", Role: "main", Channel: 1, URL: mainURL, Claimed: claimed}}})
	st.add("p1", evidence.Proof{PlainURL: mainURL, Role: "main", Settings: claimed.Fingerprint(), Proof: proof.Proof{OK: true,
		Video: &media.Measured{Codec: "H.264", Width: 1280, Height: 720, FPS: 25, BitrateKbps: 900, GOPFrames: 20, Frames: 60, Keyframes: 3}}})
	s := Derive(st.records, planned(t, tuning.Camera, map[string]string{"main": "640x360"}))
	l := s.Latch(Tuned)
	require.Equal(t, Stuck, l.State)
	assert.Equal(t, trouble.WantsRestart, l.Diagnosis.Cause)
	assert.Equal(t, "restart", s.Next().Action)
}

func TestStreamsThatAreNotThereOrNotWanted(t *testing.T) {
	s := Derive(sending(upToSignedIn(), 640, 360, 10).records, planned(t, tuning.Camera, map[string]string{"sub": "320x180", "third": "off"}))
	assert.Equal(t, "differs", s.Tunes["sub"].State)
	assert.Equal(t, "off", s.Tunes["third"].State)
	assert.Equal(t, Next, s.Latch(Tuned).State)
	assert.Equal(t, "tune", s.Next().Action)
	s = Derive(sending(upToSignedIn(), 640, 360, 10).records, planned(t, tuning.Camera, map[string]string{"main": "off"}))
	assert.Equal(t, []tuning.Difference{{Field: "stream", Set: "off", Got: "on"}}, s.Tunes["main"].Off)
	s = Derive(sending(upToSignedIn(), 640, 360, 10).records, planned(t, tuning.Camera, map[string]string{"main": "keep"}))
	assert.Equal(t, Waived, s.Latch(Tuned).State, "a stream that stays as it is asks for nothing")
}

func TestWithoutAPlanTheTargetsDecide(t *testing.T) {
	x := intake.Intake{Name: "panel", FPS: intake.Range{Max: 10}}
	other := uuid.MustParse("01900000-0000-7000-8000-000000000002")
	intent := Intent{Targets: []Target{{ID: strongroom, Name: "Wall panel", Intake: &x}, {ID: other, Name: "Strongroom"}}}
	s := Derive(sending(upToSignedIn(), 640, 360, 10).records, intent)
	assert.Equal(t, Open, s.Latch(Tuned).State)
	s = Derive(sending(upToSignedIn(), 640, 360, 25).records, intent)
	l := s.Latch(Tuned)
	require.Equal(t, Stuck, l.State)
	assert.Equal(t, trouble.IntakeUnmet, l.Diagnosis.Cause)
	assert.Contains(t, l.Reason, "Wall panel takes none of its streams: frame rate is 25, it wants at most 10")
	assert.Equal(t, "nearest_plan", s.Next().Action)
	assert.NotEmpty(t, s.Placements[0].Misfit)
	assert.Empty(t, s.Placements[1].Misfit, "nobody has said what that one accepts")
	x.Roles = []string{"sub"}
	s = Derive(sending(upToSignedIn(), 640, 360, 10).records, intent)
	assert.Contains(t, s.Latch(Tuned).Reason, "it wants the sub stream, which the camera does not have")
	s = Derive(upToSignedIn().records, intent)
	assert.NotEqual(t, Stuck, s.Latch(Tuned).State, "nothing is measured yet")
}

// A target that takes none of a camera's streams gets one that is served on, and is judged by that: nothing is asked of the camera any
// more, and it keeps its own sign-in to itself. Another user of the relay is another sign-in.
func TestATargetBehindARelay(t *testing.T) {
	x := intake.Intake{Name: "panel", Codecs: []string{"MJPEG"}, FPS: intake.Range{Max: 5}}
	on := Target{ID: strongroom, Name: "Wall panel", Intake: &x}
	st := sending(upToSignedIn(), 640, 360, 25)
	s := Derive(st.records, Intent{Targets: []Target{on}})
	require.Equal(t, Stuck, s.Latch(Tuned).State)

	relay := &Relay{ID: uuid.New(), Role: "main", URL: "rtsp://192.0.2.5:8554/clock/main", Key: uuid.New(),
		Form: conversion.Shape{Codec: "MJPEG", FPS: 5}}
	on.Relay = relay
	s = Derive(st.records, Intent{Targets: []Target{on}})
	assert.Equal(t, Open, s.Latch(Tuned).State)
	p := s.Placements[0]
	assert.Empty(t, p.Misfit)
	assert.Equal(t, []Given{{"main", relay.URL}}, p.Gives)
	assert.Equal(t, relay.ID, p.Relay)
	assert.Equal(t, relay.Key, p.SignIn, "and not the camera's")
	assert.Equal(t, "MJPEG, 5 frames a second", p.As)
	require.NotNil(t, p.Through)
	assert.Equal(t, "MJPEG", p.Through.Codec)

	st.add(strongroom.String(), evidence.Placed{Slot: "1", URL: relay.URL, SignIn: relay.Key,
		Gave: []evidence.Given{{Role: "main", URL: relay.URL}}})
	s = Derive(st.records, Intent{Targets: []Target{on}})
	assert.False(t, s.Placements[0].Moved)
	other := *relay
	other.Key = uuid.New()
	on.Relay = &other
	s = Derive(st.records, Intent{Targets: []Target{on}})
	assert.True(t, s.Placements[0].Moved)
	assert.Equal(t, "sign-in", s.Placements[0].Old)
	on.Relay = nil
	s = Derive(st.records, Intent{Targets: []Target{on}})
	assert.Equal(t, "URL", s.Placements[0].Old, "it still has the relay's")

	x.Roles, on.Relay = []string{"sub"}, relay
	s = Derive(st.records, Intent{Targets: []Target{on}})
	assert.Empty(t, s.Placements[0].Misfit)
	assert.Equal(t, "sub", s.Placements[0].Gives[0].Role, "as the stream that it takes")
	x.Roles = nil
	on.Relay = &Relay{ID: relay.ID, Role: "main", URL: relay.URL, Form: conversion.Shape{Codec: "MJPEG"}}
	s = Derive(st.records, Intent{Targets: []Target{on}})
	assert.Contains(t, s.Latch(Tuned).Reason, "frame rate is 25, it wants at most 5")
}
