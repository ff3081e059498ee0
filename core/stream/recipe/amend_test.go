package recipe_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/streamurl"
	"unlatch/core/stream/recipe"
)

func TestAmendByPathBooks(t *testing.T) {
	own, err := recipe.ReadBook([]byte("name: Own\nrecipes:\n  - {path: \"/{cast:uni|multi}/cam{channel}\"}\n"))
	require.NoError(t, err)
	books := append(recipe.Shipped(), own)
	for _, c := range []struct{ in, out, fault string }{
		{"rtsp://192.0.2.7/weir?sluice=3&flow=TRICKLE", "rtsp://192.0.2.7/Weir?Sluice=3&Flow=Trickle", "case"},
		{"rtsp://192.0.2.7/VISTA/CH2/Primary", "rtsp://192.0.2.7/vista/ch2/primary", "case"},
		{"rtsp://192.0.2.7/multi/cam4", "rtsp://192.0.2.7/uni/cam4", "multicast"},
		{"rtsp://192.0.2.7/Weir?Sluice=3&Flow=Trickle", "rtsp://192.0.2.7/Weir?Sluice=3&Flow=Trickle", ""},
		{"rtsp://192.0.2.7/nobody/Knows", "rtsp://192.0.2.7/nobody/Knows", ""},
	} {
		r := streamurl.Repair(c.in)
		recipe.Amend(t.Context(), &r, books)
		assert.Equal(t, c.out, r.URL.String(), c.in)
		if c.fault == "" {
			assert.Empty(t, r.Findings, c.in)
			continue
		}
		require.Len(t, r.Findings, 1, c.in)
		assert.Equal(t, streamurl.Fault(c.fault), r.Findings[0].Fault)
		left := streamurl.Repair(c.in)
		recipe.Amend(t.Context(), &left, books, streamurl.Fault(c.fault))
		assert.Equal(t, c.in, left.URL.String(), "left as it is where the person wants that")
	}
}

func TestMulticastAskedOfAUnicastURL(t *testing.T) {
	for in, out := range map[string]string{
		"rtsp://192.0.2.7/a?x=1&proto=Multicast&y=2": "rtsp://192.0.2.7/a?x=1&y=2",
		"rtsp://192.0.2.7/a?multicast=1":             "rtsp://192.0.2.7/a",
		"rtsp://192.0.2.7/a?multicaster=1":           "rtsp://192.0.2.7/a?multicaster=1",
	} {
		assert.Equal(t, out, streamurl.Repair(in).URL.String(), in)
		assert.Equal(t, in, streamurl.Repair(in, streamurl.Multicast).URL.String(), in)
	}
}
