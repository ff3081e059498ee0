package act

import (
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/doctor"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/conversion"
	"unlatch/core/stream/intake"
	"unlatch/core/stream/media"
	"unlatch/core/stream/tuning"
)

// sends is the state of a camera whose main stream was proven, at a URL.
func sends(url string) latch.Status {
	return latch.Status{Streams: []camera.Stream{{Role: "main", URL: url}},
		Proofs: map[string]evidence.Proof{"main": {PlainURL: url, Role: "main", Proof: proof.Proof{OK: true, Transport: "tcp",
			Video: &media.Measured{Codec: "H.264", Width: 1280, Height: 720, FPS: 25, Frames: 60, Keyframes: 3}}}}}
}

func relayOf(d *latch.Device, form conversion.Shape) PutRelay {
	return PutRelay{ID: uuid.New(), Device: d.ID, RelayForm: RelayForm{Role: "main", Path: "clock/main", For: "Vault", Form: form},
		User: "relay-k2f9aa", Secret: signin.NewSecret("A7Q2ZL5MXW3CFD6RTKPN4YHUJE")}
}

// serving is a worker on which H.264 can be turned into MJPEG for a fifth of a core.
func serving(budget float64) []Serving {
	return []Serving{{At: "192.0.2.5:8554", Taken: map[uuid.UUID]float64{}, Rates: &conversion.Rates{Budget: budget,
		Decode: map[string]float64{"H.264": 0.004}, Encode: map[string]float64{"MJPEG": 0.01, "H.264": 0.02}}}}
}

func TestARelayIsMade(t *testing.T) {
	t.Parallel()
	d := device("Clock", sends("rtsp://192.0.2.7/main"))
	f := facts(d)
	form := conversion.Shape{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5}

	out, err := relayOf(d, conversion.Shape{}).Decide(f)
	require.NoError(t, err, "it is made before a worker serves")
	assert.Empty(t, out.Keep[0].(PutRelay).At)
	_, err = relayOf(d, form).Decide(f)
	assert.Equal(t, "no_worker", cause(t, err))

	f.Serving = serving(1)
	out, err = relayOf(d, form).Decide(f)
	require.NoError(t, err)
	kept := out.Keep[0].(PutRelay)
	assert.Equal(t, "192.0.2.5:8554", kept.At)
	assert.InDelta(t, 0.1037, kept.Cores, 0.001)
	assert.Equal(t, "main as clock/main for Vault: MJPEG, 640×360, 5 frames a second", out.Line.After)
	assert.NotContains(t, out.Line.After, "A7Q2")

	_, err = relayOf(d, conversion.Shape{Codec: "MJPEG", Width: 640}).Decide(f)
	assert.Equal(t, "bad_form", cause(t, err))
	bad := relayOf(d, form)
	bad.Path = "Clock Main"
	_, err = bad.Decide(f)
	assert.Equal(t, "bad_path", cause(t, err))
	bad = relayOf(d, form)
	bad.For = " "
	_, err = bad.Decide(f)
	assert.Equal(t, "no_taker", cause(t, err))

	panel := uuid.New()
	f.Targets[panel] = Target{Target: latch.Target{ID: panel, Name: "Door panel"}}
	onto := relayOf(d, form)
	onto.Target = panel
	assert.Equal(t, []uuid.UUID{panel}, onto.About().Targets)
	out, err = onto.Decide(f)
	require.NoError(t, err)
	assert.Equal(t, "Door panel", out.Keep[0].(PutRelay).For, "a target's own name counts")
}

// All relays of a worker together are held to its budget, as if all were taken at once; changing one does not count it twice.
func TestRelaysAreHeldToABudget(t *testing.T) {
	t.Parallel()
	d := device("Clock", sends("rtsp://192.0.2.7/main"))
	f := facts(d)
	f.Serving = serving(0.25)
	form := conversion.Shape{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5}
	f.Serving[0].Taken[uuid.New()] = 0.2
	one := relayOf(d, form)
	_, err := one.Decide(f)
	assert.Equal(t, "over_budget", cause(t, err))
	f.Serving[0].Taken = map[uuid.UUID]float64{one.ID: 0.2}
	_, err = one.Decide(f)
	assert.NoError(t, err)
	f.Serving[0].Rates = nil
	_, err = relayOf(d, form).Decide(f)
	assert.NoError(t, err, "what was not measured is known once it runs")
}

// Where a worker serves several sites, none takes all that conversions may take there.
func TestASiteLeavesRoomForOthers(t *testing.T) {
	t.Parallel()
	d := device("Clock", sends("rtsp://192.0.2.7/main"))
	f := facts(d)
	form := conversion.Shape{Codec: "MJPEG", Width: 640, Height: 360, FPS: 5}
	one := relayOf(d, form)
	for why, c := range map[string]struct {
		own, others float64
		shared      bool
		want        string
	}{
		"a worker of this site alone may give it all":               {own: 0.85},
		"one of several gives it three quarters":                    {own: 0.7, shared: true, want: "over_budget"},
		"which it has, whatever others take":                        {own: 0.6, others: 0.2, shared: true},
		"but no more than there is":                                 {own: 0.6, others: 0.35, shared: true, want: "over_budget"},
		"what others take of a worker counts where it is one's own": {others: 0.95, want: "over_budget"},
	} {
		f.Serving = serving(1)
		f.Serving[0].Shared = c.shared
		f.Serving[0].Taken[uuid.New()] = c.own
		f.Serving[0].Others = c.others
		_, err := one.Decide(f)
		if c.want == "" {
			assert.NoError(t, err, why)
			continue
		}
		assert.Equal(t, c.want, cause(t, err), why)
		assert.Equal(t, c.own == 0.7, strings.Contains(err.Error(), "of one site"), why)
	}
}

// A face has the first port that is free, and keeps the one that it has.
func TestFacesHavePorts(t *testing.T) {
	t.Parallel()
	d := device("Clock", sends("rtsp://192.0.2.7/main"))
	f := facts(d)
	a := relayOf(d, conversion.Shape{})
	a.Face = true
	_, err := a.Decide(f)
	assert.Equal(t, "no_faces", cause(t, err))
	f.Serving = serving(1)
	_, err = a.Decide(f)
	assert.Equal(t, "no_faces", cause(t, err))
	port := func() int {
		out, err := a.Decide(f)
		require.NoError(t, err)
		assert.Contains(t, out.Line.After, "with an ONVIF face")
		return out.Keep[0].(PutRelay).FacePort
	}
	f.Serving[0].Faces = doctor.Ports{First: 8580, Last: 8582}
	assert.Equal(t, 8580, port())
	f.Serving[0].FacesTaken = map[int]uuid.UUID{8580: uuid.New()}
	assert.Equal(t, 8581, port())
	f.Serving[0].FacesTaken[8582] = a.ID
	assert.Equal(t, 8582, port(), "it keeps its own")
	f.Serving[0].FacesTaken = map[int]uuid.UUID{8580: uuid.New(), 8581: uuid.New(), 8582: uuid.New()}
	_, err = a.Decide(f)
	assert.Equal(t, "faces_taken", cause(t, err))
}

// A relay of a relay would take its stream from itself.
func TestARelayOfARelayIsRefused(t *testing.T) {
	t.Parallel()
	d := device("Clock", sends("rtsp://192.0.2.5:8554/clock/main"))
	f := facts(d)
	f.Serving = serving(1)
	_, err := relayOf(d, conversion.Shape{}).Decide(f)
	assert.Equal(t, "relay_of_relay", cause(t, err))
}

func TestRelaysAreOffered(t *testing.T) {
	t.Parallel()
	status := sends("rtsp://192.0.2.7/main")
	panel := latch.Target{ID: uuid.New(), Name: "Door panel", Intake: &intake.Intake{Codecs: []string{"MJPEG"}, FPS: intake.Range{Max: 5}}}
	assert.Nil(t, OfferRelay(&status, panel, nil), "nobody serves")
	got := OfferRelay(&status, panel, serving(1))
	require.NotNil(t, got)
	assert.Equal(t, "MJPEG, 5 frames a second", got.Words)
	assert.Equal(t, "main", got.Role)
	assert.False(t, got.Only, "the camera may be set to it, as far as is known")
	assert.True(t, got.Known)
	assert.InDelta(t, 0.138, got.Cores, 0.001)
	assert.Equal(t, 1.0, got.Free)
	assert.Empty(t, got.Problem)
	got = OfferRelay(&status, panel, serving(0.05))
	assert.Contains(t, got.Problem, "takes 0.14 of a processor core")
	assert.NotEmpty(t, got.Fix)
	status.Offers = &evidence.Offers{Offers: tuning.Offers{Streams: []tuning.Offer{{Role: "main",
		Options: tuning.Options{Codecs: []tuning.CodecOptions{{Codec: "H.264"}, {Codec: "H.265"}}}}}}}
	assert.True(t, OfferRelay(&status, panel, serving(1)).Only)
	panel.Intake.Codecs = []string{"MPEG-4"}
	assert.Nil(t, OfferRelay(&status, panel, serving(1)), "nothing is turned into that")
}
