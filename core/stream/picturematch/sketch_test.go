package picturematch

import (
	"image"
	"testing"

	"github.com/stretchr/testify/assert"
)

// apart returns how many bits of two sketches differ.
func apart(a, b Sketch) (n int) {
	for i := range a {
		if a[i] != b[i] {
			n++
		}
	}
	return n
}

// However a view is shown, its own sketch is among the first few of many hundred views by how few bits differ.
func TestASketchFindsItsView(t *testing.T) {
	t.Parallel()
	const many, firstFew = 300, 3
	var own [many]Sketch
	for i := range own {
		own[i] = Of(view(uint64(i), 0, 320, 180)).Sketch()
		assert.Len(t, own[i], SketchBits)
	}
	for _, way := range ways(t) {
		for i := range uint64(20) {
			seen := Of(way.of(i, 0)).Sketch()
			mine, before := apart(own[i], seen), 0
			for j := range own {
				if uint64(j) != i && apart(own[j], seen) <= mine {
					before++
				}
			}
			assert.Less(t, before, firstFew, "view %d %s: %d bits apart", i, way.name, mine)
		}
	}
	assert.Empty(t, Of(image.NewRGBA(image.Rect(0, 0, 64, 36))).Sketch(), "a black picture")
	assert.Empty(t, Print{}.Sketch())
}
