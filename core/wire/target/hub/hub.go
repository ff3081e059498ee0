// Package hub drives home automation hubs over MQTT 3.1.1. What the hub shall show stands in retained messages, a topic a camera; what it
// does with them it says in messages of its own. docs/hub.md lists the topics. No name ever stands in a topic: a camera is known there by a
// hash of its identity.
package hub

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"

	"unlatch/core/ground/certificate"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/trouble"
	"unlatch/core/ground/wiretext"
	"unlatch/core/wire/target"
)

// Kind is the kind of target that this driver is for.
const Kind target.Kind = "hub"

// Prefix is the setting for what all topics begin with; "unlatch" where it is missing.
const Prefix = "topic"

// Limits on what a broker may send in one session.
const (
	maxBytes   = 8 << 20
	maxPayload = 64 << 10
	maxCameras = 2048
)

// Driver is the driver; its zero value is ready.
type Driver struct{}

// Kind implements target.Driver.
func (Driver) Kind() target.Kind { return Kind }

// A Camera is the payload of cameras/KEY.
type Camera struct {
	Key      string   `json:"key"`
	Identity string   `json:"identity"`
	Name     string   `json:"name"`
	Streams  []Stream `json:"streams"`
	User     string   `json:"user,omitempty"`
	Password string   `json:"password,omitempty"`
}

// A Stream is one stream of it.
type Stream struct {
	Role   string `json:"role"`
	URL    string `json:"url"`
	Codec  string `json:"codec,omitempty"`
	Width  int    `json:"width,omitempty"`
	Height int    `json:"height,omitempty"`
}

// A State is the payload of state/KEY: what the hub says of a camera.
type State struct {
	State string `json:"state"` // connecting, showing, failed
	Says  string `json:"says,omitempty"`
}

// An About is the payload of about: what the hub says of itself.
type About struct {
	Name    string   `json:"name"`
	Maker   string   `json:"maker,omitempty"`
	Model   string   `json:"model,omitempty"`
	Screens []string `json:"screens,omitempty"`
}

// A Show is the payload of show/ID, and Shown of shown/ID.
type Show struct {
	Camera string `json:"camera"`
	Screen string `json:"screen"`
}

// Shown is the answer to a Show.
type Shown struct {
	Shown   bool   `json:"shown"`
	AfterMS int64  `json:"after_ms"`
	Says    string `json:"says,omitempty"`
}

// Key returns the part of the topics that stands for a camera.
func Key(identity string) string {
	sum := sha256.Sum256([]byte(identity))
	return hex.EncodeToString(sum[:8])
}

// Connect implements target.Driver. The address is mqtt://host:port or mqtts://host:port.
func (Driver) Connect(ctx context.Context, a target.Access) (target.Session, error) {
	u, err := url.Parse(a.Address)
	if err != nil || u.Host == "" || u.Scheme != "mqtt" && u.Scheme != "mqtts" {
		return nil, errors.New("the address of a broker is written like mqtt://192.0.2.10:1883")
	}
	s := &session{prefix: strings.Trim(a.Settings[Prefix], "/"), a: a, states: map[string]State{}, cameras: map[string]Camera{},
		shown: map[string]chan Shown{}}
	if s.prefix == "" {
		s.prefix = "unlatch"
	}
	if strings.ContainsAny(s.prefix, "#+\x00") || len(s.prefix) > 100 {
		return nil, errors.New("what topics begin with may not hold #, + or control characters")
	}
	at := net.JoinHostPort(u.Hostname(), target.Port(u))
	conn, err := a.Dial.DialContext(ctx, "tcp", at)
	if err != nil {
		return nil, err
	}
	s.channel = signin.Channel{Scheme: u.Scheme, At: at}
	if u.Scheme == "mqtts" {
		if conn, s.shownBy, err = certificate.Agree(ctx, conn, u.Hostname(), a.Pin, a.Log); err != nil {
			return nil, err
		}
		s.channel.Certificate, s.channel.Vouched = s.shownBy.SHA256, s.shownBy.VouchedFor(u.Hostname())
	}
	return s, s.connect(ctx, conn)
}

type session struct {
	prefix  string
	a       target.Access
	client  mqtt.Client
	channel signin.Channel
	shownBy *certificate.Certificate // nil without TLS

	mu      sync.Mutex
	about   *About
	cameras map[string]Camera
	states  map[string]State
	garbage int
	shown   map[string]chan Shown
	shows   int
}

// A RefusedError says that the broker does not take the sign-in.
type RefusedError struct{ Says string }

func (e *RefusedError) Error() string { return "the broker turns the sign-in down: " + e.Says }

func (s *session) connect(ctx context.Context, conn net.Conn) (err error) {
	defer func() {
		if err != nil {
			conn.Close()
		}
	}()
	judged := func(error) {}
	o := mqtt.NewClientOptions().AddBroker("tcp://broker").SetClientID("unlatch-" + hex.EncodeToString(random())).SetCleanSession(true).
		SetAutoReconnect(false).SetConnectTimeout(5 * time.Second).SetWriteTimeout(5 * time.Second).SetProtocolVersion(4).SetOrderMatters(true)
	o.SetCustomOpenConnectionFn(func(*url.URL, mqtt.ClientOptions) (net.Conn, error) {
		return &bounded{Conn: conn, left: maxBytes}, nil
	})
	if !s.a.SignIn.Anonymous() {
		// A user name and password stand in CONNECT as they are (MQTT 3.1.1 §3.1.3).
		if judged, err = s.a.Leave.Ask(ctx, signin.Sending{Scheme: "basic", Channel: s.channel}); err != nil {
			return err
		}
		o.SetUsername(s.a.SignIn.User).SetPassword(s.a.SignIn.Secret.Reveal())
	}
	s.client = mqtt.NewClient(o)
	s.a.Log.Sent("MQTT CONNECT")
	err = waitFor(ctx, s.client.Connect())
	if err != nil && (strings.Contains(err.Error(), "ot Authorized") || strings.Contains(err.Error(), "bad user name")) {
		err = &RefusedError{wiretext.Line(err.Error(), 100)}
	}
	judged(err)
	if err != nil {
		return err
	}
	s.a.Log.Got("MQTT CONNACK")
	topics := map[string]byte{}
	for _, t := range []string{"about", "cameras/+", "state/+", "shown/+"} {
		topics[s.prefix+"/"+t] = 1
	}
	if err := waitFor(ctx, s.client.SubscribeMultiple(topics, s.onMessage)); err != nil {
		s.Close()
		return err
	}
	return nil
}

func random() []byte {
	sum := sha256.Sum256([]byte(time.Now().String()))
	return sum[:6]
}

// waitFor waits for a token of the library, for 5 s at most.
func waitFor(ctx context.Context, t mqtt.Token) error {
	select {
	case <-t.Done():
		return t.Error()
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(5 * time.Second):
		return errors.New("the broker does not answer")
	}
}

// bounded ends a connection on which more comes than any hub has to say.
type bounded struct {
	net.Conn
	left int
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, io.ErrUnexpectedEOF
	}
	n, err := b.Conn.Read(p[:min(len(p), b.left)])
	b.left -= n
	return n, err
}

// onMessage takes one message. What cannot be read is counted and passed over.
func (s *session) onMessage(_ mqtt.Client, m mqtt.Message) {
	s.mu.Lock()
	defer s.mu.Unlock()
	rest := strings.TrimPrefix(m.Topic(), s.prefix+"/")
	kind, key, _ := strings.Cut(wiretext.Line(rest, 200), "/")
	read := func(v any) bool {
		if len(m.Payload()) > maxPayload || json.Unmarshal(m.Payload(), v) != nil {
			s.garbage++
			return false
		}
		wiretext.Every(v)
		return true
	}
	switch kind {
	case "about":
		var a About
		if read(&a) {
			a.Name, a.Maker, a.Model = wiretext.Line(a.Name, 100), wiretext.Line(a.Maker, 100), wiretext.Line(a.Model, 100)
			a.Screens = a.Screens[:min(len(a.Screens), 64)]
			for i := range a.Screens {
				a.Screens[i] = wiretext.Line(a.Screens[i], 100)
			}
			s.about = &a
		}
	case "cameras":
		var c Camera
		if len(m.Payload()) == 0 {
			delete(s.cameras, key)
		} else if read(&c) && len(s.cameras) < maxCameras {
			c.Name, c.Password = wiretext.Line(c.Name, 300), ""
			s.cameras[key] = c
		}
	case "state":
		var st State
		if read(&st) && len(s.states) < maxCameras {
			s.states[key] = State{wiretext.Line(st.State, 40), wiretext.Line(st.Says, 300)}
		}
	case "shown":
		var x Shown
		if c := s.shown[key]; c != nil && read(&x) {
			x.Says = wiretext.Line(x.Says, 300)
			select {
			case c <- x:
			default:
			}
		}
	}
}

// Scheme implements target.SignedIn. A broker does not say whether it looks at the user name and password that CONNECT carries.
func (s *session) Scheme() string {
	if s.a.SignIn.Anonymous() {
		return "none"
	}
	return "basic"
}

// Shown implements target.Certified.
func (s *session) Shown() *certificate.Certificate { return s.shownBy }

// Close implements target.Session.
func (s *session) Close() { s.client.Disconnect(50) }

// settleTime is how long a hub gets to tell what is retained.
const settleTime = 8 * time.Second

// settle waits until what is retained has come: brokers send it right after the subscription.
func (s *session) settle(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, settleTime) // a broker may go on telling for ever
	defer cancel()
	for before := -1; ; {
		s.mu.Lock()
		now := len(s.cameras) + len(s.states) + s.garbage
		known := s.about != nil
		s.mu.Unlock()
		if now == before && known {
			return nil
		}
		before = now
		select {
		case <-ctx.Done():
			if known {
				return nil // what has come until now is what there is
			}
			return ctx.Err()
		case <-time.After(150 * time.Millisecond):
		}
		if !known {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(300 * time.Millisecond):
			}
			s.mu.Lock()
			known = s.about != nil
			s.mu.Unlock()
			if !known {
				return &SilentError{s.prefix}
			}
		}
		if !s.client.IsConnected() {
			return errors.New("the broker ended the connection")
		}
	}
}

// A SilentError says that a broker answers, and no hub behind it.
type SilentError struct{ Prefix string }

func (e *SilentError) Error() string {
	return fmt.Sprintf("the broker answers, and no hub has said on %s/about that it is there", e.Prefix)
}

// Describe implements target.Describer.
func (s *session) Describe(ctx context.Context) (target.About, error) {
	if err := s.settle(ctx); err != nil {
		return target.About{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return target.About{Name: s.about.Name, Kind: "hub", Maker: s.about.Maker, Model: s.about.Model, Screens: slices.Clone(s.about.Screens),
		Abilities: []string{"show"}, Both: true}, nil
}

// Slots implements target.Lister: the cameras that are retained. A hub has room for as many as it is given.
func (s *session) Slots(ctx context.Context) (target.Layout, error) {
	if err := s.settle(ctx); err != nil {
		return target.Layout{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := target.Layout{Slots: []target.Slot{}}
	for key, c := range s.cameras {
		out.Slots = append(out.Slots, target.Slot{Token: key, Is: target.Used, Name: c.Name, Identity: c.Identity, State: s.stateText(key)})
	}
	slices.SortFunc(out.Slots, func(a, b target.Slot) int { return strings.Compare(a.Name+a.Token, b.Name+b.Token) })
	return out, nil
}

func (s *session) stateText(key string) string {
	st := s.states[key]
	if st.Says != "" {
		return st.State + ": " + st.Says
	}
	return st.State
}

func (s *session) publish(ctx context.Context, topic string, retained bool, v any) error {
	var payload []byte
	if v != nil {
		var err error
		if payload, err = json.Marshal(v); err != nil {
			return err
		}
	}
	s.a.Log.Sent(fmt.Sprintf("MQTT PUBLISH %s/%s, %d bytes", s.prefix, topic, len(payload)))
	return waitFor(ctx, s.client.Publish(s.prefix+"/"+topic, 1, retained, payload))
}

// Place implements target.Session. What the hub said of the camera before is forgotten, so that its next word is of what it has now.
func (s *session) Place(ctx context.Context, c target.Camera) (target.Placement, error) {
	if !c.SignIn.Anonymous() {
		about, err := s.Describe(ctx)
		if err != nil {
			return target.Placement{}, err
		}
		h := target.Handing{Secret: target.CameraSignIn, Channel: s.channel, Scheme: s.Scheme(), About: about}
		if err := s.a.HandOver.Ask(ctx, h); err != nil {
			return target.Placement{}, err
		}
	}
	key := Key(c.Identity)
	out := Camera{Key: key, Identity: c.Identity, Name: c.Name, User: c.SignIn.User, Password: c.SignIn.Secret.Reveal()}
	for _, st := range c.Streams {
		out.Streams = append(out.Streams, Stream{st.Role, st.URL, st.Codec, st.Width, st.Height})
	}
	if err := s.publish(ctx, "state/"+key, true, nil); err != nil {
		return target.Placement{}, err
	}
	s.mu.Lock()
	delete(s.states, key)
	s.mu.Unlock()
	if err := s.publish(ctx, "cameras/"+key, true, out); err != nil {
		return target.Placement{}, err
	}
	return target.Placement{Ref: target.Ref(key), Slot: "the hub's cameras", Token: key}, nil
}

// Remove implements target.Session: an empty retained message takes one away (§3.3.1.3).
func (s *session) Remove(ctx context.Context, ref target.Ref) error {
	return errors.Join(s.publish(ctx, "cameras/"+string(ref), true, nil), s.publish(ctx, "state/"+string(ref), true, nil),
		s.publish(ctx, "rules/"+string(ref), true, nil))
}

// Confirm implements target.Session.
func (s *session) Confirm(ctx context.Context, ref target.Ref, wait time.Duration) (target.Report, error) {
	began := time.Now()
	for {
		s.mu.Lock()
		st := s.states[string(ref)]
		out := target.Report{Arrived: st.State == "showing", Says: s.stateText(string(ref)), After: time.Since(began)}
		s.mu.Unlock()
		if out.Says == "" {
			out.Says = "nothing of it"
		}
		if st.State != "failed" { // one that says nothing, or off, may not have begun yet
			out.Waits = trouble.WaitsToConnect
		}
		if out.Arrived || out.After > wait {
			return out, nil
		}
		if !s.client.IsConnected() {
			return out, errors.New("the broker ended the connection")
		}
		select {
		case <-ctx.Done():
			return out, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Show implements target.Shower: measured from the message to the hub's word that the picture stands on the screen.
func (s *session) Show(ctx context.Context, ref target.Ref, screen string) (target.Report, error) {
	s.mu.Lock()
	s.shows++
	id := fmt.Sprintf("%s-%d", hex.EncodeToString(random()), s.shows)
	answer := make(chan Shown, 1)
	s.shown[id] = answer
	s.mu.Unlock()
	began := time.Now()
	if err := s.publish(ctx, "show/"+id, false, Show{Camera: string(ref), Screen: screen}); err != nil {
		return target.Report{}, err
	}
	select {
	case x := <-answer:
		return target.Report{Arrived: x.Shown, Says: x.Says, After: time.Since(began)}, nil
	case <-ctx.Done():
		return target.Report{}, ctx.Err()
	case <-time.After(12 * time.Second):
		return target.Report{Says: "nothing", After: time.Since(began)}, nil
	}
}

// A Rule is the payload of rules/KEY: the hub shows the camera on a screen when a message comes on a topic.
type Rule struct {
	Event  string `json:"event"`
	Screen string `json:"screen"`
}

// SetRule has the hub show a camera when an event comes; the zero Rule takes that back.
func (s *session) SetRule(ctx context.Context, ref target.Ref, r Rule) error {
	if r == (Rule{}) {
		return s.publish(ctx, "rules/"+string(ref), true, nil)
	}
	if r.Event == "" || strings.ContainsAny(r.Event, "#+\x00") {
		return errors.New("an event is one topic, without # and +")
	}
	return s.publish(ctx, "rules/"+string(ref), true, r)
}

// A Ruler is a session with a hub that can show a camera by a rule.
type Ruler interface {
	SetRule(ctx context.Context, ref target.Ref, r Rule) error
}
