// Package bridge is the open contract by which Unlatch fills what no open standard describes: management software, panels, intercom
// stations, recorders with a protocol of their own. A bridge is a small HTTP service that answers it; anyone can write one
// (docs/bridge.md). The types of the contract stand here, with the client and the check that tells what is wrong with a bridge.
//
// All bodies are JSON, all errors application/problem+json (RFC 9457). Putting an entry twice is the same as putting it once: an entry is
// known by its key.
package bridge

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Version is the version of the contract; a bridge names it in Target.Contract and in its paths, which begin with /v1.
const Version = "1"

// What a bridge can do besides slots, put and remove.
const (
	CanMove      = "move"
	CanOrder     = "order"
	CanPicture   = "picture"
	CanSchedule  = "schedule"
	CanShow      = "show"
	CanFree      = "free"
	CanTemplates = "templates"
	CanPush      = "push"
)

// Abilities are all that the contract knows.
var Abilities = []string{CanMove, CanOrder, CanPicture, CanSchedule, CanShow, CanFree, CanTemplates, CanPush}

// A Target is what a bridge says of what stands behind it (GET /v1/target).
type Target struct {
	Contract  string   `json:"contract" doc:"the version of the contract: 1"`
	Name      string   `json:"name"`
	Kind      string   `json:"kind" enum:"recorder,software,panel,intercom,directory,platform"`
	Maker     string   `json:"maker,omitempty"`
	Model     string   `json:"model,omitempty"`
	Serial    string   `json:"serial,omitempty"`
	Abilities []string `json:"abilities,omitempty" enum:"move,order,picture,schedule,show,free,templates,push"`
	Intake    Intake   `json:"intake,omitempty"`
	// Drivers are the ways in which it takes a camera in, where it wants one chosen.
	Drivers []Driver `json:"drivers,omitempty"`
	// Templates is what its templates may hold; nil where it takes whole URLs.
	Templates *TemplateRules `json:"templates,omitempty"`
	Screens   []string       `json:"screens,omitempty" doc:"what it can show a camera on"`
	LimitKbps float64        `json:"limit_kbps,omitempty" doc:"what may come in, in all"`
}

// An Intake is what a target takes, as far as it knows.
type Intake struct {
	Streams    []string `json:"streams,omitempty" enum:"main,sub,third" doc:"the streams that it takes; two where it wants both of a camera"`
	Both       bool     `json:"both,omitempty" doc:"it takes main and sub of a camera together"`
	Codecs     []string `json:"codecs,omitempty" enum:"H.264,H.265,MJPEG,MPEG-4"`
	Audio      []string `json:"audio,omitempty" enum:"AAC,G.711" doc:"of a live platform: the sound that it takes; none where it takes a picture alone"`
	Sizes      []Size   `json:"sizes,omitempty"`
	MaxSize    Size     `json:"max_size,omitzero"`
	MaxFPS     float64  `json:"max_fps,omitempty"`
	MaxKbps    float64  `json:"max_kbps,omitempty"`
	Transports []string `json:"transports,omitempty" enum:"tcp,udp,multicast,http tunnel,http,http pictures,mpeg-ts,mpeg-ts over rtp,mpeg-ts over http" doc:"how streams may come; missing for RTSP in any way"`
	Schemes    []string `json:"schemes,omitempty" enum:"none,basic,digest"`
	TLS        string   `json:"tls,omitempty" enum:"no,yes"`
	Needs      []string `json:"needs,omitempty" enum:"address,user,password,model" doc:"fields that must be filled, with a meaning or without"`
	Pictures   bool     `json:"pictures,omitempty" doc:"it takes picture URLs over HTTP as well as streams"`
	Through    bool     `json:"through,omitempty" doc:"it takes channels of a recorder and no cameras"`
	UniqueName bool     `json:"unique_names,omitempty"`
	PlainNames bool     `json:"plain_names,omitempty" doc:"names must be sayable: letters, digits and blanks, none sounding like another"`
}

// A Size is the size of a picture in pixels.
type Size struct {
	Width  int `json:"width"`
	Height int `json:"height"`
}

// A Driver is one way in which a target takes cameras in.
type Driver struct {
	ID    string `json:"id"`
	Maker string `json:"maker,omitempty"`
	Model string `json:"model,omitempty"`
	Plain bool   `json:"plain,omitempty" doc:"takes a stream URL as it is"`
}

// TemplateRules are how a target spells templates.
type TemplateRules struct {
	Most    int    `json:"most" doc:"templates that it can hold"`
	Channel string `json:"channel" doc:"what it writes for the channel number: [CH]"`
}

// A Template is one shape of stream URLs. The address, user and password come from the slot.
type Template struct {
	Number    int    `json:"number" doc:"counted from 1"`
	Path      string `json:"path" doc:"from the slash on, with placeholders in the target's own spelling"`
	Port      int    `json:"port"`
	Transport string `json:"transport" enum:"tcp,udp"`
	Stream    string `json:"stream" enum:"main,sub,third"`
}

// An Entry is a camera in a slot.
type Entry struct {
	Key      string   `json:"key" doc:"by which it is known again"`
	Name     string   `json:"name"`
	Streams  []Stream `json:"streams"`
	User     string   `json:"user,omitempty"`
	Password string   `json:"password,omitempty" doc:"is sent and never told back"`
	Address  string   `json:"address,omitempty"`
	Model    string   `json:"model,omitempty"`
	Driver   string   `json:"driver,omitempty"`
	Channel  int      `json:"channel,omitempty" doc:"of a recorder, or what a template's placeholder stands for"`
	Template int      `json:"template,omitempty"`
	// Replaces is the key of the entry whose slot it takes over.
	Replaces string `json:"replaces,omitempty"`
}

// A Stream is one stream of an entry.
type Stream struct {
	Role      string `json:"role" enum:"main,sub,third,picture"`
	URL       string `json:"url" doc:"without a sign-in; rtsp, or where the person has said that the product takes it: http (motion JPEG), udp, rtp (a transport stream)"`
	Transport string `json:"transport,omitempty" enum:"tcp,udp,multicast" doc:"of RTSP"`
	Width     int    `json:"width,omitempty" doc:"as the target itself reports it"`
	Height    int    `json:"height,omitempty"`
}

// A Push sends one channel on to a live platform by RTMP (PUT and DELETE /v1/slots/{id}/push).
type Push struct {
	Ingest string `json:"ingest" doc:"as rtmp://host:port/app"`
	Key    string `json:"key" doc:"the stream key; is sent and never told back"`
	Stream string `json:"stream" enum:"main,sub"`
	Sound  bool   `json:"sound,omitempty" doc:"with the channel's sound, where that is AAC; as it is, since nothing converts it"`
}

// States of a slot.
const (
	Free    = "free"
	Used    = "used"
	Blocked = "blocked" // by something that could be given up
	Locked  = "locked"  // an entry that the bridge may not change
)

// A Slot is one place (GET /v1/slots).
type Slot struct {
	ID    string `json:"id"`
	Label string `json:"label"`
	State string `json:"state" enum:"free,used,blocked,locked"`
	Why   string `json:"why,omitempty" doc:"of a blocked or locked slot"`
	// CanFree says that POST /v1/slots/{id}/free gives up what blocks it.
	CanFree  bool      `json:"can_free,omitempty"`
	Entry    *Entry    `json:"entry,omitempty"`
	Status   *Status   `json:"status,omitempty"`
	Schedule *Schedule `json:"schedule,omitempty"`
	SendsOn  []Stream  `json:"sends_on,omitempty" doc:"where its picture can be had from the target"`
}

// Status is how the picture of a slot stands, by the target's word.
type Status struct {
	State  string   `json:"state" enum:"off,connecting,showing,failed"`
	Says   string   `json:"says,omitempty" doc:"in the target's own words"`
	Since  string   `json:"since,omitempty" doc:"RFC 3339"`
	Ready  string   `json:"ready,omitempty" doc:"RFC 3339: of one that is connecting, when it can begin, where that is known"`
	Pushed string   `json:"pushed,omitempty" enum:"off,connecting,sending,refused,no_answer"`
	Sizes  []Stream `json:"sizes,omitempty" doc:"the streams with the sizes that came"`
}

// MayBegin reports whether the picture may come still: it is being connected to, or what was just given to the target has not begun yet.
func (s *Status) MayBegin() bool { return s.State == "connecting" || s.State == "off" }

// mostReady is how far ahead a moment may lie that a target gives itself.
const mostReady = 48 * time.Hour

// ReadyAt returns when one that is connecting can begin; the zero time where it does not say, or says nothing that can be waited for.
func (s *Status) ReadyAt(now time.Time) time.Time {
	at, err := time.Parse(time.RFC3339, s.Ready)
	if err != nil || s.State != "connecting" || at.Sub(now) > mostReady {
		return time.Time{}
	}
	return at
}

// A Schedule is when a slot records.
type Schedule struct {
	Mode string `json:"mode" enum:"always,motion,week,off"`
	Week []Span `json:"week,omitempty"`
}

// A Span is part of a day.
type Span struct {
	Day  string `json:"day" enum:"mon,tue,wed,thu,fri,sat,sun"`
	From int    `json:"from" doc:"hour, 0 to 23"`
	To   int    `json:"to" doc:"hour, 1 to 24"`
}

// Slots is the answer to GET /v1/slots.
type Slots struct {
	Slots    []Slot  `json:"slots"`
	LoadKbps float64 `json:"load_kbps,omitempty" doc:"what comes in now"`
	Days     float64 `json:"days,omitempty" doc:"of recording that its disks hold"`
}

// A Problem is an error of a bridge (RFC 9457).
type Problem struct {
	Type   string `json:"type" doc:"unlatch:bridge:full, taken, locked, name-taken, misfit, refused, no-slot, busy"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty"`
	Field  string `json:"field,omitempty" doc:"of a misfit: codec, size, fps, bitrate_kbps, scheme, password, tls, name, address, driver"`
	Has    string `json:"has,omitempty"`
	Wants  string `json:"wants,omitempty"`
}

// Types of problems.
const (
	TypeFull      = "unlatch:bridge:full"
	TypeTaken     = "unlatch:bridge:taken"
	TypeLocked    = "unlatch:bridge:locked"
	TypeNameTaken = "unlatch:bridge:name-taken"
	TypeMisfit    = "unlatch:bridge:misfit"
	TypeRefused   = "unlatch:bridge:refused"
	TypeNoSlot    = "unlatch:bridge:no-slot"
	TypeBusy      = "unlatch:bridge:busy"
)

func (p *Problem) Error() string {
	text := p.Title
	if p.Detail != "" {
		text = p.Detail
	}
	if p.Wants != "" {
		text = fmt.Sprintf("%s (%s is %s, it wants %s)", text, p.Field, p.Has, p.Wants)
	}
	return text
}

// A BrokenError is an answer that the contract does not allow: the bridge is wrong, and not what stands behind it.
type BrokenError struct{ Problem string }

func (e *BrokenError) Error() string { return "the bridge breaks the contract: " + e.Problem }

// validate returns an error if what a bridge says of its target is not allowed by the contract.
func (t *Target) validate() error {
	switch {
	case t.Contract != Version:
		return &BrokenError{fmt.Sprintf("it speaks version %q of the contract; this program speaks %s", clip(t.Contract), Version)}
	case strings.TrimSpace(t.Name) == "":
		return &BrokenError{"the target has no name"}
	case t.Templates != nil && (t.Templates.Most < 1 || t.Templates.Most > 100):
		return &BrokenError{fmt.Sprintf("it says that it holds %d templates", t.Templates.Most)}
	}
	for _, a := range t.Abilities {
		if !slices.Contains(Abilities, a) {
			return &BrokenError{fmt.Sprintf("it has an ability %q, which the contract does not know", clip(a))}
		}
	}
	if t.Can(CanTemplates) != (t.Templates != nil) {
		return &BrokenError{"templates are an ability of a target that says how it spells them"}
	}
	return nil
}

// Can reports whether the target has an ability.
func (t *Target) Can(ability string) bool { return slices.Contains(t.Abilities, ability) }

var slotStates = []string{Free, Used, Blocked, Locked}

// validate looks for what the contract does not allow in a list of slots.
func (s *Slots) validate() error {
	if len(s.Slots) > maxSlots {
		return &BrokenError{fmt.Sprintf("it lists %d slots; %d is the most", len(s.Slots), maxSlots)}
	}
	seen, keys := map[string]bool{}, map[string]bool{}
	for _, x := range s.Slots {
		switch {
		case x.ID == "":
			return &BrokenError{"a slot has no ID"}
		case seen[x.ID]:
			return &BrokenError{fmt.Sprintf("the slot %q is listed twice", clip(x.ID))}
		case !slices.Contains(slotStates, x.State):
			return &BrokenError{fmt.Sprintf("the slot %q is %q, which is no state of a slot", clip(x.ID), clip(x.State))}
		case x.State == Used && x.Entry == nil:
			return &BrokenError{fmt.Sprintf("the slot %q is used by nothing", clip(x.ID))}
		case x.State == Free && x.Entry != nil:
			return &BrokenError{fmt.Sprintf("the slot %q is free and holds an entry", clip(x.ID))}
		case x.Entry != nil && x.Entry.Key != "" && keys[x.Entry.Key]:
			return &BrokenError{fmt.Sprintf("the entry %q stands in two slots", clip(x.Entry.Key))}
		case x.Entry != nil && x.Entry.Password != "":
			return &BrokenError{fmt.Sprintf("the slot %q tells a password", clip(x.ID))}
		}
		seen[x.ID] = true
		if x.Entry != nil {
			keys[x.Entry.Key] = true
		}
	}
	return nil
}

// Find returns the slot that holds an entry; nil where none does.
func (s *Slots) Find(key string) *Slot {
	for i := range s.Slots {
		if e := s.Slots[i].Entry; e != nil && e.Key == key {
			return &s.Slots[i]
		}
	}
	return nil
}

// Slot returns the slot of an ID; nil where there is none.
func (s *Slots) Slot(id string) *Slot {
	i := slices.IndexFunc(s.Slots, func(x Slot) bool { return x.ID == id })
	if i < 0 {
		return nil
	}
	return &s.Slots[i]
}

// FirstFree returns the first free slot; nil where there is none.
func (s *Slots) FirstFree() *Slot {
	i := slices.IndexFunc(s.Slots, func(x Slot) bool { return x.State == Free })
	if i < 0 {
		return nil
	}
	return &s.Slots[i]
}
