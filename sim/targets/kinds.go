package targets

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/bridge"
)

// A kind is what one kind of bridge says of itself, and what it turns down.
type kind struct {
	about func(t Target) bridge.Target
	slots func(t Target) []bridge.Slot
	// refuses is why it does not take an entry; nil where it does.
	refuses func(b *Bridge, e *bridge.Entry) *bridge.Problem
}

func numbered(n int, label string) []bridge.Slot {
	var out []bridge.Slot
	for i := range n {
		out = append(out, bridge.Slot{ID: fmt.Sprintf("%d", i+1), Label: fmt.Sprintf(label, i+1), State: bridge.Free})
	}
	return out
}

func misfit(field, has, wants string) *bridge.Problem {
	return &bridge.Problem{Type: bridge.TypeMisfit, Title: "It does not take this", Status: 422, Field: field, Has: has, Wants: wants}
}

var p720 = bridge.Size{Width: 1280, Height: 720}

var kinds = map[string]kind{
	"hybrid": {
		about: func(t Target) bridge.Target {
			return bridge.Target{Kind: "recorder", Abilities: []string{bridge.CanMove, bridge.CanPicture, bridge.CanSchedule, bridge.CanFree,
				bridge.CanPush},
				Intake: bridge.Intake{Both: true, Streams: []string{"main", "sub"}, Codecs: []string{"H.264", "H.265"},
					Schemes: []string{"basic", "digest"}}}
		},
		slots: func(t Target) []bridge.Slot {
			out := numbered(t.Slots, "slot %d")
			for i := range min(t.Analogue, t.Slots) {
				s := &out[len(out)-1-i]
				s.State, s.Why, s.CanFree = bridge.Blocked, "it is the analogue input "+s.ID, true
			}
			return out
		},
	},
	"templates": {
		about: func(Target) bridge.Target {
			return bridge.Target{Kind: "recorder", Abilities: []string{bridge.CanTemplates, bridge.CanPicture},
				Intake:    bridge.Intake{Streams: []string{"main", "sub"}, Codecs: []string{"H.264"}, Needs: []string{"address"}},
				Templates: &bridge.TemplateRules{Most: 10, Channel: "<channel>"}}
		},
		slots: func(t Target) []bridge.Slot { return numbered(t.Slots, "channel %d") },
		refuses: func(b *Bridge, e *bridge.Entry) *bridge.Problem {
			switch {
			case e.Template == 0:
				return misfit("template", "none", "one of its templates")
			case b.template(e.Template) == nil:
				return misfit("template", fmt.Sprint(e.Template), "one that is defined")
			case e.Address == "":
				return misfit("address", "empty", "the address of the device")
			}
			return nil
		},
	},
	"software": {
		about: func(t Target) bridge.Target {
			return bridge.Target{Kind: "software", Abilities: []string{bridge.CanMove, bridge.CanPicture},
				Intake: bridge.Intake{Both: true, Streams: []string{"main", "sub"}, Schemes: []string{"digest"},
					Transports: []string{"tcp", "udp", "multicast", "mpeg-ts", "mpeg-ts over rtp"},
					Needs:      []string{"address", "user", "password"},
					UniqueName: true},
				Drivers: []bridge.Driver{{ID: "corvane-v", Maker: "Corvane", Model: "V4"}, {ID: "lumenhythe-l", Maker: "Lumenhythe"},
					{ID: "by-url", Plain: true}}}
		},
		slots: func(t Target) []bridge.Slot { return numbered(t.Slots, "camera %d") },
		refuses: func(b *Bridge, e *bridge.Entry) *bridge.Problem {
			switch {
			case e.Address == "":
				return misfit("address", "empty", "something: the field must be filled")
			case e.Driver == "":
				return misfit("driver", "none", "one of its drivers")
			case len(e.Streams) > 2:
				return misfit("streams", fmt.Sprint(len(e.Streams)), "a high and a low one")
			case b.named(e.Name, e.Key):
				return &bridge.Problem{Type: bridge.TypeNameTaken, Title: "There is a camera of this name already", Status: 409, Field: "name",
					Has: e.Name}
			}
			return nil
		},
	},
	"panel": {
		about: func(t Target) bridge.Target {
			return bridge.Target{Kind: "panel", Abilities: []string{bridge.CanMove, bridge.CanOrder, bridge.CanPicture, bridge.CanShow},
				Screens: []string{"panel"},
				Intake: bridge.Intake{Streams: []string{"sub", "third"}, Codecs: []string{"H.264", "MJPEG"}, MaxFPS: 10, TLS: "no", Pictures: true,
					Sizes: []bridge.Size{{Width: 320, Height: 180}, {Width: 320, Height: 240}, {Width: 640, Height: 360},
						{Width: 640, Height: 480}, p720}}}
		},
		slots: func(t Target) []bridge.Slot {
			out := numbered(t.Slots, "entry %d")
			for i := range min(t.Project, t.Slots) {
				out[i].State, out[i].Why = bridge.Locked, "it comes from the project file"
				out[i].Entry = &bridge.Entry{Key: fmt.Sprintf("project:%d", i+1), Name: []string{"Front door", "Yard gate", "Loading bay"}[i%3],
					Streams: []bridge.Stream{}}
				out[i].Status = &bridge.Status{State: "off", Says: "set up in the project"}
			}
			return out
		},
	},
	"intercom": {
		about: func(t Target) bridge.Target {
			return bridge.Target{Kind: "intercom", Abilities: []string{bridge.CanPicture, bridge.CanShow}, Screens: []string{"handset"},
				Intake: bridge.Intake{Streams: []string{"sub"}, Codecs: []string{"H.264"}, MaxSize: p720, TLS: "no", Through: true}}
		},
		slots: func(t Target) []bridge.Slot { return numbered(t.Slots, "button %d") },
		refuses: func(b *Bridge, e *bridge.Entry) *bridge.Problem {
			u, err := streamurl.Parse(e.Streams[0].URL)
			if err != nil || u.Scheme != "rtsp" {
				return misfit("url", "another scheme", "rtsp without encryption")
			}
			if !slices.ContainsFunc(b.t.Recorders, func(a netip.Addr) bool { return a.String() == u.Host }) {
				return misfit("address", "a camera's", "a channel of a recorder")
			}
			if e.Streams[0].Role != "sub" {
				return misfit("stream", e.Streams[0].Role, "sub")
			}
			return nil
		},
	},
	"directory": {
		about: func(t Target) bridge.Target {
			return bridge.Target{Kind: "directory", Abilities: []string{bridge.CanShow, bridge.CanPicture}, Screens: []string{"kitchen display"},
				Intake: bridge.Intake{Streams: []string{"sub"}, Codecs: []string{"H.264"}, MaxSize: p720, PlainNames: true}}
		},
		slots: func(t Target) []bridge.Slot { return numbered(t.Slots, "name %d") },
		refuses: func(b *Bridge, e *bridge.Entry) *bridge.Problem {
			if strings.ContainsFunc(e.Name, func(r rune) bool {
				return r != ' ' && (r < '0' || r > 'z' || r > '9' && r < 'A' || r > 'Z' &&
					r < 'a')
			}) {
				return misfit("name", e.Name, "letters, digits and blanks, as it is spoken")
			}
			for _, o := range b.slots {
				if o.Entry != nil && o.Entry.Key != e.Key && sound(o.Entry.Name) == sound(e.Name) {
					return &bridge.Problem{Type: bridge.TypeNameTaken, Title: "It sounds like " + o.Entry.Name, Status: 409, Field: "name", Has: e.Name}
				}
			}
			return nil
		},
	},
	"platform": {
		about: func(t Target) bridge.Target {
			out := bridge.Target{Kind: "platform", Intake: bridge.Intake{Codecs: []string{"H.264"}, Audio: []string{"AAC"}}}
			if t.Mute {
				out.Intake.Audio = nil
			}
			return out
		},
		slots: func(Target) []bridge.Slot {
			return []bridge.Slot{{ID: "live", Label: "the live channel", State: bridge.Free, Status: &bridge.Status{State: "off"}}}
		},
		refuses: func(*Bridge, *bridge.Entry) *bridge.Problem {
			return misfit("url", "a stream URL", "a picture sent to its ingest address")
		},
	},
}

// sound returns a name as it is heard: vowels and doubled letters fall away.
func sound(name string) string {
	var b strings.Builder
	last := rune(0)
	for _, r := range strings.ToLower(name) {
		if r != last && !strings.ContainsRune("aeiou ", r) {
			b.WriteRune(r)
		}
		last = r
	}
	return b.String()
}
