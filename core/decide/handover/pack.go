// Package handover makes the pack that is left behind when a site is finished, and opens one again elsewhere.
//
// A Pack is everything that is known of a site, as data: handover.json holds it, and papers, tables and lists are made from it. It holds
// no secret and no time of making, so that two packs of one state are alike byte for byte; who made a pack and when stands in its
// Manifest, beside the hash of each file.
package handover

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/baseline"
	"unlatch/core/decide/outside"
	"unlatch/core/decide/ready"
	"unlatch/core/decide/siteplan"
	"unlatch/core/stream/capacity"
	"unlatch/core/wire/target"
)

// Form is the version of the form in which packs are written. docs/handover.schema.json is the schema of it.
const Form = 1

// Bounds of a pack that somebody brings along.
const (
	MostJSON    = 32 << 20
	MostCameras = 5000
)

// A Pack is what is known of a site.
type Pack struct {
	Form      int             `json:"form"`
	Site      Site            `json:"site"`
	Cameras   []Camera        `json:"cameras"` // and recorders, by address
	Targets   []Target        `json:"targets"`
	SitePlans []SitePlan      `json:"site_plans"`
	Plans     []Plan          `json:"plans"` // of the site, its models and selections; a camera's own stand with the camera
	Outside   Outside         `json:"outside"`
	Capacity  *Capacity       `json:"capacity,omitempty"`
	Findings  []ready.Finding `json:"findings"`
	Checklist []ready.Checked `json:"checklist"`
	Books     []Book          `json:"books"`
	// State is what versions are compared by: the facts of each device and target.
	State baseline.State `json:"state"`
}

// A Site is the network with its ranges.
type Site struct {
	ID      uuid.UUID `json:"id"`
	Name    string    `json:"name"`
	Ranges  []string  `json:"ranges"`
	Gateway string    `json:"gateway,omitempty"`
	Bits    int       `json:"bits,omitempty"`
	Pool    []string  `json:"pool,omitempty"`
	DHCP    []string  `json:"dhcp,omitempty"`
	DNS     []string  `json:"dns,omitempty"`
	NTP     string    `json:"ntp,omitempty"`
	Zone    string    `json:"time_zone,omitempty"`
}

// A Camera is a camera or a recorder.
type Camera struct {
	ID          uuid.UUID         `json:"id"`
	Kind        string            `json:"kind"`
	Name        string            `json:"name,omitempty"` // as a person gave it
	Title       string            `json:"title"`
	Address     string            `json:"address"`
	MAC         string            `json:"mac,omitempty"`
	Serial      string            `json:"serial,omitempty"`
	Endpoint    string            `json:"endpoint,omitempty"`
	Certificate string            `json:"certificate,omitempty"`
	Maker       string            `json:"maker,omitempty"`
	Model       string            `json:"model,omitempty"`
	Firmware    string            `json:"firmware,omitempty"`
	Via         uuid.UUID         `json:"via,omitzero"` // the recorder that it is reached through, as Channel
	Channel     int               `json:"channel,omitempty"`
	Ports       []Port            `json:"ports,omitempty"`
	Web         string            `json:"web,omitempty"`
	SignIn      *SignIn           `json:"sign_in,omitempty"` // of the device service
	StreamUser  *SignIn           `json:"stream_user,omitempty"`
	Latch       string            `json:"latch,omitempty"` // that is not open yet
	Streams     []Stream          `json:"streams,omitempty"`
	Roles       map[string]string `json:"roles,omitempty"` // that a person gave, by the stream's token
	Plan        map[string]string `json:"plan,omitempty"`  // its own, by part
	Placements  []Placement       `json:"placements,omitempty"`
	Notes       []string          `json:"notes,omitempty"`
	Picture     string            `json:"picture,omitempty"`     // path of the file
	PictureWhy  string            `json:"picture_why,omitempty"` // why there is none
	Still       uuid.UUID         `json:"-"`                     // of which Picture is made; zero for none
}

// A Port is one that answered.
type Port struct {
	Number int    `json:"number"`
	Is     string `json:"is"`
}

// A SignIn names an entry of the keyring, without its secret.
type SignIn struct {
	ID    uuid.UUID `json:"id"`
	Label string    `json:"label"`
	User  string    `json:"user"`
}

// A Stream is one stream: planned against measured.
type Stream struct {
	Role     string    `json:"role"`
	Token    string    `json:"token,omitempty"`
	URL      string    `json:"url"` // without a sign-in
	Planned  string    `json:"planned,omitempty"`
	Claimed  string    `json:"claimed,omitempty"`
	Meets    bool      `json:"meets,omitempty"` // what was measured meets the plan
	Measured *Measured `json:"measured,omitempty"`
}

// A Measured is what came when a stream was played.
type Measured struct {
	Codec          string    `json:"codec"`
	Width          int       `json:"width"`
	Height         int       `json:"height"`
	FPS            float64   `json:"fps"`
	Kbps           float64   `json:"kbps"`
	GOPSeconds     float64   `json:"gop_seconds,omitempty"`
	Audio          string    `json:"audio,omitempty"`
	Transport      string    `json:"transport"`
	FirstPictureMS float64   `json:"first_picture_ms,omitempty"`
	PerSecondKbps  []int     `json:"per_second_kbps,omitempty"`
	At             time.Time `json:"at,omitzero"`
}

// A Placement is a camera on a target.
type Placement struct {
	Target    uuid.UUID `json:"target"`
	Name      string    `json:"name"`
	Kind      string    `json:"kind"`
	Slot      string    `json:"slot,omitempty"`
	Token     string    `json:"token,omitempty"`
	Role      string    `json:"role,omitempty"` // that a person wants it to have
	Gives     []string  `json:"gives,omitempty"`
	State     string    `json:"state"` // confirmed, waiting, stale, broken
	Report    string    `json:"report,omitempty"`
	Confirmed time.Time `json:"confirmed_at,omitzero"`
	ByHand    bool      `json:"by_hand,omitempty"`
	Picture   string    `json:"picture,omitempty"`
	Still     uuid.UUID `json:"-"` // of which Picture is made; zero for none
}

// A Target is what takes cameras.
type Target struct {
	ID        uuid.UUID         `json:"id"`
	Kind      string            `json:"kind"`
	Name      string            `json:"name"`
	Is        string            `json:"is,omitempty"`
	Address   string            `json:"address,omitempty"`
	Reach     []string          `json:"reach,omitempty"`
	Device    uuid.UUID         `json:"device,omitzero"` // of a recorder that is a device of the site
	Through   uuid.UUID         `json:"through,omitzero"`
	Maker     string            `json:"maker,omitempty"`
	Model     string            `json:"model,omitempty"`
	Intake    string            `json:"intake,omitempty"`
	SignIn    *SignIn           `json:"sign_in,omitempty"`
	Settings  map[string]string `json:"settings,omitempty"` // the template, the prefix: never a key
	Slots     []Slot            `json:"slots,omitempty"`
	LoadKbps  float64           `json:"load_kbps,omitempty"`
	LimitKbps float64           `json:"limit_kbps,omitempty"`
	Days      float64           `json:"days,omitempty"`
}

// A Slot is a place in a target, in its order.
type Slot struct {
	Token    string           `json:"token"`
	Label    string           `json:"label,omitempty"`
	Is       string           `json:"is"`
	Name     string           `json:"name,omitempty"`
	Camera   uuid.UUID        `json:"camera,omitzero"`
	State    string           `json:"state,omitempty"`
	Schedule *target.Schedule `json:"schedule,omitempty"`
}

// A SitePlan is a picture of the building with the cameras on it.
type SitePlan struct {
	ID      uuid.UUID       `json:"id"`
	Name    string          `json:"name"`
	Width   int             `json:"width"`
	Height  int             `json:"height"`
	Picture string          `json:"picture"` // path of the file
	Marks   []siteplan.Mark `json:"marks"`
}

// A Plan is a wish for streams.
type Plan struct {
	Owner string            `json:"owner"` // site, model or selection
	Name  string            `json:"name,omitempty"`
	Parts map[string]string `json:"parts"`
	For   []uuid.UUID       `json:"for,omitempty"` // the cameras of a selection
}

// Outside is how the site is seen from outside.
type Outside struct {
	Form  outside.Form `json:"form"`
	Never []string     `json:"never,omitempty"`
}

// Capacity is what recording takes.
type Capacity struct {
	Form capacity.RecordingForm `json:"form"` // how the site is recorded, as people typed it
	Cost capacity.Cost          `json:"cost"`
}

// A Book is a file of recipes, presets or intakes that the site uses.
type Book struct {
	Kind string `json:"kind"` // paths, presets, intakes
	Name string `json:"name"`
	File string `json:"file"`
	text []byte
}

// Text returns the book's file.
func (b Book) Text() []byte { return b.text }

// WithText returns the book with its file.
func (b Book) WithText(text []byte) Book { b.text = text; return b }

// Camera returns a camera by its ID; nil where there is none.
func (p *Pack) Camera(id uuid.UUID) *Camera {
	for i := range p.Cameras {
		if p.Cameras[i].ID == id {
			return &p.Cameras[i]
		}
	}
	return nil
}

// Count returns how many cameras there are that are no recorders, and how many of those are finished.
func (p *Pack) Count() (cameras, finished int) {
	for _, c := range p.Cameras {
		if c.Kind != "camera" {
			continue
		}
		cameras++
		if c.Latch == "" {
			finished++
		}
	}
	return cameras, finished
}

// Write returns the pack as handover.json.
func (p *Pack) Write() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	err := e.Encode(p)
	return b.Bytes(), err
}

// A FormError says that a pack was written by a newer Unlatch than this one.
type FormError struct{ Form int }

func (e *FormError) Error() string {
	return fmt.Sprintf("this pack has form %d, and this Unlatch reads forms up to %d", e.Form, Form)
}
