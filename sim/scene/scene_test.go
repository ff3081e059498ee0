package scene

import (
	"context"
	"image"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/stream/media"
)

func TestEverySceneMovesAndIsItsOwn(t *testing.T) {
	seen := map[string]string{}
	for _, name := range Names() {
		var first, middle []byte
		i := 0
		require.NoError(t, frames(name, "Caption", 160, 90, 8, func(img *image.RGBA) error {
			switch i {
			case 0:
				first = append([]byte(nil), img.Pix...)
			case 3:
				middle = append([]byte(nil), img.Pix...)
			}
			i++
			return nil
		}))
		assert.Equal(t, 8, i)
		assert.NotEqual(t, first, middle, "%s does not move", name)
		assert.Empty(t, seen[string(first)], "%s looks like another scene", name)
		seen[string(first)] = name
	}
	assert.ErrorContains(t, frames("moon", "", 16, 9, 1, nil), "no scene")
}

func TestClipIsRealH264AndCached(t *testing.T) {
	dir := t.TempDir()
	f := Format{Scene: "turntable", Caption: "Turntable", Width: 320, Height: 180, FPS: 10, Kbps: 300, GOP: 10, Profile: "main"}
	c, err := (&Library{Dir: dir}).Clip(context.Background(), f)
	require.NoError(t, err)
	assert.Len(t, c.Frames, 40)
	keys, bytes := 0, 0
	for _, fr := range c.Frames {
		if fr.Key {
			keys++
		}
		for _, n := range fr.NALs {
			bytes += len(n)
		}
	}
	assert.Equal(t, 4, keys)
	assert.InEpsilon(t, 300, float64(bytes)*8/1000/loopSeconds, 0.25, "the loop has the bitrate that was asked for")
	sps, err := media.ParseSPS(c.SPS)
	require.NoError(t, err)
	assert.Equal(t, [2]int{320, 180}, [2]int{sps.Width, sps.Height})
	assert.Contains(t, []string{"Main", "Constrained Baseline"}, sps.Profile)

	t.Setenv("PATH", "")
	again, err := (&Library{Dir: dir}).Clip(context.Background(), f)
	require.NoError(t, err, "the second time no encoder is needed")
	assert.Equal(t, c.Frames, again.Frames)
	f.GOP = 5
	_, err = (&Library{Dir: dir}).Clip(context.Background(), f)
	assert.ErrorContains(t, err, "ffmpeg")
	entries, _ := os.ReadDir(dir)
	assert.Len(t, entries, 1)
}
