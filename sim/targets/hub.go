package targets

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/auth"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"unlatch/core/ground/signin"
	"unlatch/core/wire/target/hub"
	"unlatch/sim/puller"
	"unlatch/sim/selfsigned"
)

// A Hub is a home automation hub with its broker.
type Hub struct {
	t      Target
	ctx    context.Context
	halt   context.CancelFunc
	broker *mqtt.Server
	once   sync.Once

	mu    sync.Mutex
	pulls map[string]*puller.Pull
	all   []*puller.Pull
	rules map[string]hub.Rule
	shown []hub.Show
}

const prefix = "unlatch/"

func startHub(ctx context.Context, t Target) (*Hub, error) {
	h := &Hub{t: t, pulls: map[string]*puller.Pull{}, rules: map[string]hub.Rule{}}
	h.ctx, h.halt = context.WithCancel(ctx)
	h.broker = mqtt.New(&mqtt.Options{InlineClient: true, Logger: slog.New(slog.DiscardHandler)})
	ledger := &auth.Ledger{Auth: auth.AuthRules{{Username: auth.RString(t.User), Password: auth.RString(t.Secret.Reveal()), Allow: true}}}
	if t.User == "" {
		ledger = &auth.Ledger{Auth: auth.AuthRules{{Allow: true}}}
	}
	if err := h.broker.AddHook(new(auth.Hook), &auth.Options{Ledger: ledger}); err != nil {
		return nil, err
	}
	l, err := listen(t, t.Port)
	if err != nil {
		return nil, err
	}
	if t.TLS {
		own, err := selfsigned.Certificate(t.Name, time.Date(2049, 1, 1, 0, 0, 0, 0, time.UTC))
		if err != nil {
			return nil, err
		}
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{own}})
	}
	if err := h.broker.AddListener(listeners.NewNet("hub", l)); err != nil {
		return nil, err
	}
	if err := h.broker.Serve(); err != nil {
		return nil, err
	}
	h.publish("about", true, hub.About{Name: t.Name, Maker: t.Maker, Model: t.Model, Screens: t.Screens})
	return h, h.broker.Subscribe("#", 1, func(_ *mqtt.Client, _ packets.Subscription, p packets.Packet) { h.heard(p.TopicName, p.Payload) })
}

func (h *Hub) stop() {
	h.halt()
	h.once.Do(func() { h.broker.Close() })
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, p := range h.all {
		p.Stop()
	}
}

func (h *Hub) publish(topic string, retained bool, v any) {
	raw, err := json.Marshal(v)
	if err == nil {
		h.broker.Publish(prefix+topic, raw, retained, 1)
	}
}

func (h *Hub) heard(topic string, payload []byte) {
	kind, key, _ := strings.Cut(strings.TrimPrefix(topic, prefix), "/")
	if !strings.HasPrefix(topic, prefix) {
		kind = "event"
	}
	switch kind {
	case "cameras":
		var c hub.Camera
		if len(payload) > 0 && json.Unmarshal(payload, &c) != nil {
			return
		}
		go h.take(key, c)
	case "show":
		var s hub.Show
		if json.Unmarshal(payload, &s) == nil {
			go h.show(key, s)
		}
	case "rules":
		var r hub.Rule
		h.mu.Lock()
		delete(h.rules, key)
		if json.Unmarshal(payload, &r) == nil && r.Event != "" {
			h.rules[key] = r
		}
		h.mu.Unlock()
	case "event":
		h.mu.Lock()
		for camera, r := range h.rules {
			if r.Event == topic {
				go h.show("by-rule", hub.Show{Camera: camera, Screen: r.Screen})
			}
		}
		h.mu.Unlock()
	}
}

// take begins to pull a camera, or ends it where there is none any more.
func (h *Hub) take(key string, c hub.Camera) {
	h.mu.Lock()
	if old := h.pulls[key]; old != nil {
		old.Cancel()
		delete(h.pulls, key)
	}
	if len(c.Streams) == 0 || h.ctx.Err() != nil {
		h.mu.Unlock()
		return
	}
	at := c.Streams[len(c.Streams)-1].URL // the smallest
	p := puller.Start(h.ctx, puller.Source{URL: at, SignIn: signin.SignIn{User: c.User, Secret: signin.NewSecret(c.Password)}})
	h.pulls[key] = p
	h.all = append(h.all, p)
	h.mu.Unlock()
	h.publish("state/"+key, true, hub.State{State: "connecting"})
	ctx, cancel := context.WithTimeout(h.ctx, settle)
	defer cancel()
	if p.Await(ctx) {
		m := p.Measured()
		h.publish("state/"+key, true, hub.State{State: "showing", Says: fmt.Sprintf("%d×%d", m.Width, m.Height)})
		return
	}
	if h.ctx.Err() == nil {
		_, why := p.State()
		h.publish("state/"+key, true, hub.State{State: "failed", Says: "no picture: " + why})
	}
}

// show puts a camera on a screen: it stands there when its picture is decoded.
func (h *Hub) show(id string, s hub.Show) {
	began := time.Now()
	h.mu.Lock()
	p := h.pulls[s.Camera]
	h.shown = append(h.shown, s)
	h.mu.Unlock()
	out := hub.Shown{Says: "there is no such camera"}
	known := false
	for _, x := range h.t.Screens {
		known = known || x == s.Screen
	}
	if p != nil && known {
		ctx, cancel := context.WithTimeout(h.ctx, settle)
		defer cancel()
		_, err := p.Still(ctx)
		out = hub.Shown{Shown: err == nil, AfterMS: time.Since(began).Milliseconds(), Says: "on " + s.Screen}
	} else if !known {
		out.Says = "there is no such screen"
	}
	h.publish("shown/"+id, false, out)
}

// Shown returns what was put on screens.
func (h *Hub) Shown() []hub.Show {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]hub.Show(nil), h.shown...)
}

// Publish sends a message as somebody else on the broker would.
func (h *Hub) Publish(topic string, payload []byte, retained bool) {
	h.broker.Publish(topic, payload, retained, 1)
}
