package tuning

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/ground/yamlfile"
)

func planOf(t *testing.T, texts map[string]string) Plan {
	p, err := ParsePlan(texts)
	require.NoError(t, err)
	return p
}

func TestAPlanIsWrittenAndRead(t *testing.T) {
	texts := map[string]string{"main": "h264,1280x720,gop2s", "sub": "keep", "third": "off", "overlay": "name, time, lower left, size 24"}
	p := planOf(t, texts)
	assert.Equal(t, texts, p.Texts())
	assert.Equal(t, Overlay{Name: "on", Time: "on", At: "lower left", Size: 24}, p.Overlay)
	assert.Equal(t, "none", planOf(t, map[string]string{"overlay": "none"}).Overlay.String())
	assert.True(t, planOf(t, map[string]string{"overlay": "keep"}).IsZero())
	for part, text := range map[string]string{"fourth": "h264", "overlay": "logo", "main": "h266"} {
		_, err := ParsePlan(map[string]string{part: text})
		assert.ErrorAs(t, err, new(*ParseError), part)
	}
}

func TestTheNearestPlanCounts(t *testing.T) {
	layer := func(o Owner, name string, texts map[string]string) Layer { return Layer{o, name, planOf(t, texts)} }
	p, whose := Resolve([]Layer{
		layer(Site, "", map[string]string{"main": "h264,25fps", "sub": "640x360", "overlay": "time"}),
		layer(Camera, "", map[string]string{"sub": "keep"}),
		layer(Model, "V4", map[string]string{"main": "12fps"}),
		layer(Selection, "yard", map[string]string{"third": "off"}),
	})
	assert.Equal(t, map[string]string{"main": "12fps", "sub": "keep", "third": "off", "overlay": "time"}, p.Texts())
	assert.Equal(t, "of the model V4", whose["main"].Whose())
	assert.Equal(t, "its own", whose["sub"].Whose(), "a near plan can say that a stream stays as it is")
	assert.Equal(t, "of the selection yard", whose["third"].Whose())
	assert.Equal(t, "the site’s", whose["overlay"].Whose())
	none, _ := Resolve(nil)
	assert.True(t, none.IsZero())
}

func TestPresets(t *testing.T) {
	b := ShippedPresets()
	require.NotEmpty(t, b.Presets)
	raw, err := b.Write()
	require.NoError(t, err)
	again, err := ReadPresets(raw)
	require.NoError(t, err, string(raw))
	assert.Equal(t, b, again, "written and read again")
	for _, c := range []struct {
		name, yaml string
		line, col  int
	}{
		{"no name", "presets: []", 1, 1},
		{"not a list", "name: x\npresets: {}", 2, 10},
		{"unknown part", "name: x\npresets:\n  - name: a\n    fourth: h264", 4, 5},
		{"a plan that cannot be read", "name: x\npresets:\n  - name: a\n    main: h264,0x720", 4, 11},
		{"nothing wanted", "name: x\npresets:\n  - name: a", 3, 5},
		{"twice", "name: x\npresets:\n  - {name: a, main: off}\n  - {name: A, main: off}", 4, 5},
		{"key-frame interval of nought", "name: x\npresets:\n  - {name: a, main: gop0}", 3, 21},
	} {
		_, err := ReadPresets([]byte(c.yaml))
		var bad *yamlfile.Error
		require.ErrorAs(t, err, &bad, c.name)
		assert.Equal(t, [2]int{c.line, c.col}, [2]int{bad.Line, bad.Column}, "%s: %v", c.name, err)
	}
}

func FuzzReadPresets(f *testing.F) {
	raw, _ := ShippedPresets().Write()
	f.Add(raw)
	f.Add([]byte("name: x\npresets: [{name: a, overlay: 'name, size 3'}]"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		b, err := ReadPresets(raw)
		if err != nil {
			return
		}
		out, err := b.Write()
		require.NoError(t, err)
		if _, err := ReadPresets(out); err != nil {
			t.Fatalf("%q was written as %q, which cannot be read: %v", raw, out, err)
		}
	})
}

func at(w, h int, fps float64) Encoder { return Encoder{Codec: "H.264", Width: w, Height: h, FPS: fps} }

func TestABudgetIsLearned(t *testing.T) {
	id := uuid.New()
	fell := Observation{Evidence: id, Device: "Yard", Wanted: map[string]Encoder{"main": at(1280, 720, 25), "sub": at(640, 360, 25)},
		Got: map[string]Encoder{"main": at(1280, 720, 25), "sub": at(640, 360, 10)}}
	fine := Observation{Device: "Gate", Wanted: map[string]Encoder{"main": at(1280, 720, 12), "sub": at(640, 360, 12)},
		Got: map[string]Encoder{"main": at(1280, 720, 12), "sub": at(640, 360, 12)}}
	refused := Observation{Evidence: id, Device: "Yard", Wanted: fell.Wanted}
	assert.False(t, Learn(nil).Known())
	assert.False(t, Learn([]Observation{fine}).Known())
	assert.False(t, Learn([]Observation{refused}).Known(), "how much it can do was never seen")
	b := Learn([]Observation{fine, fell})
	assert.Equal(t, 1280*720*25.0+640*360*10, b.Pixels)
	assert.Equal(t, 1280*720*25.0+640*360*25, b.Asked)
	assert.Equal(t, []uuid.UUID{id}, b.From)
	assert.Equal(t, "Yard was asked for main 1280x720 at 25 and sub 640x360 at 25 and gave main 1280x720 at 25 and sub 640x360 at 10", b.Why)
	assert.Contains(t, Learn([]Observation{fine, refused}).Why, "refused")
	large := fine
	large.Got = map[string]Encoder{"main": at(1920, 1080, 25)}
	assert.False(t, Learn([]Observation{fell, large}).Known(), "another of the model gave more than that: it was not the budget")

	offers := Offers{Streams: []Offer{{Role: "main"}, {Role: "sub", Options: Options{Codecs: []CodecOptions{{Codec: "H.264",
		Sizes: []Size{{1280, 720}, {640, 360}, {320, 180}}, FPSSpan: Span{1, 25}}}}}}}
	assert.Empty(t, b.Over(fine.Wanted, offers))
	assert.Equal(t, "with main 1280x720 at 25, sub can have at most 640x360 at 10: "+b.Why, b.Over(fell.Wanted, offers))
	assert.Contains(t, b.Over(map[string]Encoder{"main": at(1920, 1080, 25), "sub": at(640, 360, 25)}, offers), "sub can have nothing")
}

func TestPreview(t *testing.T) {
	offered := Offers{Streams: []Offer{{Role: "main", Encoder: has, Options: offers, Audio: Audio{Token: "a", Codec: "G.711", Codecs: []string{
		"G.711", "AAC"}}}}, Makes: true}
	p := Look(planOf(t, map[string]string{"main": "15fps,audio=aac", "sub": "h264,1920x1080,5fps", "third": "keep", "overlay": "name"}),
		offered, Budget{})
	require.Len(t, p.Streams, 2)
	assert.Equal(t, []Change{{"main", "fps", "25", "12", "15"}, {"main", "audio", "G.711", "aac", "aac"}}, p.Streams[0].Changes)
	assert.True(t, p.Streams[1].Made)
	assert.Equal(t, []string{"it draws no text by its device service: look on its own page",
		"the sub stream (1920x1080) is larger than the main stream (1280x720)"}, p.Warnings)
	assert.True(t, p.Changed())

	p = Look(planOf(t, map[string]string{"main": "1920x1080,gop1s"}), offered, Budget{})
	assert.Equal(t, []Change{{"main", "size", "1280x720", "1280x720", "1920x1080"}}, p.Streams[0].Kept,
		"rounding is said where it changes nothing")
	assert.Equal(t, "gop_frames", p.Streams[0].Changes[0].Field)

	p = Look(planOf(t, map[string]string{"main": "off", "sub": "640x360"}), Offers{Streams: offered.Streams}, Budget{})
	assert.Equal(t, "stream", p.Streams[0].Refused[0].Field)
	assert.Contains(t, p.Streams[1].Refused[0].Why, "no such stream")
	assert.False(t, p.Changed())

	p = Look(planOf(t, map[string]string{"main": "25fps"}), Offers{Streams: offered.Streams, Instances: 1}, Budget{})
	assert.Empty(t, p.Streams[0].Changes, "it has that already")
	assert.Empty(t, p.Warnings)
	assert.Equal(t, Encoder{Codec: "H.264", Width: 640, Height: 360, FPS: 10, Kbps: 512, GOPFrames: 20}, New(Stream{}))
	assert.Equal(t, 30, New(Stream{FPS: 15, GOPSeconds: 2}).GOPFrames)
}
