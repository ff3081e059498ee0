package main

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"slices"
	"time"

	"github.com/go-rod/rod"
	"github.com/google/uuid"

	"unlatch/core/decide/act"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/siteplan"
	"unlatch/core/wire/target"
	"unlatch/core/wire/target/viabridge"
	"unlatch/e2e/browser"
	"unlatch/store"
)

const (
	matrixTargets  = 12
	plannedCameras = 200
)

// marksOf puts cameras onto a site plan of their site.
func marksOf(ctx context.Context, s *store.Store, site uuid.UUID, devices []uuid.UUID) error {
	var raw bytes.Buffer
	if err := png.Encode(&raw, image.NewGray(image.Rect(0, 0, 3000, 2000))); err != nil {
		return err
	}
	picture, err := siteplan.Read(raw.Bytes())
	if err != nil {
		return err
	}
	id := uuid.Must(uuid.NewV7())
	if err := s.SitePlans.Add(ctx, act.AddSitePlan{Site: site, ID: id, Name: "Hall", Picture: picture}); err != nil {
		return err
	}
	marks := act.MarkOnSitePlan{Site: site, Plan: id}
	for i, d := range devices {
		turn := float64(i * 37 % 360)
		marks.Marks = append(marks.Marks, siteplan.Mark{Device: d, X: float64(i%20)/20 + 0.02, Y: float64(i/20)/10 + 0.04, Direction: &turn,
			View: siteplan.UsualView})
	}
	return s.SitePlans.Mark(ctx, marks)
}

// framesOf runs a step of script in each of 300 frames, and returns what kept the page busy meanwhile.
func framesOf(page *rod.Page, each string) (b busy) {
	raw := page.Timeout(time.Minute).MustEval(`async (each) => {
		const long = [];
		const watch = new PerformanceObserver((l) => long.push(...l.getEntries().map((e) => e.duration)));
		watch.observe({ type: "longtask" });
		const step = new Function("i", each);
		const began = performance.now();
		for (let i = 0; i < 300; i++) {
			step(i);
			await new Promise(requestAnimationFrame);
		}
		const took = performance.now() - began;
		await new Promise((r) => setTimeout(r, 300));
		watch.disconnect();
		return { long, fps: 300000 / took };
	}`, each)
	b.fps = raw.Get("fps").Num()
	for _, v := range raw.Get("long").Arr() {
		b.tasks, b.longest = b.tasks+1, max(b.longest, v.Num())
	}
	return b
}

// firstRow follows the first site on a page, and returns the milliseconds until the first row of its line-up is drawn.
func firstRow(page *rod.Page) float64 {
	return page.Timeout(time.Minute).MustEval(`async () => {
		const began = performance.now();
		document.querySelector('a[href^="/sites/"]').click();
		while (!document.querySelector("[data-device]")) await new Promise(requestAnimationFrame);
		await new Promise(requestAnimationFrame);
		return performance.now() - began;
	}`).Num()
}

const cordsDrawn = 500

// crossing puts cameras onto a recorder of as many slots, so that their cords cross, adds the other targets of the matrix, and marks some
// cameras on a site plan.
func crossing(ctx context.Context, s *store.Store, site uuid.UUID, devices []uuid.UUID) error {
	id := uuid.Must(uuid.NewV7())
	if err := s.Targets.Put(ctx, site, act.PutTarget{ID: id, New: true,
		TargetForm: act.TargetForm{Kind: viabridge.Kind, Name: "Great vault", Address: "http://10.20.255.1"}}); err != nil {
		return err
	}
	layout := target.Layout{}
	for n := range cordsDrawn {
		layout.Slots = append(layout.Slots, target.Slot{Token: fmt.Sprint(n + 1), Label: fmt.Sprintf("slot %d", n+1), Is: target.Used})
	}
	if err := s.Targets.Saw(ctx, id, nil, store.Seen{What: "answered", About: &target.About{Name: "Great vault", Kind: "recorder"},
		Layout: &layout}); err != nil {
		return err
	}
	if err := s.Targets.Wish(ctx, act.InAnySlot(id, devices[:cordsDrawn]...)); err != nil {
		return err
	}
	for n, d := range devices[:cordsDrawn] {
		x := &store.Device{ID: d, Site: site}
		slot := fmt.Sprint(1 + n*7%cordsDrawn) // 7 and 500 have no common divisor: the cords cross
		for _, b := range []evidence.Body{evidence.Placed{Slot: "slot " + slot, Token: slot, Ref: slot + "\n" + slot},
			evidence.Confirmed{Says: "showing"}} {
			if err := s.Devices.Record(ctx, x, nil, store.Finding{Subject: id.String(), Body: b}); err != nil {
				return err
			}
		}
	}
	for n := range matrixTargets - 1 {
		if err := s.Targets.Put(ctx, site, act.PutTarget{ID: uuid.Must(uuid.NewV7()), New: true, TargetForm: act.TargetForm{
			Kind: viabridge.Kind, Name: fmt.Sprint("Panel ", n+1), Address: fmt.Sprintf("http://10.20.255.%d", n+2)}}); err != nil {
			return err
		}
	}
	return marksOf(ctx, s, site, devices[:plannedCameras])
}

// cordsOf measures what keeps the page busy: in the Patch view with 500 placements while a plug is dragged over all of its height and both
// columns are scrolled, in its matrix while it is walked and dragged over, and on a site plan while that is dragged.
func cordsOf(ctx context.Context, s *store.Store, site uuid.UUID, devices []uuid.UUID, url, view string) ([]figure, error) {
	if err := crossing(ctx, s, site, devices); err != nil {
		return nil, err
	}
	chrome, err := browser.Start()
	if err != nil {
		return nil, err
	}
	defer chrome.Stop()
	page, err := chrome.Page(url, 1280, 800)
	if err != nil {
		return nil, err
	}
	var drag, scroll, keys, along, pan busy
	var rows []float64
	err = rod.Try(func() {
		page.MustEval(`() => fetch("/api/session", { method: "POST", headers: { "Content-Type": "application/json" }, ` +
			`body: JSON.stringify({ name: "keeper", password: "a long password" }) })`)
		for range 5 {
			page.MustNavigate(url)
			page.Timeout(time.Minute).MustElement(`a[href^="/sites/"]`)
			time.Sleep(time.Second)
			rows = append(rows, firstRow(page))
		}
		page.MustNavigate(url + view + "/patch")
		page.Timeout(time.Minute).MustElement(`[data-on="Great vault"]`)
		time.Sleep(2 * time.Second)
		measure := func(each string) busy { return framesOf(page, each) }
		page.MustEval(`() => {
			const jack = document.querySelector("[data-channel]");
			const box = jack.getBoundingClientRect();
			jack.dispatchEvent(new PointerEvent("pointerdown", { bubbles: true, button: 0, clientX: box.x + 9, clientY: box.y + 9 }));
		}`)
		drag = measure(`window.dispatchEvent(new PointerEvent("pointermove", { bubbles: true, clientX: 520 + (i % 200) * 2, ` +
			`clientY: 120 + (i * 2) % 600 }))`)
		page.MustEval(`() => window.dispatchEvent(new KeyboardEvent("keydown", { key: "Escape", bubbles: true }))`)
		scroll = measure(`for (const s of document.querySelectorAll('section[aria-label="Channels"], ` +
			`section[aria-label="Targets"]')) s.scrollTop = (s.scrollHeight * i) / 300`)
		page.MustElementR("button", "^Matrix$").MustClick()
		page.Timeout(time.Minute).MustElement(`[data-cell]`)
		time.Sleep(time.Second)
		keys = measure(`document.querySelector("[role=grid]").dispatchEvent(new KeyboardEvent("keydown", { bubbles: true, ` +
			`key: i % 30 === 29 ? "ArrowRight" : "ArrowDown" }))`)
		page.MustEval(`() => document.querySelector("[data-cell]").dispatchEvent(new PointerEvent("pointerdown", { bubbles: true, button: 0, ` +
			`pointerType: "mouse" }))`)
		along = measure(`const cells = document.querySelectorAll("[data-cell]"); cells[(i * 7) % cells.length].dispatchEvent(` +
			`new PointerEvent("pointermove", { bubbles: true, pointerType: "mouse" }))`)
		page.MustNavigate(url + view + "/plan")
		page.Timeout(time.Minute).MustElement("[data-mark]")
		time.Sleep(2 * time.Second)
		page.MustEval(`() => document.querySelector('[aria-label="Plan Hall"][role=group]').dispatchEvent(new PointerEvent("pointerdown", ` +
			`{ bubbles: true, button: 0, clientX: 600, clientY: 400 }))`)
		pan = measure(`window.dispatchEvent(new PointerEvent("pointermove", { clientX: 600 + (i % 100) * 4, clientY: 400 + (i % 70) * 3 }))`)
	})
	slices.Sort(rows)
	row := 0.0
	if len(rows) > 0 {
		row = rows[len(rows)/2]
	}
	return []figure{
		{"2,000 cameras: from the click on their site to the first row in the browser", fmt.Sprintf("%.0f ms", row), "", "",
			under(1000, row, " ms")},
		{"Patch view with 500 placements: tasks over 50 ms while a plug is dragged for 300 frames", drag.String(), "", "", none(drag.tasks)},
		{"The same while both columns are scrolled from end to end in 300 frames", scroll.String(), "", "", "stated"},
		{"500 cameras in the matrix of 12 targets: tasks over 50 ms while walked by keys for 300 frames", keys.String(), "", "",
			none(keys.tasks)},
		{"The same while a selection is dragged over it", along.String(), "", "", none(along.tasks)},
		{"Frames a second meanwhile", fmt.Sprintf("%.0f", along.fps), "", "", atLeast(59, along.fps, " a second")},
		{"Site plan with 200 cameras: tasks over 50 ms while it is dragged for 300 frames", pan.String(), "", "", none(pan.tasks)},
	}, err
}
