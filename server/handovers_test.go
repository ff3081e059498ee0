package server

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/act"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/handover/packtest"
	"unlatch/core/decide/handover/paper"
	"unlatch/core/decide/ready"
	"unlatch/core/decide/siteplan"
	"unlatch/core/ground/signin"
	"unlatch/core/stream/sighting"
	"unlatch/core/work/packing"
	"unlatch/store"
	"unlatch/store/storetest"
)

// noPictures is a source of site plans alone.
type noPictures struct{}

func (noPictures) Still(context.Context, uuid.UUID) ([]byte, error) { return nil, packing.ErrGone }
func (noPictures) SitePlan(context.Context, uuid.UUID) (siteplan.Picture, error) {
	return siteplan.Picture{Data: packtest.PNG(800, 500), Type: "image/png", Width: 800, Height: 500}, nil
}

// packZip returns a pack as a zip file.
func packZip(t testing.TB, p handover.Pack) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	m := packing.Making{Pack: p, Size: paper.A4, Source: noPictures{}, Manifest: handover.Manifest{Form: handover.Form, Site: p.Site.ID,
		Name: p.Site.Name, Number: 4, By: "Rowan", At: packtest.At, Language: "en"}}
	m.Seal = func(context.Context) ([]byte, handover.SealedTo, error) {
		return handover.Seal(p.Site.Name, []handover.SealedSignIn{{ID: packtest.ID("key"), Label: "Station cameras", User: "admin",
			Secret: signin.NewSecret("brass-kettle-9"), Devices: []uuid.UUID{p.Cameras[0].ID}}}, packKey.Recipient().String(), signin.Secret{})
	}
	_, err := packing.Make(context.Background(), m, func(_ context.Context, f handover.File) error {
		w, err := z.Create(f.Path)
		if err == nil {
			_, err = w.Write(f.Data)
		}
		return err
	})
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

// packKey opens the sealed sign-ins of packZip. A passphrase would take its time with each.
var packKey, _ = age.GenerateX25519Identity()

// bring sends a pack.
func (p *page) bring(raw []byte) (int, []byte) {
	p.t.Helper()
	req, err := http.NewRequest("POST", p.url+"/api/packs", bytes.NewReader(raw))
	require.NoError(p.t, err)
	req.Header.Set("Content-Type", "application/zip")
	req.Header.Set("Origin", p.url)
	res, err := p.client.Do(req)
	require.NoError(p.t, err)
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	return res.StatusCode, body
}

// bringPack brings a pack, which is in good order.
func bringPack(p *page, pack handover.Pack) (v packView) {
	p.t.Helper()
	status, raw := p.bring(packZip(p.t, pack))
	require.Equal(p.t, http.StatusOK, status, "%s", raw)
	require.NoError(p.t, json.Unmarshal(raw, &v))
	return v
}

// A pack becomes a site: its devices are there under their names, wanted where they were, and nothing of them counts as measured.
func TestAPackIsOpenedAsIntent(t *testing.T) {
	t.Parallel()
	p, s, log := serve(t, storetest.URL(t))
	p.setUp()
	ctx := context.Background()
	pack := packtest.Sample(3)
	pack.Cameras[1].Plan = map[string]string{"sub": "10fps"}
	pack.Cameras[1].Roles = map[string]string{"p0": "sub"}
	v := bringPack(p, pack)
	assert.Equal(t, "Tarn Ferry", v.Name)
	assert.Equal(t, []string{"192.0.2.0/24"}, v.Ranges)
	assert.Equal(t, []string{packKey.Recipient().String()}, v.Sealed.Recipients)
	assert.Equal(t, 3, v.Cameras)

	open := "/api/packs/" + v.ID.String() + "/open"
	p.problem("not_sealed_to_you", "POST", open, fields{"secret": "another passphrase"})
	site := get[idBody](p, "POST", open, fields{"secret": packKey.String()}).ID
	assert.Equal(t, pack.Site.ID, site)
	p.problem("no_pack", "POST", open, fields{})

	list, err := s.Devices.List(ctx, site)
	require.NoError(t, err)
	require.Len(t, list, 4)
	for _, d := range list {
		assert.False(t, d.Status.HeardAt.After(time.Time{}), "nothing was heard")
		assert.Empty(t, d.Status.Streams)
		assert.Equal(t, "heard", string(d.Status.At()))
		assert.Equal(t, "sweep", d.Status.Next().Action)
	}
	i := slices.IndexFunc(list, func(d store.Device) bool { return d.ID == pack.Cameras[1].ID })
	assert.Equal(t, "Footbridge", list[i].Name.String)
	assert.Equal(t, "Recorder", list[i].Status.Placements[0].Name)
	assert.Equal(t, "2", list[i].Status.Placements[0].Wanted)
	assert.Contains(t, list[i].Status.Plan.Streams, "sub")
	plans, err := s.SitePlans.List(ctx, site)
	require.NoError(t, err)
	require.Len(t, plans, 1)
	assert.Len(t, plans[0].Marks, 3)
	keys, err := s.SignIns.List(ctx)
	require.NoError(t, err)
	require.Len(t, keys, 1)
	assert.Equal(t, []uuid.UUID{pack.Cameras[0].ID}, keys[0].Devices, "tried on what it is for, and on nothing else")
	in, err := s.SignIns.Decrypt(ctx, keys[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "brass-kettle-9", in.Secret.Reveal())
	assert.NotContains(t, log.String(), "brass-kettle-9")
	assert.NotContains(t, log.String(), packKey.String())

	o := get[openedView](p, "GET", "/api/sites/"+site.String()+"/handover/opened", nil)
	assert.True(t, o.Opened)
	assert.Equal(t, 4, o.Number)
	assert.Len(t, o.Missing, 4)
	assert.Empty(t, o.Different)

	// What is heard is known again by what it is, at another address too; a stranger is told as more than the pack has.
	camera := pack.Cameras[1]
	for _, x := range []sighting.Sighting{{Endpoint: camera.Endpoint, Addr: netip.MustParseAddr("192.0.2.77"), Serial: camera.Serial},
		{Endpoint: "urn:uuid:new", Addr: netip.MustParseAddr("192.0.2.78")}} {
		x.Method, x.At, x.Kind = sighting.WSDiscovery, time.Now(), sighting.Camera
		_, err := s.Devices.Sight(ctx, site, nil, x)
		require.NoError(t, err)
	}
	o = get[openedView](p, "GET", "/api/sites/"+site.String()+"/handover/opened", nil)
	assert.Len(t, o.Missing, 3)
	require.Len(t, o.Different, 1)
	assert.Equal(t, camera.ID, o.Different[0].ID)
	assert.Equal(t, "192.0.2.77", o.Different[0].Fields[0].Is)
	require.Len(t, o.Surplus, 1)
	assert.Equal(t, "192.0.2.78", o.Surplus[0].Address)

	again := bringPack(p, pack)
	assert.True(t, again.Here)
	p.problem("pack_here", "POST", "/api/packs/"+again.ID.String()+"/open", fields{})
}

// Whatever is wrong with a pack is said, and nothing of it is taken over.
func TestAPackThatCannotBeOpened(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	whole := packZip(t, packtest.Sample(2))
	changed := func(path string, change func([]byte) []byte) []byte {
		r, err := zip.NewReader(bytes.NewReader(whole), int64(len(whole)))
		require.NoError(t, err)
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for _, f := range r.File {
			data, err := fs.ReadFile(r, f.Name)
			require.NoError(t, err)
			if f.Name == path {
				data = change(data)
			}
			w, err := z.Create(f.Name)
			require.NoError(t, err)
			w.Write(data)
		}
		require.NoError(t, z.Close())
		return b.Bytes()
	}
	swap := func(a, b string) func([]byte) []byte {
		return func(raw []byte) []byte { return bytes.Replace(raw, []byte(a), []byte(b), 1) }
	}
	for what, c := range map[string]struct {
		raw   []byte
		cause string
	}{
		"no zip":     {[]byte("hello"), "pack_damaged"},
		"cut short":  {whole[:len(whole)/2], "pack_damaged"},
		"newer":      {changed(handover.ManifestFile, swap(`"form": 1`, `"form": 9`)), "pack_newer"},
		"tampered":   {changed(handover.DataFile, swap("192.0.2.10", "192.0.2.66")), "pack_damaged"},
		"other name": {changed(handover.ManifestFile, swap("Rowan", "Nobody")), "pack_damaged"},
		"empty":      {nil, "pack_damaged"},
	} {
		status, raw := p.bring(c.raw)
		assert.Equal(t, 422, status, what)
		var problem Problem
		require.NoError(t, json.Unmarshal(raw, &problem), what)
		assert.Equal(t, c.cause, problem.Cause, what)
	}
	sites, err := s.Sites.List(context.Background())
	require.NoError(t, err)
	assert.Empty(t, sites)
	// A technician makes no sites, and a pack that somebody else brought is not there.
	v := bringPack(p, packtest.Sample(1))
	status, _ := p.as("Technician Tess", act.Technician).bring(whole)
	assert.Equal(t, http.StatusForbidden, status)
	enid := p.as("Engineer Enid", act.Engineer)
	enid.problem("no_pack", "POST", "/api/packs/"+v.ID.String()+"/open", fields{})
}

// A site gets ready: what is found is mended or waived with a reason, the checklist is ticked by evidence and by people.
func TestASiteGetsReady(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	path := "/api/sites/" + x.own.id.String() + "/handover"
	v := get[handoverView](p, "GET", path, nil)
	assert.False(t, v.Ready)
	find := func(c ready.Cause) readyFindingView {
		i := slices.IndexFunc(v.Findings, func(f readyFindingView) bool { return f.Cause == c })
		require.GreaterOrEqual(t, i, 0, c)
		return v.Findings[i]
	}
	factory := find(ready.FactoryPassword)
	require.Len(t, factory.Things, 1)
	assert.Equal(t, x.own.fresh, factory.Things[0].ID)
	assert.Equal(t, ready.MendClaim, factory.Mend)
	assert.Contains(t, factory.Title, "still takes its factory password")

	body := fields{"cause": ready.FactoryPassword, "things": []uuid.UUID{x.own.fresh}, "reason": "  "}
	p.problem("no_reason", "POST", path+"/waivers", body)
	body["reason"] = "it is replaced on Monday"
	get[any](p, "POST", path+"/waivers", body)
	v = get[handoverView](p, "GET", path, nil)
	waived := find(ready.FactoryPassword)
	assert.Empty(t, waived.Things)
	assert.Equal(t, "keeper", waived.Waived[0].Waiver.By)
	body["things"] = []uuid.UUID{x.other.fresh}
	p.problem("not_found", "POST", path+"/waivers", body) // another site's
	get[any](p, "POST", path+"/waivers/withdraw", fields{"cause": ready.FactoryPassword, "things": []uuid.UUID{x.own.fresh}})
	v = get[handoverView](p, "GET", path, nil)
	assert.Len(t, find(ready.FactoryPassword).Things, 1)

	p.problem("no_item", "PUT", path+"/attested", fields{"item": "finished"}) // evidence ticks it
	get[any](p, "PUT", path+"/attested", fields{"item": "shown", "note": "to Ada"})
	v = get[handoverView](p, "GET", path, nil)
	i := slices.IndexFunc(v.Checklist.Items, func(c ready.Checked) bool { return c.ID == "shown" })
	assert.True(t, v.Checklist.Items[i].Done)
	bad := p.problem("bad_checklist", "PUT", path+"/checklist", fields{"yaml": "name: x\nitems:\n  - {id: a, title: b, ticks: magic}\n"})
	assert.Contains(t, bad.Detail, "ine 3")
	get[any](p, "PUT", path+"/checklist", fields{"yaml": "name: Depot\nitems:\n  - {id: a, title: Keys are back}\n"})
	v = get[handoverView](p, "GET", path, nil)
	assert.True(t, v.Checklist.Own)
	assert.Equal(t, "Depot", v.Checklist.Name)
}

// A mark that is too large, no picture, or a drawing that can hold programs is turned away, and the one that is there stays.
func TestTheFirmsMark(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	get[any](p, "PUT", "/api/firm", fields{"name": "Tarnside Signals", "mark": packtest.PNG(200, 80)})
	const drawing = `<?xml version="1.0"?><svg xmlns="http://www.w3.org/2000/svg"><script/></svg>`
	for cause, mark := range map[string][]byte{"mark_is_svg": []byte(drawing),
		"bad_mark": []byte("GIF89a and so on"), "mark_too_large": bytes.Repeat([]byte{0xff}, act.MostMark+1)} {
		p.problem(cause, "PUT", "/api/firm", fields{"name": "Tarnside Signals", "mark": mark})
	}
	status, _, _ := p.do("PUT", "/api/firm", fields{"name": "x", "mark": bytes.Repeat([]byte{1}, 2*act.MostMark)})
	assert.Equal(t, http.StatusRequestEntityTooLarge, status)
	f, err := s.Handovers.Firm(context.Background())
	require.NoError(t, err)
	assert.True(t, f.HasMark)
	get[any](p, "PUT", "/api/firm", fields{"name": "Tarnside", "no_mark": true})
	f, err = s.Handovers.Firm(context.Background())
	require.NoError(t, err)
	assert.False(t, f.HasMark)
}

// A customer sees and signs the papers of their site, once, and none of its other files.
func TestACustomerSigns(t *testing.T) {
	t.Parallel()
	p, s, _ := serve(t, storetest.URL(t))
	p.setUp()
	x := newDepot(t, p, s)
	ctx := context.Background()
	id := uuid.New()
	require.NoError(t, s.Handovers.Begin(ctx, act.Person{Name: "keeper"}, act.MakeHandover{Site: x.own.id, ID: id}))
	m := handover.Manifest{Number: 2}
	for _, f := range []handover.File{{Path: handover.PaperFile, Type: "application/pdf", Data: []byte("%PDF-")},
		{Path: handover.DataFile, Type: "application/json", Data: []byte("{}")}} {
		require.NoError(t, s.Handovers.PutFiles(ctx, id, f))
		m.Files = append(m.Files, f.Entry())
	}
	m.Complete()
	require.NoError(t, s.Handovers.Complete(ctx, act.HandoverMade{Site: x.own.id, ID: id, Manifest: m}))

	ada := p.as("Customer Ada", act.Customer, x.own.id)
	versions := "/api/sites/" + x.own.id.String() + "/handover/versions"
	raw, _, _ := ada.do("GET", "/api/sites/"+x.own.id.String()+"/handover", nil)
	assert.Equal(t, http.StatusForbidden, raw)
	status, text, _ := ada.do("GET", versions, nil)
	require.Equal(t, 200, status, text)
	assert.NotContains(t, text, handover.DataFile)
	version := versions + "/" + id.String()
	status, text, _ = ada.do("GET", version+"/file?path="+handover.PaperFile, nil)
	assert.Equal(t, 200, status)
	assert.True(t, strings.HasPrefix(text, "%PDF-"))
	for _, no := range []string{"/file?path=" + handover.DataFile, "/zip", "/changes"} {
		status, _, _ = ada.do("GET", version+no, nil)
		assert.Contains(t, []int{403, 404}, status, no)
	}
	sign := fields{"name": "Ada Marsh", "strokes": [][]float64{{0.1, 0.1, 0.5, 0.6}}}
	ada.problem("bad_signature", "POST", version+"/sign", fields{"name": "Ada Marsh", "strokes": [][]float64{}})
	get[any](ada, "POST", version+"/sign", sign)
	p.problem("signed_already", "POST", version+"/sign", sign)
	status, text, _ = ada.do("GET", version+"/file?path="+handover.SignOffFile, nil)
	require.Equal(t, 200, status)
	off, err := handover.ReadSignOff([]byte(text), m.Hash)
	require.NoError(t, err)
	assert.Equal(t, "Ada Marsh", off.Name)
	assert.Equal(t, "Customer Ada", off.Account)
	assert.Len(t, off.Strokes, 1)
}
