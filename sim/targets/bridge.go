package targets

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"unlatch/core/ground/signin"
	"unlatch/core/wire/bridge"
	"unlatch/core/wire/rtsp"
	"unlatch/sim/puller"
)

// A Bridge is a stand-in that speaks the bridge contract.
type Bridge struct {
	t      Target
	kind   kind
	about  bridge.Target
	ctx    context.Context
	halt   context.CancelFunc
	server *http.Server
	relay  *rtsp.Server
	nonce  string
	file   string
	began  time.Time
	live   *platform

	mu        sync.Mutex
	slots     []*slot
	templates []bridge.Template
	calls     int
	mixed     bool
	pulls     []*puller.Pull
	// forgets is how many cameras it will still forget, forgetsAfter how long after it was given each.
	forgets      int
	forgetsAfter time.Duration
	hides        int // so many of its next answers list no camera, as while it starts
}

// A slot is one slot with what it pulls.
type slot struct {
	bridge.Slot
	password string
	pulls    map[string]*puller.Pull
	since    time.Time
	push     *push
}

// kept is what a bridge remembers over a restart.
type kept struct {
	Entries   map[string]bridge.Entry
	Freed     []string
	Schedules map[string]bridge.Schedule
	Templates []bridge.Template
	Pushes    map[string]bridge.Push
	Order     []string
}

func startBridge(ctx context.Context, t Target, o Options) (*Bridge, error) {
	b := &Bridge{t: t, kind: kinds[t.Kind], nonce: randomHex(), began: time.Now()}
	b.ctx, b.halt = context.WithCancel(ctx)
	b.about = b.kind.about(t)
	b.about.Contract, b.about.Name, b.about.Maker, b.about.Model, b.about.LimitKbps =
		bridge.Version, t.Name, t.Maker, t.Model, t.LimitMbps*1000
	if t.Codec != "" {
		b.about.Intake.Codecs = []string{t.Codec}
	}
	for _, s := range b.kind.slots(t) {
		b.slots = append(b.slots, &slot{Slot: s, pulls: map[string]*puller.Pull{}})
	}
	if t.Kind == "platform" {
		var err error
		if b.live, err = startPlatform(b.ctx, t, b.began); err != nil {
			return nil, err
		}
	}
	if t.Streams != 0 {
		if err := b.sendOn(); err != nil {
			return nil, err
		}
	}
	if o.State != "" {
		b.file = filepath.Join(o.State, "target-"+strings.ReplaceAll(t.Name, " ", "-")+"-"+t.Address.String()+".json")
		if err := b.load(); err != nil {
			return nil, err
		}
	}
	l, err := listen(t, t.Port)
	if err != nil {
		return nil, err
	}
	b.server = &http.Server{Handler: b.routes(), ReadHeaderTimeout: 5 * time.Second}
	go b.server.Serve(l)
	return b, nil
}

func (b *Bridge) stop() {
	b.halt()
	b.server.Close()
	if b.relay != nil {
		b.relay.Close()
	}
	if b.live != nil {
		b.live.stop()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, p := range b.pulls {
		p.Stop()
	}
}

func (b *Bridge) load() error {
	raw, err := os.ReadFile(b.file)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	var k kept
	if err == nil {
		err = json.Unmarshal(raw, &k)
	}
	if err != nil {
		return fmt.Errorf("the memory %s cannot be read (%w); delete the file to start it empty", b.file, err)
	}
	b.templates = k.Templates
	for _, id := range k.Freed {
		if s := b.slot(id); s != nil {
			s.State, s.Why, s.CanFree = bridge.Free, "", false
		}
	}
	for id, sc := range k.Schedules {
		if s := b.slot(id); s != nil {
			s.Schedule = &sc
		}
	}
	for id, e := range k.Entries {
		if s := b.slot(id); s != nil {
			b.fill(s, e)
		}
	}
	for id, p := range k.Pushes {
		if s := b.slot(id); s != nil && s.Entry != nil {
			s.push = b.startPush(s, p)
		}
	}
	b.arrange(k.Order)
	return nil
}

// save keeps what was set up; the caller holds mu.
func (b *Bridge) save() {
	if b.file == "" {
		return
	}
	k := kept{Entries: map[string]bridge.Entry{}, Schedules: map[string]bridge.Schedule{}, Pushes: map[string]bridge.Push{},
		Templates: b.templates}
	first := b.kind.slots(b.t)
	for i := range first {
		s := b.slot(first[i].ID)
		if first[i].State == bridge.Blocked && s.State != bridge.Blocked {
			k.Freed = append(k.Freed, s.ID)
		}
		if s.State == bridge.Used {
			e := *s.Entry
			e.Password = s.password
			k.Entries[s.ID] = e
		}
		if s.Schedule != nil {
			k.Schedules[s.ID] = *s.Schedule
		}
		if s.push != nil {
			k.Pushes[s.ID] = s.push.to
		}
	}
	for _, s := range b.slots {
		k.Order = append(k.Order, s.ID)
	}
	raw, err := json.Marshal(k)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(b.file), 0o700)
	}
	if err == nil {
		os.WriteFile(b.file, raw, 0o600)
	}
}

func (b *Bridge) slot(id string) *slot {
	for _, s := range b.slots {
		if s.ID == id {
			return s
		}
	}
	return nil
}

func (b *Bridge) template(n int) *bridge.Template {
	for i := range b.templates {
		if b.templates[i].Number == n {
			return &b.templates[i]
		}
	}
	return nil
}

func (b *Bridge) named(name, key string) bool {
	for _, s := range b.slots {
		if s.Entry != nil && s.Entry.Key != key && s.Entry.Name == name {
			return true
		}
	}
	return false
}

// arrange puts slots into an order; the caller holds mu or owns b alone.
func (b *Bridge) arrange(ids []string) {
	var out []*slot
	for _, id := range ids {
		if s := b.slot(id); s != nil {
			out = append(out, s)
		}
	}
	for _, s := range b.slots {
		found := false
		for _, o := range out {
			found = found || o == s
		}
		if !found {
			out = append(out, s)
		}
	}
	b.slots = out
}

// fill puts an entry into a slot and begins to pull it.
func (b *Bridge) fill(s *slot, e bridge.Entry) {
	b.empty(s)
	s.password = e.Password
	e.Password, e.Replaces = "", ""
	s.Entry, s.State, s.since = &e, bridge.Used, time.Now()
	in := signin.SignIn{User: e.User, Secret: signin.NewSecret(s.password)}
	from := b.sources(e)
	if b.t.Mixes && !b.mixed && s != b.slots[0] && b.slots[0].Entry != nil {
		from, b.mixed = b.sources(*b.slots[0].Entry), true
		in = signin.SignIn{User: b.slots[0].Entry.User, Secret: signin.NewSecret(b.slots[0].password)}
	}
	for _, st := range from {
		p := puller.Start(b.ctx, puller.Source{URL: st.URL, SignIn: in, Transport: rtsp.TCP, Codec: b.t.Codec,
			Sound: slices.Contains(b.about.Abilities, bridge.CanPush)})
		s.pulls[st.Role] = p
		b.pulls = append(b.pulls, p)
	}
}

// sources returns the URLs that an entry means: its own, or those of its template.
func (b *Bridge) sources(e bridge.Entry) []bridge.Stream {
	for _, d := range b.about.Drivers {
		if d.ID == e.Driver && !d.Plain {
			return nil // a driver that asks the camera in its maker's own way, and gets nothing
		}
	}
	t := b.template(e.Template)
	if t == nil {
		return e.Streams
	}
	path := strings.ReplaceAll(t.Path, b.about.Templates.Channel, strconv.Itoa(e.Channel))
	return []bridge.Stream{{Role: t.Stream, URL: fmt.Sprintf("rtsp://%s:%d%s", e.Address, t.Port, path)}}
}

func (b *Bridge) empty(s *slot) {
	for _, p := range s.pulls {
		p.Cancel()
	}
	if s.push != nil {
		s.push.stop()
		s.push = nil
	}
	s.pulls = map[string]*puller.Pull{}
	if s.State == bridge.Used {
		s.State, s.Entry = bridge.Free, nil
	}
}

// view returns a slot as the bridge tells it.
func (b *Bridge) view(s *slot) bridge.Slot {
	out := s.Slot
	if b.live != nil {
		st := b.live.status()
		out.Status = &st
		return out
	}
	if s.State != bridge.Used {
		return out
	}
	st := bridge.Status{State: "showing", Since: s.since.UTC().Format(time.RFC3339)}
	if len(s.pulls) == 0 {
		st = bridge.Status{State: "connecting", Says: "no picture by this driver"}
	}
	if time.Since(s.since) < time.Duration(b.t.ConnectsMS)*time.Millisecond {
		st.State = "connecting"
		out.Status = &st
		return out
	}
	for role, p := range s.pulls {
		state, why := p.State()
		m := p.Measured()
		switch {
		case state != puller.Connected:
			st.State = "connecting"
			if why != "" || time.Since(s.since) > settle {
				st.State, st.Says = "failed", "no picture of the "+role+" stream"
				if strings.Contains(why, "refuses") || strings.Contains(why, "sign-in") {
					st.Says = "the " + role + " stream refuses the sign-in"
				}
			}
		case b.about.Intake.MaxFPS > 0 && m.FPS > b.about.Intake.MaxFPS*1.1:
			st.State, st.Says = "failed", fmt.Sprintf("%.0f pictures a second are too many", m.FPS)
		case b.about.Intake.MaxSize.Width > 0 && m.Width > b.about.Intake.MaxSize.Width:
			st.State, st.Says = "failed", fmt.Sprintf("%d×%d is too large", m.Width, m.Height)
		default:
			st.Sizes = append(st.Sizes, bridge.Stream{Role: role, Width: m.Width, Height: m.Height})
		}
	}
	if s.push != nil {
		st.Pushed = s.push.state()
	}
	out.Status = &st
	if b.relay != nil {
		out.SendsOn = b.sent(s)
	}
	return out
}

// A Look is what a test may see of a bridge from inside.
func (b *Bridge) Look() bridge.Slots {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.list()
}

// Templates returns those that are defined.
func (b *Bridge) Templates() []bridge.Template {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]bridge.Template(nil), b.templates...)
}

// Vanish takes a slot away, as an owner does who sells a part of a recorder.
func (b *Bridge) Vanish(id string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.slots = slices.DeleteFunc(b.slots, func(s *slot) bool { return s.ID == id })
}

// Forget empties the slot that holds a camera of an identity, and reports whether one did.
func (b *Bridge) Forget(identity string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, s := range b.slots {
		if s.State == bridge.Used && s.Entry != nil && s.Entry.Key == identity {
			b.empty(s)
			b.save()
			return true
		}
	}
	return false
}

// Hide has the bridge list all its slots as free in its next answers, as one does that is still starting.
func (b *Bridge) Hide(answers int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.hides = answers
}

// ForgetAfter has the bridge forget each camera a while after it was put there, the next so many times.
func (b *Bridge) ForgetAfter(after time.Duration, times int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.forgets, b.forgetsAfter = times, after
}

// Mix gives two slots each other's streams and leaves their names: what somebody does at the target who plugs it wrong.
func (b *Bridge) Mix(first, second string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	x, y := b.slot(first), b.slot(second)
	x.pulls, y.pulls = y.pulls, x.pulls
	x.Entry.Streams, y.Entry.Streams = y.Entry.Streams, x.Entry.Streams
	b.save()
}
