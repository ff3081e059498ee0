package tuning

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// An OverlayChange is one thing to do to the texts that a device draws. Exactly one field is set.
type OverlayChange struct {
	Create, Set *Text
	Delete      string // a token
}

// isClock reports whether a text is the date, the time, or both.
func (t Text) isClock() bool {
	return strings.Contains(t.Kind, "Date") || strings.Contains(t.Kind, "Time")
}

// Changes returns what leads from the texts that a device draws to an overlay with the camera's name. The first plain text is taken for
// the name: what else somebody has written into the picture stays.
func (o Overlay) Changes(name string, offers Overlays) (changes []OverlayChange, refused []Refusal) {
	refuse := func(asked, why string) { refused = append(refused, Refusal{"overlay", "overlay", asked, why}) }
	if o == (Overlay{}) {
		return nil, nil
	}
	if offers.Most == 0 {
		refuse(o.String(), "it draws no text by its device service; look on its own page")
		return nil, refused
	}
	count := len(offers.Has)
	place := func(text Text, has *Text) {
		if offers.Sizes.known() && text.Size > 0 {
			text.Size = int(offers.Sizes.clamp(float64(text.Size)))
		}
		switch {
		case has != nil && *has == text:
		case has != nil:
			changes = append(changes, OverlayChange{Set: &text})
		case count >= offers.Most:
			refuse(o.String(), fmt.Sprintf("it draws %d texts at most, and has them", offers.Most))
		default:
			count++
			changes = append(changes, OverlayChange{Create: &text})
		}
	}
	corner := cmp.Or(o.At, "upper left")
	find := func(is func(Text) bool) *Text {
		if i := slices.IndexFunc(offers.Has, is); i >= 0 {
			t := offers.Has[i]
			return &t
		}
		return nil
	}
	plain := find(func(t Text) bool { return t.Kind == "Plain" })
	switch o.Name {
	case "on":
		text := Text{Kind: "Plain", Plain: name, At: corner, Size: o.Size}
		if plain != nil {
			text.Token, text.At, text.Size = plain.Token, cmp.Or(o.At, plain.At), cmp.Or(o.Size, plain.Size)
		}
		if len(offers.Kinds) > 0 && !slices.Contains(offers.Kinds, "Plain") {
			refuse("name", "it draws no text of one's own")
		} else {
			place(text, plain)
		}
	case "off":
		if plain != nil {
			count--
			changes = append(changes, OverlayChange{Delete: plain.Token})
		}
	}
	clock := find(Text.isClock)
	switch o.Time {
	case "on":
		kind := "DateAndTime"
		if len(offers.Kinds) > 0 && !slices.Contains(offers.Kinds, kind) {
			i := slices.IndexFunc(offers.Kinds, func(k string) bool { return Text{Kind: k}.isClock() })
			if i < 0 {
				refuse("time", "it draws no time")
				break
			}
			kind = offers.Kinds[i]
		}
		text := Text{Kind: kind, At: across(corner), Size: o.Size}
		if clock != nil {
			text.Token, text.Kind, text.Size = clock.Token, clock.Kind, cmp.Or(o.Size, clock.Size)
			if o.At == "" {
				text.At = clock.At
			}
		}
		place(text, clock)
	case "off":
		for _, t := range offers.Has {
			if t.isClock() {
				changes = append(changes, OverlayChange{Delete: t.Token})
			}
		}
	}
	return changes, refused
}

// across returns the corner beside one, at the same height: the time stands there where the name stands here.
func across(corner string) string {
	if left, ok := strings.CutSuffix(corner, "left"); ok {
		return left + "right"
	}
	return strings.TrimSuffix(corner, "right") + "left"
}

// PutBack returns what leads from the texts that a device draws now to those that it drew before.
func PutBack(before, now []Text) (changes []OverlayChange) {
	for _, t := range now {
		if !slices.ContainsFunc(before, func(b Text) bool { return b.Token == t.Token }) {
			changes = append(changes, OverlayChange{Delete: t.Token})
		}
	}
	for _, b := range before {
		i := slices.IndexFunc(now, func(t Text) bool { return t.Token == b.Token })
		switch {
		case i < 0:
			changes = append(changes, OverlayChange{Create: &b})
		case now[i] != b:
			changes = append(changes, OverlayChange{Set: &b})
		}
	}
	return changes
}
