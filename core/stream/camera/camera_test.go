package camera

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func stream(channel int, token string, width int) Stream {
	return Stream{Channel: channel, Token: token, Claimed: Settings{Width: width, Height: width}}
}

func TestGiveRoles(t *testing.T) {
	for _, c := range []struct {
		name    string
		streams []Stream
		given   map[string]string
		want    [][2]string // token, role
	}{
		{"none", nil, nil, nil},
		{"by size", []Stream{stream(1, "a", 320), stream(1, "b", 1920), stream(1, "c", 640)}, nil,
			[][2]string{{"b", "main"}, {"c", "sub"}, {"a", "third"}}},
		{"a change of size swaps nothing", []Stream{stream(1, "a", 320), stream(1, "b", 640)}, map[string]string{"a": "main", "b": "sub"},
			[][2]string{{"a", "main"}, {"b", "sub"}}},
		{"a new one takes what is free, though it is larger", []Stream{stream(1, "a", 320), stream(1, "new", 3840)},
			map[string]string{"a": "main"},
			[][2]string{{"a", "main"}, {"new", "sub"}}},
		{"one that has gone leaves its role", []Stream{stream(1, "b", 640), stream(1, "c", 320)}, map[string]string{"a": "main", "b": "sub"},
			[][2]string{{"c", "main"}, {"b", "sub"}}},
		{"three at most", []Stream{stream(1, "a", 4), stream(1, "b", 3), stream(1, "c", 2), stream(1, "d", 1)}, map[string]string{"d": "third"},
			[][2]string{{"a", "main"}, {"b", "sub"}, {"d", "third"}}},
		{"each channel has its own", []Stream{stream(2, "x", 9), stream(1, "a", 1), stream(2, "y", 10)}, nil,
			[][2]string{{"a", "main"}, {"y", "main"}, {"x", "sub"}}},
		{"a role given twice, and one that is none", []Stream{stream(1, "a", 2), stream(1, "b", 1)},
			map[string]string{"a": "sub", "b": "sub", "c": "king"},
			[][2]string{{"b", "main"}, {"a", "sub"}}},
	} {
		var got [][2]string
		for _, s := range GiveRoles(c.streams, c.given) {
			got = append(got, [2]string{s.Token, s.Role})
		}
		assert.Equal(t, c.want, got, c.name)
	}
	in := []Stream{stream(1, "a", 1)}
	assert.Equal(t, map[string]string{"a": "main"}, RolesOf(GiveRoles(in, nil)))
	assert.Empty(t, in[0].Role, "what was given is not changed")
}

func TestFingerprint(t *testing.T) {
	a := Settings{Codec: "H.264", Width: 640, Height: 360, FPS: 15}
	b := a
	assert.Equal(t, a.Fingerprint(), b.Fingerprint())
	b.FPS = 12.5
	assert.NotEqual(t, a.Fingerprint(), b.Fingerprint())
	assert.Empty(t, Settings{}.Fingerprint(), "nothing claimed is nothing to compare with")
}

func TestCheckRoles(t *testing.T) {
	streams := []Stream{stream(1, "a", 2), stream(1, "b", 1)}
	assert.NoError(t, CheckRoles(streams, map[string]string{"a": "sub", "b": "main"}))
	assert.NoError(t, CheckRoles(streams, nil))
	assert.ErrorContains(t, CheckRoles(streams, map[string]string{"c": "main"}), "no stream")
	assert.ErrorContains(t, CheckRoles(streams, map[string]string{"a": "king"}), "no role")
	assert.ErrorContains(t, CheckRoles(streams, map[string]string{"a": "main", "b": "main"}), "cannot both")
}
