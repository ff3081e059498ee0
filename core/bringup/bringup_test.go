package bringup

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/address"
	"unlatch/core/camera"
	"unlatch/core/diagnose"
	"unlatch/core/discovery"
	"unlatch/core/evidence"
	"unlatch/core/fix"
	"unlatch/core/latch"
	"unlatch/core/onvif"
	"unlatch/core/pathprobe"
	"unlatch/core/recipe"
	"unlatch/core/signin"
	"unlatch/core/streamurl"
	"unlatch/core/target"
	"unlatch/core/target/onvifrecorder"
	"unlatch/sim/simtest"
)

var ctx = context.Background()

// memory is a Record, a Keyring, a Reporter and a Clock in a few maps.
type memory struct {
	t       *testing.T
	records map[uuid.UUID][]evidence.Record
	devices []*Device
	intents map[uuid.UUID]latch.Intent
	targets map[uuid.UUID]*Target
	books   []*recipe.Book
	keys    []Key
	secrets map[uuid.UUID]signin.SignIn
	tries   []string // "label result"
	begun   map[uuid.UUID]uuid.UUID
	refused map[uuid.UUID]bool // by key: what the device has turned down
	sighted []discovery.Sighting
	seen    []TargetSeen
	stills  map[uuid.UUID][]byte
	sight   func(discovery.Sighting) // what a sighting leads to; nil for nothing
	said    []string
	wakes   []time.Time
	at      time.Time
	slept   time.Duration
	takes   time.Duration // how long a sleep takes in truth, at most
	lost    error         // of every record from now on
	opens   int           // exchanges that name a question, see asked
}

func newMemory(t *testing.T) *memory {
	return &memory{t: t, records: map[uuid.UUID][]evidence.Record{}, intents: map[uuid.UUID]latch.Intent{},
		targets: map[uuid.UUID]*Target{},
		secrets: map[uuid.UUID]signin.SignIn{}, begun: map[uuid.UUID]uuid.UUID{}, refused: map[uuid.UUID]bool{}, at: time.Now()}
}

func (m *memory) device(title string) *Device {
	d := &Device{ID: uuid.New(), Title: title}
	m.devices = append(m.devices, d)
	return d
}

func (m *memory) Device(_ context.Context, id uuid.UUID) (*Device, error) {
	i := slices.IndexFunc(m.devices, func(d *Device) bool { return d.ID == id })
	if i < 0 {
		return nil, errors.New("no such device")
	}
	out := *m.devices[i]
	out.Status = latch.Derive(m.records[id], m.intents[id])
	out.Addr = out.Status.Device.Addr.String()
	return &out, nil
}

func (m *memory) Neighbours(ctx context.Context) (out []Device, err error) {
	for _, d := range m.devices {
		known, _ := m.Device(ctx, d.ID)
		out = append(out, *known)
	}
	return out, nil
}

func (m *memory) Target(ctx context.Context, id uuid.UUID) (*Target, error) {
	t := m.targets[id]
	if t == nil {
		return nil, errors.New("no such target")
	}
	if t.Device != nil {
		t.Device, _ = m.Device(ctx, t.Device.ID)
	}
	return t, nil
}

func (m *memory) Saw(_ context.Context, id uuid.UUID, s TargetSeen) error {
	m.seen = append(m.seen, s)
	if t := m.targets[id]; t != nil && s.Refused != uuid.Nil {
		t.Refused = s.Refused
	}
	return nil
}

func (m *memory) Still(_ context.Context, id uuid.UUID) ([]byte, error) { return m.stills[id], nil }

func (m *memory) Stills(context.Context) (map[uuid.UUID][]byte, error) { return m.stills, nil }

func (m *memory) Add(_ context.Context, d *Device, f Finding) error {
	if m.lost != nil {
		return m.lost
	}
	raw, err := evidence.Encode(f.Body)
	require.NoError(m.t, err)
	m.at = m.at.Add(time.Millisecond)
	m.records[d.ID] = append(m.records[d.ID], evidence.Record{ID: uuid.Must(uuid.NewV7()), Device: d.ID, At: m.at,
		Kind:    evidence.KindOf(f.Body),
		Subject: f.Subject, Body: raw, HasExchange: f.Exchange != ""})
	m.opens += strings.Count(f.Exchange, "<GetSystemDateAndTime")
	return nil
}

func (m *memory) Identify(context.Context, uuid.UUID, string, string) error { return nil }

func (m *memory) Sight(_ context.Context, x discovery.Sighting) (uuid.UUID, error) {
	m.sighted = append(m.sighted, x)
	if m.sight != nil {
		m.sight(x)
	}
	return uuid.New(), nil
}

func (m *memory) Books(context.Context) ([]*recipe.Book, error) { return m.books, nil }

func (m *memory) Alone(_ context.Context, _ uuid.UUID, fn func() error) error { return fn() }

func (m *memory) Key(_ context.Context, id uuid.UUID) (Key, error) {
	for _, k := range m.keys {
		if k.ID == id {
			return k, nil
		}
	}
	return Key{}, ErrGone
}

func (m *memory) Decrypt(_ context.Context, id uuid.UUID) (signin.SignIn, error) {
	in, ok := m.secrets[id]
	if !ok {
		return in, ErrGone
	}
	return in, nil
}

func (m *memory) Candidates(_ context.Context, _ *Device, _ signin.Purpose, again bool) (out []Key, err error) {
	for _, k := range m.keys {
		if again || !m.refused[k.ID] {
			out = append(out, k)
		}
	}
	return out, nil
}

func (m *memory) Begin(_ context.Context, _ *Device, key uuid.UUID, _ signin.Purpose) (uuid.UUID, error) {
	if m.slept == 0 && len(m.tries) > 0 {
		return uuid.Nil, &signin.HeldBackError{Spacing: true, Until: m.at.Add(time.Second)}
	}
	m.slept = 0
	try := uuid.New()
	m.begun[try] = key
	return try, nil
}

func (m *memory) End(_ context.Context, try uuid.UUID, r signin.Result, _ time.Duration) error {
	k, _ := m.Key(ctx, m.begun[try])
	m.tries = append(m.tries, k.Label+" "+string(r))
	m.refused[k.ID] = r == signin.Refused
	return nil
}

func (m *memory) WrongTries(context.Context, uuid.UUID) (n int, err error) {
	for _, t := range m.tries {
		if strings.HasSuffix(t, "refused") {
			n++
		}
	}
	return n, nil
}

func (m *memory) Doing(text string) { m.said = append(m.said, text) }

func (m *memory) Problem(_ context.Context, text string) error {
	m.said = append(m.said, text)
	return nil
}

func (m *memory) Warn(text string, _ error) { m.said = append(m.said, text) }

func (m *memory) Wake(_ context.Context, _ uuid.UUID, at time.Time) error {
	m.wakes = append(m.wakes, at)
	return nil
}

func (m *memory) Now() time.Time { return m.at }

func (m *memory) Sleep(ctx context.Context, d time.Duration) error {
	m.slept += d
	m.at = m.at.Add(d)
	time.Sleep(min(d, m.takes))
	return ctx.Err()
}

// key puts an entry on the keyring.
func (m *memory) key(label, user, secret string) Key {
	k := Key{ID: uuid.New(), Label: label, User: user, Why: "its turn"}
	m.keys = append(m.keys, k)
	m.secrets[k.ID] = signin.SignIn{ID: k.ID.String(), User: user, Secret: signin.NewSecret(secret)}
	return k
}

func (m *memory) work(d *Device, ranges string) *Work {
	w := Start(d, Config{Record: m, Keyring: m, Report: m, Clock: m,
		Targets: map[target.Kind]target.Driver{onvifrecorder.Kind: onvifrecorder.Driver{}},
		Guard:   &address.Guard{Allowed: address.MustParse(ranges)}})
	m.t.Cleanup(w.Close)
	return w
}

// heard puts a stand-in on record as a sweep would.
func (m *memory) heard(name, addr, service string, kind discovery.Kind) *Device {
	d := m.device(name)
	d.Endpoint = "urn:" + name
	x := discovery.Sighting{Method: discovery.WSDiscovery, Addr: netip.MustParseAddr(addr), Endpoint: d.Endpoint, Kind: kind, Name: name,
		XAddr: service}
	require.NoError(m.t, m.Add(ctx, d, Finding{Subject: "ws-discovery", Body: evidence.Heard(x)}))
	return d
}

func (m *memory) kinds(d *Device) (out []string) {
	for _, r := range m.records[d.ID] {
		out = append(out, strings.TrimSpace(string(r.Kind)+" "+r.Subject))
	}
	return out
}

const yard = `
name: yard
users: [{name: fitter, secret: brass-lamp-41, level: Administrator}]
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.44.60.11, scene: platform-clock, streams: [&s {width: 160, height: 90, fps: 5, kbps: 80, gop: 5, profile: baseline}]}
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
	vault := m.heard("Vault", "127.44.60.20", w.Device("Vault").Service(), discovery.Recorder)
	require.NoError(t, m.work(vault, "127.44.60.0/24").Open(ctx))
	clock := m.heard("Clock", "127.44.60.11", w.Device("Clock").Service(), discovery.Camera)
	m.intents[clock.ID] = latch.Intent{Targets: []latch.Target{{ID: vault.ID, Name: "Vault"}}}
	m.targets[vault.ID] = &Target{ID: vault.ID, Kind: onvifrecorder.Kind, Name: "Vault", Device: vault}
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
	assert.True(t, again(latch.Next, 1, true))
	assert.True(t, again(latch.Stale, 2, true))
	assert.False(t, again(latch.Stale, 1, false), "nothing has come")
	assert.False(t, again(latch.Stuck, 1, true), "it was worked on and is stuck")
	assert.False(t, again(latch.Stale, mostRounds, true), "never without end")

	world := simtest.Start(t, strings.ReplaceAll(yard, "127.44.60.", "127.44.61."))
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	clock := m.heard("Clock", "127.44.61.11", world.Device("Clock").Service(), discovery.Camera)
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
	clock := m.heard("Clock", "127.44.62.11", world.Device("Clock").Service(), discovery.Camera)
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
	ports := []discovery.Port{{Number: 80, Speaks: "http"}, {Number: 8554, Speaks: "rtsp"}, {Number: 322, Speaks: "rtsps"},
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
	assert.Equal(t, uint16(554), streamPort(append(ports, discovery.Port{Number: 554, Speaks: "rtsp", Named: true})),
		"what it names itself goes first")
	assert.Zero(t, streamPort(ports[:1]))
}

func TestRefine(t *testing.T) {
	t.Parallel()
	u, err := streamurl.Parse("rtsp://192.0.2.7:554/a")
	require.NoError(t, err)
	for _, c := range []struct {
		protocols []camera.Protocol
		seen      diagnose.Cause
		want      diagnose.Cause
	}{
		{nil, diagnose.PortClosed, diagnose.PortClosed},
		{[]camera.Protocol{{Name: "RTSP", Ports: []int{554}}}, diagnose.PortClosed, diagnose.StreamsOff},
		{[]camera.Protocol{{Name: "RTSP", Enabled: true, Ports: []int{8554}}}, diagnose.PortClosed, diagnose.WrongPort},
		{[]camera.Protocol{{Name: "RTSP", Enabled: true, Ports: []int{554}}}, diagnose.PortClosed, diagnose.PortClosed},
		{[]camera.Protocol{{Name: "HTTP", Enabled: true, Ports: []int{554}}}, diagnose.NotRTSP, diagnose.WrongPort},
		{[]camera.Protocol{{Name: "RTSP", Ports: []int{554}}}, diagnose.WrongSignIn, diagnose.WrongSignIn},
	} {
		d := diagnose.Diagnosis{Cause: c.seen}
		refine(&d, u, &evidence.SignedIn{Protocols: c.protocols})
		assert.Equal(t, c.want, d.Cause, "%+v", c)
	}
}

// Shapes of devices whose stream service calls itself the same come before the books.
func TestAlike(t *testing.T) {
	t.Parallel()
	server := func(name, shape string) Device {
		return Device{ID: uuid.New(), Status: latch.Status{Reached: &evidence.Reached{StreamServer: &pathprobe.Server{Server: name}},
			Located: &evidence.Located{Recipe: "learned", Shape: shape}}}
	}
	me := server("Orrery/1", "/mine")
	got := alike(&me, []Device{me, server("Orrery/1", "/hall/{channel}"), server("Orrery/2", "/other"), server("Orrery/1", ""),
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
		list, err := w.candidates(ctx, signin.DeviceService)
		require.NoError(t, err)
		for _, k := range list {
			out = append(out, k.Label)
		}
		return out
	}
	assert.Equal(t, []string{"Ring", "Opened", "Bound"}, labels())
	w.d.Status.Before = netip.MustParseAddr("127.44.60.9")
	assert.Equal(t, []string{"Opened", "Bound"}, labels())
	for _, cause := range []diagnose.Cause{diagnose.WrongSignIn, diagnose.Readable, diagnose.NoAnswer} {
		got := strangerUnless(&w.d.Status, &diagnose.Diagnosis{Cause: cause, Summary: "s"})
		want := cause
		if cause == diagnose.WrongSignIn {
			want = diagnose.Stranger
		}
		assert.Equal(t, want, got.Cause)
		assert.Equal(t, cause != diagnose.NoAnswer, strings.Contains(got.Summary+got.Seen+got.Fix, "127.44.60.9"), "%s", cause)
	}
}

// A device that no target driver knows, or that is shut, is said and places nothing.
func TestTargetsThatCannotBeFilled(t *testing.T) {
	t.Parallel()
	m := newMemory(t)
	d, shut := m.device("Clock"), m.device("Vault")
	id := uuid.New()
	w := m.work(d, "127.44.60.0/24")
	_, err := w.connect(ctx, id)
	assert.ErrorAs(t, err, new(*OwnError))
	m.targets[id] = &Target{ID: id, Kind: "lantern", Name: "Vault"}
	_, err = w.connect(ctx, id)
	assert.ErrorContains(t, err, `no driver for targets of the kind "lantern"`)
	m.targets[id] = &Target{ID: id, Kind: onvifrecorder.Kind, Name: "Vault", Device: shut}
	_, err = w.connect(ctx, id)
	var closed *diagnose.TargetShutError
	require.ErrorAs(t, err, &closed)
	why := diagnose.Explain(err, diagnose.Facts{})
	assert.Equal(t, "Vault has not been signed in to yet.", why.Summary)
	assert.Equal(t, diagnose.NoSignIn, why.Cause)
}

// A change of a device is kept with what was before it, before anything is sent, and an undo without a change is refused.
func TestAChangeIsRecordedBeforeItIsSent(t *testing.T) {
	t.Parallel()
	world := simtest.Start(t, strings.ReplaceAll(strings.ReplaceAll(yard, "127.44.60.", "127.44.63."), "gop: 5, profile: baseline}]}",
		"gop: 5, profile: baseline}], defects: {clock_offset: 3600}}"))
	m := newMemory(t)
	m.key("Fitter", "fitter", "brass-lamp-41")
	clock := m.heard("Clock", "127.44.63.11", world.Device("Clock").Service(), discovery.Camera)
	w := m.work(clock, "127.44.63.0/24")
	require.NoError(t, w.Open(ctx))
	require.NoError(t, w.Fix(ctx, Change{Action: fix.Clock, Undo: true}))
	assert.Contains(t, m.said[len(m.said)-1], "has changed nothing of the kind")
	require.NoError(t, w.Fix(ctx, Change{Action: fix.Clock}))
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
