package server

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/store/storetest"
)

// What a person says of a walk test stands in the camera's record with the name, and can be taken back; it opens no latch.
func TestAWalkTestIsKept(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 2)
	x.provenAt(t, x.ids[0], "192.0.2.1")
	walks := "/api/sites/" + x.site.ID.String() + "/walks"
	camera := func() deviceView {
		changed, _ := x.changes("")
		for _, d := range changed.Devices {
			if d.ID == x.ids[0] {
				return d
			}
		}
		t.Fatal("the camera is gone")
		return deviceView{}
	}
	before := camera()
	require.Nil(t, before.Walked)
	get[any](p, "POST", walks, map[string]any{"device": x.ids[0]})
	after := camera()
	require.NotNil(t, after.Walked)
	assert.Equal(t, "keeper", after.Walked.By)
	assert.Equal(t, before.Latches, after.Latches)
	records := get[[]recordView](p, "GET", "/api/devices/"+x.ids[0].String()+"/evidence", nil)
	assert.Equal(t, "Walk test: somebody was seen in its picture, says keeper", records[0].Summary)
	get[any](p, "POST", walks, map[string]any{"device": x.ids[0], "unsaid": true})
	assert.Nil(t, camera().Walked)
	p.problem("not_found", "POST", walks, map[string]any{"device": uuid.New()})
}
