package server

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/command"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/proof"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/capacity"
	"unlatch/core/stream/media"
	"unlatch/core/stream/tuning"
	"unlatch/jobs"
	"unlatch/store"
	"unlatch/store/storetest"
)

// provenAt records of a camera that it was signed in to, and that its main stream was proven at 1280x720, 25 fps and 4000 kbit/s.
func (x *shed) provenAt(t *testing.T, id uuid.UUID, addr string) {
	x.provenBy(t, id, addr, "rtsp://"+addr+"/main")
}

// provenBy is provenAt for a main stream of another URL.
func (x *shed) provenBy(t *testing.T, id uuid.UUID, addr, url string) {
	ctx := context.Background()
	key, err := x.s.SignIns.Add(ctx, signin.New{Label: "Fitter " + addr, User: "fitter", Secret: signin.NewSecret("brass-lamp-41")})
	require.NoError(t, err)
	a := netip.MustParseAddr(addr)
	claimed := camera.Settings{Codec: "H.264", Width: 1280, Height: 720, FPS: 25, BitrateKbps: 4000, GOPFrames: 50}
	encoder := tuning.Encoder{Token: "e", Codec: "H.264", Width: 1280, Height: 720, FPS: 25, Kbps: 4000, GOPFrames: 50}
	offers := tuning.Options{Codecs: []tuning.CodecOptions{{Codec: "H.264", Sizes: []tuning.Size{{Width: 1280, Height: 720},
		{Width: 640, Height: 360}},
		FPS: []float64{12, 25}, Kbps: tuning.Span{Min: 64, Max: 8000}, GOP: tuning.Span{Min: 1, Max: 100}}}}
	for _, f := range []store.Finding{
		{Body: evidence.Reached{Addr: a, Service: "http://" + addr + "/onvif/device_service"}},
		{Body: evidence.SignedIn{SignIn: key, Label: "Fitter", User: "fitter", Info: camera.Info{Manufacturer: "Corvane", Model: "V4"}}},
		{Body: evidence.Located{Addr: a, Streams: []camera.Stream{{Token: "p1", Role: "main", Channel: 1, URL: url, Claimed: claimed}}}},
		{Subject: "p1", Body: evidence.Proof{PlainURL: url, Role: "main", Settings: claimed.Fingerprint(),
			Proof: proof.Proof{OK: true, Transport: "tcp",
				Video: &media.Measured{Codec: "H.264", Width: 1280, Height: 720, FPS: 25, BitrateKbps: 4000, GOPFrames: 50, Frames: 100,
					Keyframes: 2}}}},
		{Body: evidence.Offers{Offers: tuning.Offers{Makes: true, Streams: []tuning.Offer{{Role: "main", Token: "p1", Encoder: encoder,
			Options: offers}}}}},
	} {
		require.NoError(t, x.s.Devices.Record(ctx, &store.Device{ID: id, Site: x.site.ID}, nil, f))
	}
}

// get reads an answer that is expected to be good.
func get[T any](p *page, method, path string, body any) (out T) {
	p.t.Helper()
	status, raw, _ := p.do(method, path, body)
	require.Less(p.t, status, 300, raw)
	if raw != "" {
		require.NoError(p.t, json.Unmarshal([]byte(raw), &out), raw)
	}
	return out
}

func (x *shed) device(id uuid.UUID) deviceView {
	for _, d := range get[[]deviceView](x.p, "GET", "/api/sites/"+x.site.ID.String()+"/devices", nil) {
		if d.ID == id {
			return d
		}
	}
	x.p.t.Fatal("the device is not in the line-up")
	return deviceView{}
}

// Plans belong to the site, a model, a selection or a camera; the nearest counts and its owner is told; taking it away shows the next one.
func TestPlansAndWhoseTheyAre(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 2)
	x.provenAt(t, x.ids[0], "192.0.2.1")
	path := "/api/sites/" + x.site.ID.String()
	put := func(owner, name, main string, devices ...uuid.UUID) planView {
		return get[planView](p, "PUT", path+"/plans", map[string]any{"owner": owner, "name": name, "plan": planText{"main": main},
			"devices": devices})
	}
	put("site", "ignored", "640x360")
	model := put("model", "Corvane V4", "12fps")
	selection := put("selection", "yard", "25fps", x.ids[0])
	main := func() wishView { return x.device(x.ids[0]).Plan["main"] }
	assert.Equal(t, []string{"25fps", "of the selection yard"}, []string{main().Text, main().Whose})
	get[any](p, "PUT", path+"/device-plans", map[string]any{"plans": map[string]planText{x.ids[0].String(): {"main": "320x180"}}})
	assert.Equal(t, []string{"320x180", "its own"}, []string{main().Text, main().Whose})
	get[any](p, "PUT", path+"/device-plans", map[string]any{"plans": map[string]planText{x.ids[0].String(): {}}})
	assert.Equal(t, "of the model Corvane V4", main().Whose, "an empty plan takes it out of the selection too")
	get[any](p, "DELETE", path+"/plans/"+model.ID.String(), nil)
	assert.Equal(t, []string{"640x360", "the site’s"}, []string{main().Text, main().Whose})
	assert.Equal(t, "640x360", x.device(x.ids[1]).Plan["main"].Text)
	assert.Equal(t, "tuned", x.device(x.ids[0]).At)
	assert.Equal(t, "differs", x.device(x.ids[0]).Tunes["main"].State)
	list := get[[]planView](p, "GET", path+"/plans", nil)
	require.Len(t, list, 2)
	assert.Equal(t, selection.ID, list[1].ID)

	p.problem("bad_plan", "PUT", path+"/plans", map[string]any{"owner": "site", "plan": planText{"main": "0x0"}})
	p.problem("bad_plan", "PUT", path+"/plans", map[string]any{"owner": "site", "plan": planText{"main": "gop0"}})
	p.problem("no_plan", "PUT", path+"/plans", map[string]any{"owner": "site", "plan": planText{}})
	p.problem("no_name", "PUT", path+"/plans", map[string]any{"owner": "model", "plan": planText{"main": "5fps"}})
	p.problem("no_devices", "PUT", path+"/plans", map[string]any{"owner": "selection", "name": "x", "plan": planText{"main": "5fps"}})
	p.problem("not_found", "PUT", path+"/plans", map[string]any{"owner": "selection", "name": "x", "plan": planText{"main": "5fps"},
		"devices": []uuid.UUID{uuid.New()}})
	p.problem("not_found", "DELETE", path+"/plans/"+uuid.NewString(), nil)
}

func TestPresetsAndIntakeBooks(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 0)
	shipped := get[[]presetView](p, "GET", "/api/presets", nil)
	require.NotEmpty(t, shipped)
	for _, preset := range shipped {
		plan, err := preset.Plan.read()
		require.NoError(t, err)
		assert.Equal(t, streamsOfPlan(plan), preset.Streams, "pages show what the text says without reading it")
	}
	get[any](p, "POST", "/api/presets/own", map[string]any{"name": "Yard", "plan": planText{"sub": "640x360"}})
	get[any](p, "POST", "/api/presets/own", map[string]any{"name": "yard", "plan": planText{"sub": "320x180"}})
	all := get[[]presetView](p, "GET", "/api/presets", nil)
	require.Len(t, all, len(shipped)+1, "one of a name replaces the other")
	assert.Equal(t, "320x180", all[0].Plan["sub"])
	_, raw, h := p.do("GET", "/api/presets/"+all[0].Owner.String()+"/file", nil)
	assert.Contains(t, h.Get("Content-Disposition"), "presets.yaml")
	get[any](p, "DELETE", "/api/presets/"+all[0].Owner.String(), nil)
	assert.Len(t, get[[]presetView](p, "GET", "/api/presets", nil), len(shipped))
	get[any](p, "POST", "/api/presets", map[string]any{"yaml": raw})
	assert.Len(t, get[[]presetView](p, "GET", "/api/presets", nil), len(all), "what was sent on can be brought")
	bad := p.problem("bad_book", "POST", "/api/presets", map[string]any{"yaml": "name: x\npresets:\n  - name: a\n    main: h266"})
	assert.Contains(t, bad.Detail, "line 4, column 11")

	bad = p.problem("bad_book", "POST", "/api/intakes", map[string]any{"yaml": "name: x\nfps: {min: 9, max: many}"})
	assert.Contains(t, bad.Detail, "line 2")
	get[any](p, "POST", "/api/intakes", map[string]any{"yaml": "name: Own\nintakes:\n  - {name: Our panel, fps: {max: 5}}"})
	intakes := get[[]intakeView](p, "GET", "/api/intakes", nil)
	assert.Equal(t, "Our panel", intakes[0].Name)
	target := storetest.Target(t, s, x.site.ID, act.TargetForm{Kind: "x", Name: "Wall"})
	path := "/api/sites/" + x.site.ID.String() + "/targets"
	get[any](p, "PUT", path+"/"+target.String()+"/intake", map[string]any{"name": "our panel"})
	assert.Equal(t, "Our panel", get[[]targetView](p, "GET", path, nil)[0].Intake)
	p.problem("no_intake", "PUT", path+"/"+target.String()+"/intake", map[string]any{"name": "nobody's"})
	_, raw, _ = p.do("GET", "/api/intakes/shipped/file", nil)
	assert.Contains(t, raw, "Holloway recorder")
}

// What would be sent is told before it is: rounding, warnings, what targets make of it, days.
func TestPreview(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 2)
	x.provenAt(t, x.ids[0], "192.0.2.1")
	path := "/api/sites/" + x.site.ID.String()
	target := storetest.Target(t, s, x.site.ID, act.TargetForm{Kind: "x", Name: "Wall"})
	require.NoError(t, s.Targets.Wish(context.Background(), act.InAnySlot(target, x.ids[:1]...)))
	get[any](p, "POST", "/api/intakes", map[string]any{"yaml": "name: Own\nintakes:\n  - {name: Our panel, fps: {max: 12}}"})
	get[any](p, "PUT", path+"/targets/"+target.String()+"/intake", map[string]any{"name": "Our panel"})
	d := x.device(x.ids[0])
	assert.Equal(t, []string{"tuned", "nearest_plan"}, []string{d.At, d.Next.Action})
	nearest := get[[]nearestView](p, "POST", path+"/nearest-plans", map[string]any{"devices": x.ids})
	assert.Equal(t, planText{"main": "12fps"}, nearest[0].Plan)

	// Somebody has seen that this model cannot do more than it did.
	small := tuning.Encoder{Token: "e", Codec: "H.264", Width: 640, Height: 360, FPS: 12}
	require.NoError(t, s.Devices.Record(context.Background(), &store.Device{ID: x.ids[0], Site: x.site.ID}, nil,
		store.Finding{Body: evidence.Tuned{
			Plan: map[string]tuning.Stream{}, Has: map[string]tuning.Encoder{"main": small,
				"sub": small}, Wanted: map[string]tuning.Encoder{"sub": {Width: 1280,
				Height: 720, FPS: 25}}, ReadBack: map[string]tuning.Encoder{"main": small, "sub": small}}}))
	budgets := get[[]budgetView](p, "GET", path+"/budgets", nil)
	require.Len(t, budgets, 1)
	assert.Equal(t, "Corvane V4", budgets[0].Model)
	assert.Len(t, budgets[0].From, 1)

	got := get[previewView](p, "POST", path+"/preview", map[string]any{"devices": x.ids, "plans": map[string]planText{
		x.ids[0].String(): {"main": "15fps,2000kbps", "sub": "640x360,25fps"}}})
	require.Len(t, got.Rows, 2)
	row := got.Rows[0]
	require.NotNil(t, row.Preview)
	assert.Equal(t, tuning.Change{Stream: "main", Field: "fps", From: "25", To: "12", Asked: "15"}, row.Preview.Streams[0].Changes[0])
	assert.True(t, row.Preview.Streams[1].Made)
	require.NotEmpty(t, row.Preview.Warnings)
	assert.Contains(t, row.Preview.Warnings[0], "sub can have", "the encoder's budget is said before")
	require.Len(t, row.Targets, 1)
	assert.NotEmpty(t, row.Targets[0].Before)
	assert.Empty(t, row.Targets[0].After, "the wall takes it then")
	assert.Greater(t, got.After.Days, got.Before.Days)
	assert.True(t, got.Rows[1].Cannot)
	assert.Contains(t, got.Rows[1].Unknown, "not signed in")
	p.problem("bad_plan", "POST", path+"/preview",
		map[string]any{"devices": x.ids, "plans": map[string]planText{x.ids[0].String(): {"main": "?"}}})
}

func TestCosts(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 2)
	x.provenAt(t, x.ids[0], "192.0.2.1")
	path := "/api/sites/" + x.site.ID.String() + "/costs"
	form := capacity.RecordingForm{Disks: "4x4TB", Layout: "parity", Records: "main"}
	got := get[costsView](p, "POST", path, map[string]any{"form": form})
	assert.Equal(t, int64(12e12), got.Cost.UsableBytes)
	assert.Equal(t, []int{1, 0}, []int{got.Cost.Measured, got.Cost.Planned})
	assert.InDelta(t, 12e12/(4000*1000/8*86400.0), got.Cost.Days, 1e-6)
	drafts := map[string]planText{x.ids[0].String(): {"main": "2000kbps"}, x.ids[1].String(): {"main": "1000kbps"}}
	less := get[costsView](p, "POST", path, map[string]any{"form": form, "plans": drafts})
	assert.InDelta(t, 3000, less.Kbps, 1e-9, "what was typed counts, of cameras that were never asked too")
	assert.Equal(t, []int{0, 2}, []int{less.Cost.Measured, less.Cost.Planned})
	form.Days = 30
	back := get[costsView](p, "POST", path, map[string]any{"form": form})
	require.Len(t, back.For, 1)
	assert.InDelta(t, 12e12*8/1000/(30*86400), float64(back.For[0].Kbps), 1)

	get[any](p, "PUT", path, form)
	assert.Equal(t, form, get[capacity.RecordingForm](p, "GET", path, nil))
	for _, disks := range []string{"0x4TB", "4x0TB", "many", ""} {
		bad := p.problem("bad_recording", "PUT", path, capacity.RecordingForm{Disks: disks})
		assert.Contains(t, bad.Detail, "disks")
	}
	p.problem("bad_recording", "POST", path, map[string]any{"form": capacity.RecordingForm{Disks: "2x4TB", Layout: "parity"}})
	assert.Equal(t, form, get[capacity.RecordingForm](p, "GET", path, nil), "what was kept is not lost")
}

// Two people tune one camera at once: the second is told who does, and nothing of theirs is begun.
func TestTheSecondToTuneIsTold(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newShed(t, p, s, 1)
	x.provenAt(t, x.ids[0], "192.0.2.1")
	path := "/api/sites/" + x.site.ID.String() + "/tune"
	q, err := jobs.NewQueue(s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	plan, err := tuning.ParsePlan(map[string]string{"main": "5fps"})
	require.NoError(t, err)
	run, err := q.Begin(ctx, x.site.ID, command.Work{Kind: "tune", Title: "another's", By: "Nell",
		Devices: command.Each(x.ids[:1], command.Device{Tune: &command.Tune{Plan: plan}})})
	require.NoError(t, err)
	told := p.problem("being_tuned", "POST", path, map[string]any{"devices": x.ids, "plan": planText{"main": "10fps"}})
	assert.Contains(t, told.Detail, "by Nell")
	assert.Empty(t, x.device(x.ids[0]).Plan, "nothing was kept either")

	_, err = s.Pool.Exec(ctx, "UPDATE runs SET person = 'keeper' WHERE id = $1", run.ID)
	require.NoError(t, err)
	status, raw, _ := p.do("POST", path, map[string]any{"devices": x.ids, "plan": planText{"main": "10fps"}})
	assert.Equal(t, 202, status, "one's own next wish waits for the last: %s", raw)
	assert.Equal(t, "10fps", x.device(x.ids[0]).Plan["main"].Text)
	assert.Equal(t, "its own", x.device(x.ids[0]).Plan["main"].Whose)
	p.problem("no_plan", "POST", path, map[string]any{"devices": x.ids, "plan": planText{"main": "keep"}})
	acts, err := s.Record.List(ctx, store.LineFilter{Site: x.site.ID, Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, "set the streams of", acts[0].Action)
	assert.WithinDuration(t, time.Now(), acts[0].At, time.Minute)
}
