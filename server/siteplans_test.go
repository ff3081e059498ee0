package server

import (
	"bytes"
	"image"
	"image/png"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"unlatch/store"
	"unlatch/store/storetest"
)

// floorPicture is a picture of a floor.
var floorPicture = func() []byte {
	var b bytes.Buffer
	png.Encode(&b, image.NewGray(image.Rect(0, 0, 300, 200)))
	return b.Bytes()
}()

// A camera is marked on a picture of the building, moved and taken off again; the picture comes back as it is kept; what is no picture is
// refused with what to do.
func TestSitePlans(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	plans := "/api/sites/" + x.own.id.String() + "/site-plans"
	floor := plans + "/" + x.floor[x.own.id].String()
	mark := func(more fields) fields {
		out := fields{"device": x.own.camera, "x": 0.25, "y": 0.5}
		for k, v := range more {
			out[k] = v
		}
		return fields{"marks": []fields{out}}
	}
	get[any](p, "PUT", floor+"/marks", mark(nil))
	get[any](p, "PUT", floor+"/marks", mark(fields{"x": 0.75, "direction": 90}))
	list := get[[]store.SitePlan](p, "GET", plans, nil)
	if assert.Len(t, list, 1) && assert.Len(t, list[0].Marks, 1) {
		assert.Equal(t, 0.75, list[0].Marks[0].X)
		assert.Equal(t, 90.0, *list[0].Marks[0].Direction)
		assert.Equal(t, 300, list[0].Width)
	}
	status, raw, head := p.do("GET", floor+"/picture", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "image/png", head.Get("Content-Type"))
	_, err := png.Decode(bytes.NewReader([]byte(raw)))
	assert.NoError(t, err)
	get[any](p, "POST", floor+"/take-off", fields{"devices": []any{x.own.camera}})
	assert.Empty(t, get[[]store.SitePlan](p, "GET", plans, nil)[0].Marks)

	p.problem("bad_picture", "POST", plans, fields{"name": "Cellar", "content": []byte("%PDF-1.7 /JavaScript")})
	status, _, _ = p.do("PUT", floor+"/marks", mark(fields{"x": 1.5}))
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	status, _, _ = p.do("PUT", floor+"/marks", fields{"marks": []fields{{"device": x.other.camera, "x": 0.1, "y": 0.1}}})
	assert.Equal(t, http.StatusNotFound, status, "a camera of another site")
	status, _, _ = p.do("GET", "/api/sites/"+x.own.id.String()+"/site-plans/"+x.floor[x.other.id].String()+"/picture", nil)
	assert.Equal(t, http.StatusNotFound, status, "a plan of another site")
}
