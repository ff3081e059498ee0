package bringup

import (
	"cmp"
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/address"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/picturematch"
	"unlatch/core/stream/recipe"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/target"
	"unlatch/core/work/onvifrecorder"
)

var ctx = context.Background()

// memory is a Record, a Keyring, a Reporter and a Clock in a few maps.
type memory struct {
	longest time.Duration // LongestWait of every target
	t       *testing.T
	mu      sync.Mutex // two streams may be played at once
	records map[uuid.UUID][]evidence.Record
	devices []*latch.Device
	intents map[uuid.UUID]latch.Intent
	targets map[uuid.UUID]*Target
	books   []*recipe.Book
	keys    []Key
	secrets map[uuid.UUID]signin.SignIn
	tries   []string // "label result"
	begun   map[uuid.UUID]uuid.UUID
	refused map[uuid.UUID]bool // by key: what the device has turned down
	sighted []sighting.Sighting
	seen    []TargetSeen
	stills  map[uuid.UUID][]byte
	sight   func(sighting.Sighting) // what a sighting leads to; nil for nothing
	said    []string
	wakes   []time.Time
	at      time.Time
	slept   time.Duration
	takes   time.Duration // how long a sleep takes in truth, at most
	lost    error         // of every record from now on
	// exchanges are the conversations that were kept with findings.
	exchanges []string
	before    map[uuid.UUID]int // records of each device that were made before the present run
	opens     int               // exchanges that name a question, see asked
}

func newMemory(t *testing.T) *memory {
	return &memory{t: t, records: map[uuid.UUID][]evidence.Record{}, intents: map[uuid.UUID]latch.Intent{},
		targets: map[uuid.UUID]*Target{}, before: map[uuid.UUID]int{},
		secrets: map[uuid.UUID]signin.SignIn{}, begun: map[uuid.UUID]uuid.UUID{}, refused: map[uuid.UUID]bool{}, at: time.Now()}
}

func (m *memory) device(title string) *latch.Device {
	d := &latch.Device{ID: uuid.New(), Title: title}
	m.devices = append(m.devices, d)
	return d
}

func (m *memory) Device(_ context.Context, id uuid.UUID) (*latch.Device, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	i := slices.IndexFunc(m.devices, func(d *latch.Device) bool { return d.ID == id })
	if i < 0 {
		return nil, errors.New("no such device")
	}
	out := *m.devices[i]
	out.Status = latch.Derive(m.records[id], m.intents[id])
	out.Addr = out.Status.Device.Addr.String()
	return &out, nil
}

func (m *memory) Neighbours(ctx context.Context) (out []latch.Device, err error) {
	for _, d := range m.devices {
		known, _ := m.Device(ctx, d.ID)
		out = append(out, *known)
	}
	return out, nil
}

func (m *memory) LongestWait(context.Context, uuid.UUID) (time.Duration, error) {
	return m.longest, nil
}

func (m *memory) Target(ctx context.Context, id uuid.UUID) (*Target, error) {
	t := m.targets[id]
	if d, err := m.Device(ctx, id); t == nil && err == nil && d.Status.Device.Kind == sighting.Recorder {
		t = &Target{ID: id, Kind: onvifrecorder.Kind, Name: d.Title, Device: d}
	}
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
	if t := m.targets[id]; t != nil {
		if s.Refused != uuid.Nil {
			t.Refused = s.Refused
		}
		t.Takes = cmp.Or(s.Takes, t.Takes)
		if s.OpenedUnder != "" {
			t.Trust.Certificates = append(t.Trust.Certificates, s.OpenedUnder)
		}
	}
	return nil
}

func (m *memory) Bind(_ context.Context, id uuid.UUID, s target.Secret, to target.Identity) error {
	list := m.targets[id].Trust.Agreements
	for i := range list {
		if list[i].Secret == s && list[i].To == nil {
			list[i].To = &to
		}
	}
	return nil
}

func (m *memory) Handed(_ context.Context, on uuid.UUID) (out []uuid.UUID, err error) {
	for _, d := range m.devices {
		for _, r := range m.records[d.ID] {
			if r.Kind == evidence.KindPlaced && r.Subject == on.String() {
				b, err := evidence.Decode[evidence.Placed](r)
				require.NoError(m.t, err)
				if b.SignIn != uuid.Nil {
					out = append(out, b.SignIn)
				}
			}
		}
	}
	return out, nil
}

// agreed is that a person has agreed to every secret going to a target.
func agreed() target.Trust {
	return target.Trust{Agreements: []target.Agreement{{Secret: target.OwnSignIn}, {Secret: target.CameraSignIn}, {Secret: target.StreamKey}}}
}

func (m *memory) Still(_ context.Context, id uuid.UUID) ([]byte, error) { return m.stills[id], nil }

func (m *memory) Alike(context.Context, picturematch.Print, uuid.UUID) (map[uuid.UUID][]byte, error) {
	return m.stills, nil
}

func (m *memory) AddAndRead(ctx context.Context, d *latch.Device, fs ...Finding) (*latch.Device, error) {
	if err := m.AddLater(ctx, d, fs...); err != nil {
		return nil, err
	}
	return m.Device(ctx, d.ID)
}

func (m *memory) Add(ctx context.Context, d *latch.Device, f Finding) error {
	return m.AddLater(ctx, d, f)
}

func (m *memory) AddLater(_ context.Context, d *latch.Device, fs ...Finding) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.lost != nil {
		return m.lost
	}
	for _, f := range fs {
		m.add(d, f)
	}
	return nil
}

func (m *memory) add(d *latch.Device, f Finding) {
	raw, err := evidence.Encode(f.Body)
	require.NoError(m.t, err)
	m.at = m.at.Add(time.Millisecond)
	m.records[d.ID] = append(m.records[d.ID], evidence.Record{ID: uuid.Must(uuid.NewV7()), Device: d.ID, At: m.at,
		Kind:    evidence.KindOf(f.Body),
		Subject: f.Subject, Body: raw, HasExchange: f.Exchange != ""})
	m.exchanges = append(m.exchanges, f.Exchange)
	m.opens += strings.Count(f.Exchange, "<GetSystemDateAndTime")
}

func (m *memory) Mine(_ context.Context, d *latch.Device, kind evidence.Kind, subject string) (bool, error) {
	for i, r := range slices.Backward(m.records[d.ID]) {
		if r.Kind == kind && r.Subject == subject {
			return i >= m.before[d.ID], nil
		}
	}
	return false, nil
}

// run begins a run on a device: what is recorded from now on is its own.
func (m *memory) run(device uuid.UUID) { m.before[device] = len(m.records[device]) }

func (m *memory) Identify(context.Context, uuid.UUID, string, string) error { return nil }

func (m *memory) Sight(_ context.Context, x sighting.Sighting) (uuid.UUID, error) {
	m.sighted = append(m.sighted, x)
	if m.sight != nil {
		m.sight(x)
	}
	return uuid.New(), nil
}

func (m *memory) Books(context.Context) ([]*recipe.Book, error) { return m.books, nil }

func (m *memory) Alone(ctx context.Context, _ uuid.UUID, fn func(context.Context) error) error {
	return fn(ctx)
}

func (m *memory) Key(_ context.Context, id uuid.UUID) (Key, error) {
	for _, k := range m.keys {
		if k.ID == id {
			return k, nil
		}
	}
	return Key{}, ErrGone
}

func (m *memory) OfRelay(context.Context, uuid.UUID) (signin.SignIn, error) {
	return signin.SignIn{User: "relay-k2f9aa", Secret: signin.NewSecret("A7Q2ZL5MXW3CFD6RTKPN4YHUJE")}, nil
}

func (m *memory) Decrypt(_ context.Context, id uuid.UUID) (signin.SignIn, error) {
	in, ok := m.secrets[id]
	if !ok {
		return in, ErrGone
	}
	return in, nil
}

func (m *memory) Candidates(_ context.Context, _ *latch.Device, _ signin.Purpose, again bool) (out []Key, err error) {
	for _, k := range m.keys {
		if again || !m.refused[k.ID] {
			out = append(out, k)
		}
	}
	return out, nil
}

func (m *memory) BeginOn(_ context.Context, _ *Target, key uuid.UUID, _ string) (uuid.UUID, error) {
	try := uuid.New()
	m.begun[try] = key
	return try, nil
}

func (m *memory) Begin(_ context.Context, _ *latch.Device, key uuid.UUID, _ signin.Purpose, _ string) (uuid.UUID, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.slept == 0 && len(m.tries) > 0 {
		return uuid.Nil, &signin.HeldBackError{Spacing: true, Until: m.at.Add(time.Second)}
	}
	m.slept = 0
	try := uuid.New()
	m.begun[try] = key
	return try, nil
}

func (m *memory) End(_ context.Context, try uuid.UUID, r signin.Result, _ time.Duration) error {
	m.mu.Lock()
	defer m.mu.Unlock()
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

func (m *memory) Now() time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.at
}

func (m *memory) Sleep(ctx context.Context, d time.Duration) error {
	m.mu.Lock()
	m.slept += d
	m.at = m.at.Add(d)
	m.mu.Unlock()
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

func (m *memory) work(d *latch.Device, ranges string) *Work {
	m.run(d.ID)
	w := Start(d, Config{Record: m, Keyring: m, Report: m, Clock: m,
		Targets: map[target.Kind]target.Driver{onvifrecorder.Kind: onvifrecorder.Driver{}},
		Guard:   &address.Guard{Allowed: address.MustParse(ranges)}})
	m.t.Cleanup(w.Close)
	return w
}

// heard puts a stand-in on record as a sweep would.
func (m *memory) heard(name, addr, service string, kind sighting.Kind) *latch.Device {
	d := m.device(name)
	d.Endpoint = "urn:" + name
	x := sighting.Sighting{Method: sighting.WSDiscovery, Addr: netip.MustParseAddr(addr), Endpoint: d.Endpoint, Kind: kind, Name: name,
		XAddr: service}
	require.NoError(m.t, m.Add(ctx, d, Finding{Subject: "ws-discovery", Body: evidence.Heard(x)}))
	return d
}

func (m *memory) kinds(d *latch.Device) (out []string) {
	for _, r := range m.records[d.ID] {
		out = append(out, strings.TrimSpace(string(r.Kind)+" "+r.Subject))
	}
	return out
}
