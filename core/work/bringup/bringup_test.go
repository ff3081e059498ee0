package bringup

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/onvif"
	"unlatch/core/work/onvifrecorder"
	"unlatch/sim/simtest"
)

const yard = `
name: yard
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.44.60.11, scene: platform-clock, streams: [&s {width: 160, height: 90,
       fps: 5, kbps: 80, gop: 5, profile: baseline}]}
  - {name: Vault, kind: recorder, maker: holloway, model: H8, address: 127.44.60.20, slots: 2}
`

// From heard to confirmed without a queue and without a database: each step once, the camera asked for its clock once and the recorder once
// in each work.
func TestFromHeardToConfirmed(t *testing.T) {
	t.Parallel()
	w := simtest.Start(t, yard)
	m := newMemory(t)
	m.key("Wrong", "fitter", "tin-lamp")
	m.key("Fitter", "fitter", "brass-lamp-41")
	vault := m.heard("Vault", "127.44.60.20", w.Device("Vault").Service(), sighting.Recorder)
	require.NoError(t, m.work(vault, "127.44.60.0/24").Open(ctx))
	clock := m.heard("Clock", "127.44.60.11", w.Device("Clock").Service(), sighting.Camera)
	m.intents[clock.ID] = latch.Intent{Targets: []latch.Target{{ID: vault.ID, Name: "Vault"}}}
	m.targets[vault.ID] = &Target{ID: vault.ID, Kind: onvifrecorder.Kind, Name: "Vault", Device: vault, Trust: agreed()}
	m.opens, m.tries, m.refused = 0, nil, map[uuid.UUID]bool{}
	require.NoError(t, m.work(clock, "127.44.60.0/24").Open(ctx))
	now, err := m.Device(ctx, clock.ID)
	require.NoError(t, err)
	require.Equal(t, latch.Name(""), now.Status.At(), "%+v\n%v", now.Status.Latches, m.kinds(clock))
	assert.Equal(t, []string{"heard ws-discovery", "reached", "scheme device", "signed_in", "located", "scheme stream", "proof prof_0"},
		m.kinds(clock)[:7])
	assert.Equal(t, 2, m.opens, "one question for the clock to the camera, one to the recorder")
	assert.Equal(t, []string{"Wrong refused", "Fitter opened"}, m.tries[:2], "spaced by the clock that the test turns")
	for _, r := range m.records[clock.ID] {
		assert.NotContains(t, string(r.Body), "brass-lamp-41")
	}

	before := len(m.records[clock.ID])
	require.NoError(t, m.work(now, "127.44.60.0/24").Open(ctx))
	assert.Len(t, m.records[clock.ID], before, "nothing is done twice")

	require.NoError(t, m.work(now, "127.44.60.0/24").Remove(ctx, vault.ID))
	assert.Empty(t, w.Device("Vault").Slots())
}

// New stream settings send the work back to proving, and the proof that comes of it is of the new ones.
func TestNewEvidenceSendsTheWorkBack(t *testing.T) {
	t.Parallel()
	assert.True(t, worthAnotherTry(latch.Next, 1, true))
	assert.True(t, worthAnotherTry(latch.Stale, 2, true))
	assert.False(t, worthAnotherTry(latch.Stale, 1, false), "nothing has come")
	assert.False(t, worthAnotherTry(latch.Stuck, 1, true), "it was worked on and is stuck")
	assert.False(t, worthAnotherTry(latch.Stale, mostRounds, true), "never without end")

	world := simtest.Start(t, strings.ReplaceAll(yard, "127.44.60.", "127.44.61."))
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	clock := m.heard("Clock", "127.44.61.11", world.Device("Clock").Service(), sighting.Camera)
	w := m.work(clock, "127.44.61.0/24")
	require.NoError(t, w.Open(ctx))
	located := *w.Device().Status.Located
	located.Streams = slices.Clone(located.Streams)
	located.Streams[0].Claimed.BitrateKbps += 20
	require.NoError(t, w.Keep(ctx, Finding{Body: located}))
	now, _ := m.Device(ctx, clock.ID)
	require.Equal(t, latch.Stale, now.Status.Latch(latch.Proven).State)
	require.NoError(t, m.work(now, "127.44.61.0/24").Open(ctx))
	now, _ = m.Device(ctx, clock.ID)
	assert.Equal(t, latch.Open, now.Status.Latch(latch.Proven).State)
	assert.Equal(t, located.Streams[0].Claimed.Fingerprint(), now.Status.Proofs["main"].Settings)
}

// What the database does is never the device's fault.
func TestTroubleOfOurOwnIsNotRecorded(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, strings.ReplaceAll(yard, "127.44.60.", "127.44.62."))
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	clock := m.heard("Clock", "127.44.62.11", world.Device("Clock").Service(), sighting.Camera)
	m.lost = errors.New("away")
	assert.ErrorIs(t, m.work(clock, "127.44.62.0/24").Open(ctx), m.lost)
	assert.Len(t, m.records[clock.ID], 1)
	d, err := Explain(ctx, &OwnError{m.lost}, diagnose.Facts{})
	assert.Nil(t, d)
	assert.ErrorIs(t, err, m.lost)
}

func TestLockedAfterAll(t *testing.T) {
	t.Parallel()
	refusal := &onvif.RefusedError{Scheme: "digest MD5"}
	for name, c := range map[string]struct {
		key   Key
		err   error
		after bool
		want  bool
	}{
		"a first refusal":                 {Key{}, refusal, false, false},
		"it opened before":                {Key{Opened: true}, refusal, false, true},
		"and was locked the last time":    {Key{Opened: true, Shut: true}, refusal, false, false},
		"dropped after another":           {Key{}, io.ErrUnexpectedEOF, true, true},
		"dropped at the first":            {Key{}, io.ErrUnexpectedEOF, false, false},
		"another error after a refusal":   {Key{}, errors.New("no"), true, false},
		"opened before, and then nothing": {Key{Opened: true}, io.EOF, false, false},
	} {
		got := lockedAfterAll(c.key, c.err, c.after)
		assert.Equal(t, c.want, errors.As(got, new(*signin.LockedError)), name)
		if !c.want {
			assert.Equal(t, c.err, got, name)
		}
	}
}

func TestLikeliestFirst(t *testing.T) {
	t.Parallel()
	a, b, c := Key{ID: uuid.New()}, Key{ID: uuid.New()}, Key{ID: uuid.New()}
	assert.Equal(t, []Key{c, a, b}, likeliestFirst([]Key{a, b, c}, c.ID))
	assert.Equal(t, []Key{a, b}, likeliestFirst([]Key{a, b}, c.ID))
	assert.Equal(t, []Key{a, b}, likeliestFirst([]Key{a, b}, a.ID))
}

// Where nothing answers at the port that was named, the ports that spoke are tried; what was encrypted stays so.
func TestElsewhere(t *testing.T) {
	t.Parallel()
	ports := []sighting.Port{{Number: 80, Speaks: "http"}, {Number: 8554, Speaks: "rtsp"}, {Number: 322, Speaks: "rtsps"},
		{Number: 22, Speaks: "ssh"},
		{Number: 554, Speaks: "rtsp"}, {Number: 8080, Speaks: "device service"}}
	for named, want := range map[string]string{
		"rtsp://192.0.2.7:554/a":  "rtsp://192.0.2.7:8554/a rtsps://192.0.2.7/a rtsp://192.0.2.7:80/a rtsp://192.0.2.7:8080/a",
		"rtsps://192.0.2.7:443/a": "rtsps://192.0.2.7/a",
		"rtsp://192.0.2.7:9000/a": "rtsp://192.0.2.7:8554/a rtsp://192.0.2.7/a rtsps://192.0.2.7/a rtsp://192.0.2.7:80/a rtsp://192.0.2.7:8080/a",
	} {
		u, err := streamurl.Parse(named)
		require.NoError(t, err)
		var got []string
		for _, v := range elsewhere(u, ports) {
			got = append(got, v.String())
		}
		assert.Equal(t, want, strings.Join(got, " "), named)
	}
	assert.Equal(t, uint16(8554), streamPort(ports))
	assert.Equal(t, uint16(554), streamPort(append(ports, sighting.Port{Number: 554, Speaks: "rtsp", Named: true})),
		"what it names itself goes first")
	assert.Zero(t, streamPort(ports[:1]))
}

func TestRefine(t *testing.T) {
	t.Parallel()
	u, err := streamurl.Parse("rtsp://192.0.2.7:554/a")
	require.NoError(t, err)
	for _, c := range []struct {
		protocols []camera.Protocol
		seen      trouble.Cause
		want      trouble.Cause
	}{
		{nil, trouble.PortClosed, trouble.PortClosed},
		{[]camera.Protocol{{Name: "RTSP", Ports: []int{554}}}, trouble.PortClosed, trouble.StreamsOff},
		{[]camera.Protocol{{Name: "RTSP", Enabled: true, Ports: []int{8554}}}, trouble.PortClosed, trouble.WrongPort},
		{[]camera.Protocol{{Name: "RTSP", Enabled: true, Ports: []int{554}}}, trouble.PortClosed, trouble.PortClosed},
		{[]camera.Protocol{{Name: "HTTP", Enabled: true, Ports: []int{554}}}, trouble.NotRTSP, trouble.WrongPort},
		{[]camera.Protocol{{Name: "RTSP", Ports: []int{554}}}, trouble.WrongSignIn, trouble.WrongSignIn},
	} {
		d := diagnose.Diagnosis{Cause: c.seen}
		refine(&d, u, &evidence.SignedIn{Protocols: c.protocols})
		assert.Equal(t, c.want, d.Cause, "%+v", c)
	}
}

// Shapes of devices whose stream service calls itself the same come before the books.
func TestAlike(t *testing.T) {
	t.Parallel()
	server := func(name, shape string) latch.Device {
		return latch.Device{ID: uuid.New(), Status: latch.Status{Reached: &evidence.Reached{StreamServer: &camera.StreamServer{Server: name}},
			Located: &evidence.Located{Recipe: "learned", Shape: shape}}}
	}
	me := server("Orrery/1", "/mine")
	got := shapesOfSisters(&me, []latch.Device{me, server("Orrery/1", "/hall/{channel}"), server("Orrery/2", "/other"), server("Orrery/1", ""),
		server("Orrery/1", "/{"), {}})
	require.Len(t, got, 1)
	assert.Equal(t, "/hall/{channel}", got[0].Shape)
}

// A device that has moved and is not known again gets only what has opened it before, and what is for it alone.
func TestCandidatesOfAStranger(t *testing.T) {
	t.Parallel()
	m := newMemory(t)
	m.keys = []Key{{Label: "Ring"}, {Label: "Opened", Opened: true}, {Label: "Bound", Bound: true}}
	d := m.device("Moved")
	w := m.work(d, "127.44.60.0/24")
	labels := func() (out []string) {
		list, err := signInStep{w}.candidates(ctx, signin.DeviceService)
		require.NoError(t, err)
		for _, k := range list {
			out = append(out, k.Label)
		}
		return out
	}
	assert.Equal(t, []string{"Ring", "Opened", "Bound"}, labels())
	w.d.Status.Before = netip.MustParseAddr("127.44.60.9")
	assert.Equal(t, []string{"Opened", "Bound"}, labels())
	for _, cause := range []trouble.Cause{trouble.WrongSignIn, trouble.Readable, trouble.NoAnswer} {
		got := strangerUnless(&w.d.Status, &diagnose.Diagnosis{Cause: cause, Summary: "s"})
		want := cause
		if cause == trouble.WrongSignIn {
			want = trouble.Stranger
		}
		assert.Equal(t, want, got.Cause)
		assert.Equal(t, cause != trouble.NoAnswer, strings.Contains(got.Summary+got.Seen+got.Fix, "127.44.60.9"), "%s", cause)
	}
}

// A device that no target driver knows, or that is shut, is said and places nothing.
func TestTargetsThatCannotBeFilled(t *testing.T) {
	t.Parallel()
	m := newMemory(t)
	d, shut := m.device("Clock"), m.device("Vault")
	id := uuid.New()
	w := m.work(d, "127.44.60.0/24")
	_, err := targetDoor{w}.connect(ctx, id)
	assert.ErrorAs(t, err, new(*OwnError))
	m.targets[id] = &Target{ID: id, Kind: "lantern", Name: "Vault", Trust: agreed()}
	_, err = targetDoor{w}.connect(ctx, id)
	assert.ErrorContains(t, err, `no driver for targets of the kind "lantern"`)
	m.targets[id] = &Target{ID: id, Kind: onvifrecorder.Kind, Name: "Vault", Device: shut}
	_, err = targetDoor{w}.connect(ctx, id)
	var closed *diagnose.TargetShutError
	require.ErrorAs(t, err, &closed)
	why := diagnose.Explain(err, diagnose.Facts{})
	assert.Equal(t, "Vault has not been signed in to yet.", why.Summary)
	assert.Equal(t, trouble.NoSignIn, why.Cause)
}

// A change of a device is kept with what was before it, before anything is sent, and an undo without a change is refused.
func TestAChangeIsRecordedBeforeItIsSent(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, strings.ReplaceAll(strings.ReplaceAll(yard, "127.44.60.", "127.44.63."), "gop: 5, profile: baseline}]}",
		"gop: 5, profile: baseline}], defects: {clock_offset: 3600}}"))
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	clock := m.heard("Clock", "127.44.63.11", world.Device("Clock").Service(), sighting.Camera)
	w := m.work(clock, "127.44.63.0/24")
	require.NoError(t, w.Open(ctx))
	require.NoError(t, w.Fix(ctx, command.Fix{Action: evidence.FixClock, Undo: true}))
	assert.Contains(t, m.said[len(m.said)-1], "has changed nothing of the kind")
	require.NoError(t, w.Fix(ctx, command.Fix{Action: evidence.FixClock}))
	var states []string
	for _, r := range m.records[clock.ID] {
		if r.Kind != evidence.KindFix {
			continue
		}
		var b evidence.Fix
		require.NoError(t, json.Unmarshal(r.Body, &b))
		states = append(states, fmt.Sprintf("%t %s", b.Pending, cmp.Or(b.Before, "none")))
	}
	require.Len(t, states, 3)
	assert.Equal(t, []string{"false none", "true", "false"}, []string{states[0], strings.Fields(states[1])[0],
		strings.Fields(states[2])[0]})
	assert.Equal(t, strings.Fields(states[1])[1], strings.Fields(states[2])[1])
}
