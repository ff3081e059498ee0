// Package target puts cameras onto whatever takes them in and asks it whether the picture arrives. Each kind of target is one Driver, in a
// package of its own below this one; what a person sees of all of them alike stands here.
package target

import (
	"cmp"
	"context"
	"net/netip"
	"net/url"
	"time"

	"unlatch/core/ground/address"
	"unlatch/core/ground/certificate"
	"unlatch/core/ground/exchange"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/intake"
)

// A Kind names a driver: "onvif-recorder".
type Kind string

// A Driver is one kind of target.
type Driver interface {
	Kind() Kind
	// Connect prepares a session with a target. What is sent for that sends no sign-in unless Access.Leave allows it.
	Connect(ctx context.Context, a Access) (Session, error)
}

// An Access is the way to one target.
type Access struct {
	Dial    address.Dialer
	Address string        // as the kind writes it: of a recorder by ONVIF, its device service; of a bridge, where it answers
	SignIn  signin.SignIn // the anonymous one where the target wants none
	Pin     string        // SHA-256 of the certificate that it is known by, in hex; "" for none
	Leave   signin.Leave  // is asked before the sign-in goes out
	// HandOver is asked before a secret is handed over; nil lets out what nobody else can read, and nothing else.
	HandOver HandOver
	// About is what the target has said of itself before, for kinds that do not say it in each session.
	About   About
	InScope func(netip.Addr) bool
	Log     *exchange.Log
	// Settings are what a kind wants to know besides, by name; Fresh reads them again, where others change them meanwhile.
	Settings map[string]string
	Fresh    func(ctx context.Context) (map[string]string, error)
	// Through is a second target that the first is reached by: the recorder that sends on to a live platform; nil for none.
	Through *Access
}

// A Session is a target under work. It is not safe for concurrent use. What it can do besides are the small interfaces below.
type Session interface {
	// Place puts a camera onto the target. It is idempotent: a camera that is there already is given the new URL, and a placement that was
	// cut off half way is finished rather than begun again.
	Place(ctx context.Context, c Camera) (Placement, error)
	// Confirm asks until the picture has arrived or wait has passed; the last report is returned either way.
	Confirm(ctx context.Context, ref Ref, wait time.Duration) (Report, error)
	// Remove takes a camera off again. What is gone already is no error.
	Remove(ctx context.Context, ref Ref) error
	Close()
}

// A Describer is a session with a target that says what it is.
type Describer interface {
	Describe(ctx context.Context) (About, error)
}

// usualPorts are those of the schemes by which targets are addressed.
var usualPorts = map[string]string{"http": "80", "https": "443", "mqtt": "1883", "mqtts": "8883"}

// Port returns the port of a target's address: the usual one of its scheme where the address names none.
func Port(u *url.URL) string { return cmp.Or(u.Port(), usualPorts[u.Scheme]) }

// A Certified session is one over TLS: it tells the one that the target showed; nil without TLS.
type Certified interface {
	Shown() *certificate.Certificate
}

// A SignedIn session tells the scheme in which the target has taken its sign-in; "none" where it asks for none.
type SignedIn interface {
	Scheme() string
}

// A Lister is a session with a target that has slots and tells them.
type Lister interface {
	Slots(ctx context.Context) (Layout, error)
}

// A Mover is a session with a target whose slots can be changed about. Two cameras change places where both slots are in use.
type Mover interface {
	Move(ctx context.Context, ref Ref, to string) (Placement, error)
}

// An Orderer is a session with a target whose order can be set; slots by their tokens, the first at a glance first.
type Orderer interface {
	Order(ctx context.Context, slots []string) error
}

// A Freer is a session with a target of whose slots some are blocked by what can be given up.
type Freer interface {
	Free(ctx context.Context, slot string) error
}

// A Shower is a session with a target that shows a camera on a screen when it is told to.
type Shower interface {
	Show(ctx context.Context, ref Ref, screen string) (Report, error)
}

// A Picturer is a session with a target that gives the picture of a placement as it shows it, a JPEG.
type Picturer interface {
	Picture(ctx context.Context, ref Ref) ([]byte, error)
}

// A Sender is a session with a target from which the picture of a placement can be played.
type Sender interface {
	SendsOn(ctx context.Context, ref Ref) ([]Sent, error)
}

// A Replayer is a session with a target whose recording of a placement can be played; nil where it has nothing to play.
type Replayer interface {
	Replay(ctx context.Context, ref Ref) (*Replay, error)
}

// A Replay is where a recording is played, and from which moment on so that its newest picture comes. It is asked for with rtsp.Replay.
type Replay struct {
	URL  string
	From time.Time // by the target's clock
}

// An Owner is a session with a recorder that has cameras on its own switch: the placement is that of channel n, nil where it keeps none.
type Owner interface {
	Own(ctx context.Context, channel int) (*Placement, error)
}

// A Scheduler is a session with a target that records by a schedule.
type Scheduler interface {
	Schedule(ctx context.Context, slot string, s Schedule) error
}

// An About is what a target says of itself.
type About struct {
	Name      string         `json:"name"`
	Kind      string         `json:"kind,omitempty" doc:"recorder, software, panel, intercom, directory, platform, hub"`
	Maker     string         `json:"maker,omitempty"`
	Model     string         `json:"model,omitempty"`
	Serial    string         `json:"serial,omitempty"`
	Abilities []string       `json:"abilities,omitempty"`
	Screens   []string       `json:"screens,omitempty"`
	Intake    *intake.Intake `json:"intake,omitempty" doc:"what it takes, by its own word"`
	// Through says that it takes channels of a recorder and no cameras; Both that it takes main and sub together; Pictures that it takes
	// picture URLs.
	Through  bool `json:"through,omitempty"`
	Both     bool `json:"both,omitempty"`
	Pictures bool `json:"pictures,omitempty"`
}

// A Camera is what a target needs to know of one.
type Camera struct {
	Identity string // endpoint reference: by it a placement is recognised again
	Name     string
	Address  string
	Model    string
	Streams  []Stream // that the target shall have, the best first
	SignIn   signin.SignIn
	Channel  int    // of the recorder that it comes through; 0 for none
	Slot     string // the token of the slot that it shall have; "" for the first that is free
	Replaces string // the identity of the camera whose slot it takes over; "" for none
	// Anew says that what the target has of the camera is made anew rather than changed: it did not take a change over.
	Anew bool
}

// A Stream is one stream of a camera as a target is given it.
type Stream struct {
	Role          string // main, sub, third; picture for one over HTTP
	URL           string // without a sign-in
	Codec         string
	Width, Height int
	Transport     string
}

// SignedURL returns the URL of the first stream with the sign-in percent-encoded; never logged.
func (c Camera) SignedURL() string {
	if len(c.Streams) == 0 {
		return ""
	}
	return c.SignedURLs()[0]
}

// SignedURLs returns those of all streams.
func (c Camera) SignedURLs() (urls []string) {
	for _, s := range c.Streams {
		u, err := streamurl.Parse(s.URL)
		if err != nil || c.SignIn.Anonymous() {
			urls = append(urls, s.URL) // the target has the last word on a URL
			continue
		}
		u.SignIn = c.SignIn
		urls = append(urls, u.Reveal())
	}
	return urls
}

// A Ref is what a driver needs to find a placement again. Only the driver that wrote it reads it.
type Ref string

// A Placement says where a camera was put.
type Placement struct {
	Ref   Ref
	Slot  string // as a person finds it on the target
	Token string // the target's own name of the slot
}

// States of slots.
const (
	Free    = "free"
	Used    = "used"
	Blocked = "blocked"
	Locked  = "locked"
)

// A Slot is a place in a target.
type Slot struct {
	Token    string    `json:"token"`
	Label    string    `json:"label,omitempty"`
	Is       string    `json:"is" enum:"free,used,blocked,locked"`
	Why      string    `json:"why,omitempty" doc:"of a blocked or locked one"`
	CanFree  bool      `json:"can_free,omitempty"`
	Name     string    `json:"name,omitempty" doc:"of what is in it"`
	Identity string    `json:"identity,omitempty" doc:"of the camera in it, where the target keeps it"`
	Address  string    `json:"address,omitempty"`
	State    string    `json:"state,omitempty" doc:"what the target reports of it"`
	SendsOn  []Sent    `json:"sends_on,omitempty" doc:"where its picture can be had from the target"`
	Schedule *Schedule `json:"schedule,omitempty"`
	Sizes    string    `json:"sizes,omitempty" doc:"of the streams that arrived, by the target's own word"`
}

// Called returns what the slot is called: its label, else its token.
func (s Slot) Called() string { return cmp.Or(s.Label, s.Token) }

// A Sent is a stream that a target sends on.
type Sent struct {
	Role string `json:"role"`
	URL  string `json:"url"`
}

// A Schedule is when a slot records.
type Schedule struct {
	Mode string `json:"mode" enum:"always,motion,week,off"`
	Week []Span `json:"week,omitempty" maxItems:"50"`
}

// A Span is part of a day.
type Span struct {
	Day  string `json:"day" enum:"mon,tue,wed,thu,fri,sat,sun"`
	From int    `json:"from" minimum:"0" maximum:"23" doc:"hour"`
	To   int    `json:"to" minimum:"1" maximum:"24" doc:"hour"`
}

// A Layout is the slots of a target in its order.
type Layout struct {
	Slots     []Slot  `json:"slots"`
	LoadKbps  float64 `json:"load_kbps,omitempty"`
	LimitKbps float64 `json:"limit_kbps,omitempty"`
	Days      float64 `json:"days,omitempty" doc:"of recording that it holds, by its own word"`
}

// Count returns how many slots stand in a state.
func (l Layout) Count(is string) (n int) {
	for _, s := range l.Slots {
		if s.Is == is {
			n++
		}
	}
	return n
}

// A Report is what the target says of a placement.
type Report struct {
	Arrived bool   // it has the picture
	Says    string // in the target's own words: "Connected, recording Active"
	// Waits is what the picture waits for, where the target says that it may come still; "" where it has come, or does not come.
	Waits trouble.Wait
	// Until is when the target can begin, by its own word; the zero time where it does not say.
	Until time.Time
	// Unchanged says that it was given another URL or sign-in for what it had, and may not have taken that over.
	Unchanged bool
	After     time.Duration
}
