package tuning

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// A Plan is what is wanted of a device: its streams by role, and the text in their pictures. What is not in it stays as it is.
type Plan struct {
	Streams map[string]Stream `json:"streams,omitempty"`
	Overlay Overlay           `json:"overlay,omitzero"`
}

// IsZero reports whether nothing is wanted.
func (p Plan) IsZero() bool { return len(p.Streams) == 0 && p.Overlay == (Overlay{}) }

// Asks reports whether something is to be otherwise than it is: a plan may say of every stream that it stays.
func (p Plan) Asks() bool {
	for _, s := range p.Streams {
		if s != (Stream{}) {
			return true
		}
	}
	return p.Overlay != (Overlay{})
}

// roles of streams in the order in which people name them.
var roles = []string{"main", "sub", "third"}

// ParsePlan reads a plan from texts by part: main, sub and third in the form of ParseStream, overlay in that of ParseOverlay. Its errors
// are *ParseError.
func ParsePlan(texts map[string]string) (p Plan, err error) {
	for part, text := range texts {
		switch {
		case part == "overlay":
			p.Overlay, err = ParseOverlay(text)
		case slices.Contains(roles, part):
			if p.Streams == nil {
				p.Streams = map[string]Stream{}
			}
			p.Streams[part], err = ParseStream(text)
		default:
			err = &ParseError{part, "a plan has main, sub, third and overlay"}
		}
		if err != nil {
			return Plan{}, err
		}
	}
	return p, nil
}

// Texts writes a plan in the form that ParsePlan reads.
func (p Plan) Texts() map[string]string {
	out := map[string]string{}
	for role, s := range p.Streams {
		out[role] = s.String()
	}
	if p.Overlay != (Overlay{}) {
		out["overlay"] = p.Overlay.String()
	}
	return out
}

// An Overlay is the text that a device draws into its pictures. The zero Overlay leaves it as it is.
type Overlay struct {
	Name string `json:"name,omitempty" enum:"on,off" doc:"the camera's name"`
	Time string `json:"time,omitempty" enum:"on,off" doc:"date and time"`
	At   string `json:"at,omitempty" doc:"upper left, upper right, lower left or lower right"`
	Size int    `json:"size,omitempty" doc:"of the letters, in the device's own scale"`
}

// Corners are the places of an overlay that the open standard names.
var Corners = []string{"upper left", "upper right", "lower left", "lower right"}

// ParseOverlay reads an overlay like "name, time, lower left, size 24": what is named is on and the other off. "none" is both off, and
// "keep" leaves it as it is. Its errors are *ParseError.
func ParseOverlay(text string) (o Overlay, err error) {
	if strings.TrimSpace(text) == "keep" {
		return o, nil
	}
	o.Name, o.Time = "off", "off"
	for _, part := range strings.Split(strings.ToLower(text), ",") {
		part = strings.Join(strings.Fields(part), " ")
		switch {
		case part == "none":
		case part == "name":
			o.Name = "on"
		case part == "time":
			o.Time = "on"
		case slices.Contains(Corners, part):
			o.At = part
		default:
			if n, err := fmt.Sscanf(part, "size %d", &o.Size); n != 1 || err != nil || o.Size < 1 || o.Size > 1000 {
				return Overlay{}, &ParseError{part, `write an overlay like "name, time, upper left", or none`}
			}
		}
	}
	return o, nil
}

// String writes the overlay in the form that ParseOverlay reads.
func (o Overlay) String() string {
	if o == (Overlay{}) {
		return "keep"
	}
	var parts []string
	if o.Name == "on" {
		parts = append(parts, "name")
	}
	if o.Time == "on" {
		parts = append(parts, "time")
	}
	if len(parts) == 0 {
		parts = append(parts, "none")
	}
	if o.At != "" {
		parts = append(parts, o.At)
	}
	if o.Size > 0 {
		parts = append(parts, fmt.Sprintf("size %d", o.Size))
	}
	return strings.Join(parts, ", ")
}

// An Owner is whose plan it is.
type Owner string

// Owners, the nearest first.
const (
	Camera    Owner = "camera"
	Selection Owner = "selection"
	Model     Owner = "model"
	Site      Owner = "site"
)

var owners = []Owner{Camera, Selection, Model, Site}

// A Layer is a plan with whose it is.
type Layer struct {
	Owner Owner
	Name  string // of the selection or the model
	Plan  Plan
}

// Whose says in words where the plan comes from: the camera itself, a selection, its model or the site.
func (l Layer) Whose() string {
	switch l.Owner {
	case Camera:
		return "its own"
	case Site:
		return "the site’s"
	}
	return fmt.Sprintf("of the %s %s", l.Owner, l.Name)
}

// Resolve returns what the layers of one device come to, and whose each part is: of every role, and of the overlay, the nearest layer
// that says anything counts, whole. A role that is to stay as it is stands in the nearest layer as the zero Stream.
func Resolve(layers []Layer) (p Plan, whose map[string]Layer) {
	whose = map[string]Layer{}
	list := slices.Clone(layers)
	slices.SortStableFunc(list, func(a, b Layer) int {
		return slices.Index(owners, a.Owner) - slices.Index(owners, b.Owner)
	})
	for _, l := range list {
		for role, s := range l.Plan.Streams {
			if _, nearer := whose[role]; nearer {
				continue
			}
			if p.Streams == nil {
				p.Streams = map[string]Stream{}
			}
			p.Streams[role], whose[role] = s, l
		}
		if _, nearer := whose["overlay"]; !nearer && l.Plan.Overlay != (Overlay{}) {
			p.Overlay, whose["overlay"] = l.Plan.Overlay, l
		}
	}
	return p, whose
}

// With returns the plan with parts of another in place of its own.
func (p Plan) With(o Plan) Plan {
	out := Plan{Streams: maps.Clone(p.Streams), Overlay: p.Overlay}
	if out.Streams == nil {
		out.Streams = map[string]Stream{}
	}
	maps.Copy(out.Streams, o.Streams)
	if o.Overlay != (Overlay{}) {
		out.Overlay = o.Overlay
	}
	return out
}

// An Offer is one stream of a device: what its encoder is set to, and what it offers.
type Offer struct {
	Role    string  `json:"role"`
	Token   string  `json:"token" doc:"the device's own name of the stream"`
	Encoder Encoder `json:"encoder"`
	Options Options `json:"options"`
	Audio   Audio   `json:"audio,omitzero"`
	Problem string  `json:"problem,omitempty" doc:"why it is not known what the encoder offers"`
}

// Audio is what a stream sends of sound, and what else it could.
type Audio struct {
	Token  string   `json:"token,omitempty" doc:"of its encoder; missing where the stream has none"`
	Codec  string   `json:"codec,omitempty"`
	Codecs []string `json:"codecs,omitempty"`
}

// Offers are what a device can be set to, as far as it tells.
type Offers struct {
	Streams []Offer `json:"streams"`
	// Instances is how many streams can be had at once by the device's own word; 0 where it tells none.
	Instances int `json:"instances,omitempty"`
	// Makes are the roles of streams that it does not have and that could be made.
	Makes    bool     `json:"makes,omitempty" doc:"a stream that it does not have can be made"`
	Overlays Overlays `json:"overlays,omitzero"`
}

// Of returns the stream of a role.
func (o Offers) Of(role string) (Offer, bool) {
	i := slices.IndexFunc(o.Streams, func(s Offer) bool { return s.Role == role })
	if i < 0 {
		return Offer{}, false
	}
	return o.Streams[i], true
}

// Overlays are what a device can draw into its pictures.
type Overlays struct {
	Most    int      `json:"most,omitempty" doc:"how many there can be; 0 where it draws none"`
	Kinds   []string `json:"kinds,omitempty" doc:"Plain, Date, Time, DateAndTime"`
	Corners []string `json:"corners,omitempty"`
	Sizes   Span     `json:"sizes,omitzero" doc:"of the letters"`
	Has     []Text   `json:"has,omitempty"`
}

// A Text is one overlay that a device draws.
type Text struct {
	Token string `json:"token"`
	Kind  string `json:"kind" doc:"Plain, Date, Time, DateAndTime"`
	Plain string `json:"plain,omitempty"`
	At    string `json:"at,omitempty"`
	Size  int    `json:"size,omitempty"`
}

// A State is how a device was set before it was tuned, as far as that touched it: what undo puts back.
type State struct {
	Encoders map[string]Encoder `json:"encoders,omitempty" doc:"by role"`
	Audio    map[string]Audio   `json:"audio,omitempty" doc:"by role"`
	Texts    *[]Text            `json:"texts,omitempty" doc:"missing where no overlay was touched"`
	Made     []string           `json:"made,omitempty" doc:"names of the streams that were not there"`
}

// Before returns the state with what another, earlier one knows of it: undo goes back to before the first change.
func (s State) Before(earlier State) State {
	out := State{Encoders: maps.Clone(s.Encoders), Audio: maps.Clone(s.Audio), Texts: s.Texts, Made: slices.Clone(s.Made)}
	if out.Encoders == nil {
		out.Encoders = map[string]Encoder{}
	}
	maps.Copy(out.Encoders, earlier.Encoders)
	if len(earlier.Audio) > 0 {
		if out.Audio == nil {
			out.Audio = map[string]Audio{}
		}
		maps.Copy(out.Audio, earlier.Audio)
	}
	if earlier.Texts != nil {
		out.Texts = earlier.Texts
	}
	for _, name := range earlier.Made {
		if !slices.Contains(out.Made, name) {
			out.Made = append(out.Made, name)
		}
	}
	return out
}
