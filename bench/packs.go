package main

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/handover"
	"unlatch/core/decide/proof"
	"unlatch/core/stream/media"
	"unlatch/jobs"
	"unlatch/sim/scene"
	"unlatch/store"
)

// nobody is a scenario of one device, which the bench leaves alone.
const nobody = `name: none
users: [{name: fitter, secret: bench}]
devices:
  - {name: One, maker: corvane, model: V4, address: 127.62.4.10, scene: viaduct, streams: [{width: 160, height: 90, fps: 5,
       kbps: 100, gop: 5}]}
`

// packOf measures how a handover pack of n cameras with pictures is made, within some seconds and megabytes, and what the line-up feels of
// it; and how another Unlatch opens it.
func packOf(n int, seconds, megabytes float64) func(context.Context, *scene.Library) ([]figure, error) {
	return func(ctx context.Context, media *scene.Library) ([]figure, error) {
		r, err := newRig(ctx, nobody, "10.20.0.0/16")
		if err != nil {
			return nil, err
		}
		defer r.stop()
		if err := r.withPictures(ctx, media, n); err != nil {
			return nil, err
		}
		page, end, err := signedInPage(ctx, r.store, r.queue)
		if err != nil {
			return nil, err
		}
		defer end()
		path := "/api/sites/" + r.site.ID.String() + "/changes"
		if _, _, err := page.get(path); err != nil {
			return nil, err
		}
		alone, err := whileRuns(page, path, func() (bool, error) { return false, nil }, 15*time.Second)
		if err != nil {
			return nil, err
		}
		version, took, beside, err := r.makesPack(ctx, page, path)
		if err != nil {
			return nil, err
		}
		size := r.stopWorker()
		floor, err := r.copyStills(ctx)
		if err != nil {
			return nil, err
		}
		pdf, err := r.store.Handovers.File(ctx, r.site.ID, version, handover.PaperFile)
		if err != nil {
			return nil, err
		}
		open, err := r.opensPack(ctx, page, version)
		if err != nil {
			return nil, err
		}
		of := fmt.Sprintf("Pack of %d cameras", n)
		slower := float64(p95(beside)) / float64(p95(alone))
		return []figure{
			{of + ": from the button to its manifest", fmt.Sprintf("%.1f s", took.Seconds()),
				fmt.Sprintf("%.1f s to read its pictures", floor.Seconds()), fmt.Sprintf("%.1f", float64(took)/float64(floor)),
				under(seconds, took.Seconds(), " s")},
			{of + ": largest resident size of the worker", fmt.Sprintf("%.0f MB", float64(size)/1e6), "", "",
				under(megabytes, float64(size)/1e6, " MB")},
			{of + ": the papers", fmt.Sprintf("%.1f MB", float64(len(pdf.Data))/1e6), "", "",
				under(60, float64(len(pdf.Data))/1e6, " MB")},
			{of + ": everything of the line-up meanwhile, p95", ms(p95(beside)), ms(p95(alone)) + " alone", fmt.Sprintf("%.2f", slower),
				atMost(1.2, slower, "")},
			{of + ": opened on another Unlatch", fmt.Sprintf("%.1f s", open.Seconds()), "", "", under(30, open.Seconds(), " s")},
		}, nil
	}
}

// withPictures adds n proven cameras to the site, each with a picture of its own and one of a target.
func (r *rig) withPictures(ctx context.Context, library *scene.Library, n int) error {
	clip, err := library.Clip(ctx, scene.Format{Scene: "viaduct", Width: 1280, Height: 720, FPS: 5, Kbps: 2000, GOP: 1, Codec: scene.JPEG})
	if err != nil {
		return err
	}
	devices, err := generate(ctx, r.store, r.site.ID, n)
	if err != nil {
		return err
	}
	target := uuid.New()
	put := act.PutTarget{ID: target, New: true, TargetForm: act.TargetForm{Kind: "feed", Name: "Screens"}}
	if err := r.store.Targets.Put(ctx, r.site.ID, put); err != nil {
		return err
	}
	if err := r.store.Targets.Wish(ctx, act.InAnySlot(target, devices...)); err != nil {
		return err
	}
	for i, id := range devices {
		at, jpeg := addressOf(i), clip.Frames[i%len(clip.Frames)].NALs[0]
		d := &store.Device{ID: id, Site: r.site.ID}
		stream := fmt.Sprintf("rtsp://%s/vista/main", at)
		shown, seen := uuid.New(), uuid.New()
		video := &media.Measured{Codec: "H.264", Width: 1920, Height: 1080, FPS: 25, BitrateKbps: 3900,
			PerSecondKbps: []int{3800, 3950, 3900, 4010, 3880, 3920}}
		for _, f := range []store.Finding{
			{Subject: "p0", StillID: seen, Still: jpeg, Body: evidence.Proof{Proof: proof.Proof{URL: stream, OK: true, Transport: "tcp",
				Auth: "digest MD5", Video: video}, PlainURL: stream, Role: "main", Still: &seen}},
			{Subject: target.String(), Body: evidence.Placed{Slot: "the list", Gave: []evidence.Given{{Role: "main", URL: stream}}}},
			{Subject: target.String(), StillID: shown, Still: jpeg, Body: evidence.Confirmed{Says: "fetched", Still: &shown}}} {
			if err := r.store.Devices.Record(ctx, d, nil, f); err != nil {
				return err
			}
		}
	}
	return nil
}

// whileRuns asks for a path again and again until done says so, and for a time at least; it returns how long each answer took.
func whileRuns(p *page, path string, done func() (bool, error), least time.Duration) (out []time.Duration, err error) {
	for began := time.Now(); ; {
		took, _, err := p.loads(path, 1)
		if err != nil {
			return nil, err
		}
		out = append(out, took...)
		over, err := done()
		if err != nil || over || least > 0 && time.Since(began) > least {
			return out, err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// makesPack makes a version, and asks for a path meanwhile.
func (r *rig) makesPack(ctx context.Context, p *page, path string) (version uuid.UUID, took time.Duration, beside []time.Duration,
	err error) {
	by, err := r.store.People.ByName(ctx, "keeper")
	if err != nil {
		return version, 0, nil, err
	}
	a := act.MakeHandover{Site: r.site.ID, ID: uuid.New(), HandoverForm: act.HandoverForm{Base: "https://unlatch.example"}}
	began := time.Now()
	done, err := (jobs.Desk{Store: r.store, Queue: r.queue}).Do(ctx, by.Person, a)
	if err != nil {
		return version, 0, nil, err
	}
	beside, err = whileRuns(p, path, func() (bool, error) {
		run, err := r.store.Runs.Get(ctx, done.Run.ID)
		return !run.Running(), err
	}, 0)
	took = time.Since(began)
	if err == nil {
		v, verr := r.store.Handovers.Get(ctx, r.site.ID, a.ID)
		if err = verr; err == nil && !v.Made {
			err = fmt.Errorf("the pack was not made: %s", v.Failed)
		}
	}
	return a.ID, took, beside, err
}

// copyStills reads all pictures of the site and copies them, which is the least that a pack does.
func (r *rig) copyStills(ctx context.Context) (time.Duration, error) {
	began := time.Now()
	rows, err := r.store.SQL().QueryContext(ctx,
		"SELECT s.id FROM stills s JOIN devices d ON d.id = s.device_id WHERE d.site_id = $1", r.site.ID)
	if err != nil {
		return 0, err
	}
	var ids []uuid.UUID
	for rows.Next() {
		var id uuid.UUID
		if err := rows.Scan(&id); err != nil {
			return 0, err
		}
		ids = append(ids, id)
	}
	if err := rows.Err(); err != nil {
		return 0, err
	}
	for _, id := range ids {
		raw, err := r.store.Devices.Still(ctx, id)
		if err != nil {
			return 0, err
		}
		bytes.Clone(raw)
	}
	return time.Since(began), nil
}

// opensPack takes a version along as a zip file and opens it on a server with an empty database.
func (r *rig) opensPack(ctx context.Context, p *page, version uuid.UUID) (time.Duration, error) {
	_, zipped, err := p.get("/api/sites/" + r.site.ID.String() + "/handover/versions/" + version.String() + "/zip")
	if err != nil {
		return 0, err
	}
	if _, err := zip.NewReader(bytes.NewReader(zipped), int64(len(zipped))); err != nil {
		return 0, err
	}
	if _, err := r.store.SQL().ExecContext(ctx, "CREATE DATABASE other"); err != nil {
		return 0, err
	}
	at, err := url.Parse(r.store.Pool.Config().ConnString())
	if err != nil {
		return 0, err
	}
	at.Path = "/other"
	s, err := store.Open(ctx, at.String(), filepath.Join(r.dir, "other-key"), nil)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	q, err := jobs.NewQueue(s, slog.New(slog.DiscardHandler))
	if err != nil {
		return 0, err
	}
	other, end, err := signedInPage(ctx, s, q)
	if err != nil {
		return 0, err
	}
	defer end()
	began := time.Now()
	var brought struct{ ID uuid.UUID }
	if err := other.post("/api/packs", "application/zip", bytes.NewReader(zipped), &brought); err != nil {
		return 0, err
	}
	err = other.post("/api/packs/"+brought.ID.String()+"/open", "application/json", strings.NewReader("{}"), nil)
	return time.Since(began), err
}

// post sends a body and reads the answer.
func (p *page) post(path, kind string, body io.Reader, into any) error {
	return p.send("POST", path, kind, body, into)
}

func (p *page) send(method, path, kind string, body io.Reader, into any) error {
	req, err := http.NewRequest(method, p.url+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", kind)
	req.Header.Set("Origin", p.url)
	res, err := p.client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode >= 300 {
		err = fmt.Errorf("%s was answered with %d: %s", path, res.StatusCode, raw)
	}
	if err != nil || into == nil {
		return err
	}
	return json.Unmarshal(raw, into)
}
