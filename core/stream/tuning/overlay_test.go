package tuning

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// apply does to a list of texts what a device would.
func apply(has []Text, changes []OverlayChange) []Text {
	out := append([]Text{}, has...)
	for n, c := range changes {
		switch {
		case c.Create != nil:
			t := *c.Create
			t.Token = "new" + string(rune('0'+n))
			out = append(out, t)
		case c.Set != nil:
			for i := range out {
				if out[i].Token == c.Set.Token {
					out[i] = *c.Set
				}
			}
		default:
			for i := range out {
				if out[i].Token == c.Delete {
					out = append(out[:i], out[i+1:]...)
					break
				}
			}
		}
	}
	return out
}

func TestOverlays(t *testing.T) {
	warning := Text{Token: "w", Kind: "Plain", Plain: "Recorded", At: "lower right"}
	clock := Text{Token: "c", Kind: "DateAndTime", At: "upper right"}
	all := []string{"Plain", "DateAndTime"}
	for _, c := range []struct {
		name, overlay string
		offers        Overlays
		want          []Text // tokens aside
		refused       int
	}{
		{"both are made", "name, time", Overlays{Most: 4, Kinds: all}, []Text{{Kind: "Plain", Plain: "Yard", At: "upper left"},
			{Kind: "DateAndTime", At: "upper right"}}, 0},
		{"the name follows the camera’s, where it stands", "name", Overlays{Most: 1, Kinds: all, Has: []Text{warning}},
			[]Text{{Kind: "Plain", Plain: "Yard", At: "lower right"}}, 0},
		{"what is there already stays", "time", Overlays{Most: 1, Kinds: all, Has: []Text{clock}},
			[]Text{{Kind: "DateAndTime", At: "upper right"}}, 0},
		{"none takes both out", "none", Overlays{Most: 4, Kinds: all, Has: []Text{warning, clock}}, nil, 0},
		{"no room", "name, time", Overlays{Most: 1, Kinds: all, Has: []Text{clock}}, []Text{{Kind: "DateAndTime", At: "upper right"}}, 1},
		{"a device that draws none", "name", Overlays{}, nil, 1},
		{"time alone, size held to what it offers", "time, size 90", Overlays{Most: 2, Kinds: []string{"Time"}, Sizes: Span{8, 32}},
			[]Text{{Kind: "Time", At: "upper right", Size: 32}}, 0},
		{"no time and no text of one’s own", "name, time", Overlays{Most: 2, Kinds: []string{"Logo"}}, nil, 2},
		{"moved together", "name, time, lower left", Overlays{Most: 2, Kinds: all, Has: []Text{clock}},
			[]Text{{Kind: "DateAndTime", At: "lower right"}, {Kind: "Plain", Plain: "Yard", At: "lower left"}}, 0},
	} {
		o, err := ParseOverlay(c.overlay)
		require.NoError(t, err)
		changes, refused := o.Changes("Yard", c.offers)
		assert.Len(t, refused, c.refused, c.name)
		now := apply(c.offers.Has, changes)
		var got []Text
		for _, x := range now {
			x.Token = ""
			got = append(got, x)
		}
		assert.Equal(t, c.want, got, c.name)
		again, _ := o.Changes("Yard", Overlays{Most: c.offers.Most, Kinds: c.offers.Kinds, Sizes: c.offers.Sizes, Has: now})
		assert.Empty(t, again, "%s: nothing is left to do", c.name)
		back := apply(now, PutBack(c.offers.Has, now))
		assert.Len(t, back, len(c.offers.Has), "%s: put back", c.name)
		for i := range back {
			want := c.offers.Has[i]
			want.Token, back[i].Token = "", ""
			assert.Contains(t, back, want, c.name)
		}
	}
}
