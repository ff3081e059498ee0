package main

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-rod/rod"

	"unlatch/core/ground/address"
	"unlatch/core/stream/sighting"
	"unlatch/core/wire/discovery"
	"unlatch/e2e/browser"
	"unlatch/sim/scene"
)

const thousandRange = "127.63.0.0/22"

const thousandYard = `
name: thousand
users: [{name: fitter, secret: bench, level: Administrator}]
devices:
  - {name: Line, maker: corvane, model: V4, address: 127.63.0.10, count: 1000, scene: viaduct, caption: "", streams: [{width: 320,
       height: 180, fps: 5, kbps: 150, gop: 5}]}
`

// answerWindow is what the standard gives a device to answer (WS-Discovery 2005/04 §3.1.3, APP_MAX_DELAY), retryPlan what asking three
// types twice takes with its pauses.
const (
	answerWindow = 500 * time.Millisecond
	retryPlan    = 6 * 70 * time.Millisecond
)

// thousand hears a thousand devices, by the sweep alone and then through the screens, while Find is looked at.
func thousand(ctx context.Context, _ *scene.Library) ([]figure, error) {
	dir, err := os.MkdirTemp("", "unlatch-bench-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o755)
	scenario := filepath.Join(dir, "thousand.yaml")
	if err := os.WriteFile(scenario, []byte(thousandYard), 0o644); err != nil {
		return nil, err
	}
	stop, err := background("are running", "sim", "--scenario", scenario, "--data", ".unlatch")
	if err != nil {
		return nil, err
	}
	defer stop()
	var times []time.Duration
	for range 5 {
		took, err := hearThousand(ctx)
		if err != nil {
			return nil, err
		}
		times = append(times, took)
	}
	var tasks, stalled []int
	var longest float64
	var worst time.Duration
	var shown []time.Duration
	for i := range 3 {
		halt := watchStalls()
		n, most, took, err := findWhileTheyArrive(filepath.Join(dir, fmt.Sprint("server", i)))
		stalls, stall := halt()
		if err != nil {
			return nil, err
		}
		tasks, longest, shown = append(tasks, n), max(longest, most), append(shown, took)
		stalled, worst = append(stalled, stalls), max(worst, stall)
	}
	floor := answerWindow + retryPlan
	got := median(times)
	return []figure{
		{"1,000 devices: the last of them heard by WS-Discovery", ms(got), ms(floor) + " answer window and retry plan",
			fmt.Sprintf("%.2f", float64(got)/float64(floor)), atMost(1.5, float64(got)/float64(floor), "")},
		{"Find while they arrive: tasks over 100 ms in the browser", fmt.Sprintf("%d (longest of 3 runs %.0f ms)", median(tasks), longest),
			fmt.Sprintf("%d of a program's 20 ms steps (longest %s)", median(stalled), ms(worst)), "", none(median(tasks))},
		{"Find: all 1,000 shown after the button, the port sweep and the database included", fmt.Sprintf("%.1f s", median(shown).Seconds()),
			"", "", "stated"},
	}, nil
}

// hearThousand sweeps one port, so that what is timed is the listening.
func hearThousand(ctx context.Context) (time.Duration, error) {
	heard := map[string]bool{}
	var last time.Duration
	began := time.Now()
	s := discovery.Sweep{Ranges: address.MustParse(thousandRange), Ports: []uint16{9}, Interfaces: []string{"lo"}}
	err := s.Run(ctx, func(x sighting.Sighting) {
		if x.Method == sighting.WSDiscovery && !x.Stray && !heard[x.Endpoint] {
			heard[x.Endpoint] = true
			last = time.Since(began)
		}
	})
	if err == nil && len(heard) != 1000 {
		err = fmt.Errorf("%d of 1000 devices were heard", len(heard))
	}
	return last, err
}

// findWhileTheyArrive sweeps through the screens with Find in sight and counts what keeps the page busy.
func findWhileTheyArrive(dir string) (tasks int, longest float64, shown time.Duration, err error) {
	server, err := browser.StartServer("serve", "--data", dir, "--listen", "127.0.0.1:0")
	if err != nil {
		return 0, 0, 0, err
	}
	defer server.Stop()
	chrome, err := browser.Start()
	if err != nil {
		return 0, 0, 0, err
	}
	defer chrome.Stop()
	setup := ""
	for _, word := range strings.Fields(server.Output) {
		if strings.Contains(word, "/setup#") {
			setup = word
		}
	}
	page, err := chrome.Page(setup, 1280, 800)
	if err != nil {
		return 0, 0, 0, err
	}
	err = rod.Try(func() {
		page.MustElement(`input[name="name"]`).MustInput("keeper")
		page.MustElement(`input[name="password"]`).MustInput("a long password")
		page.MustElementR("button", "Make the account").MustClick()
		page.MustElementR("button", "Make the first site").MustClick()
		page.MustElement(`input[name="name"]`).MustInput("bench")
		page.MustElement(`input[name="ranges"]`).MustSelectAllText().MustInput(thousandRange)
		page.MustElementR("button", "Make the site").MustClick()
		page.MustElementR("a", "^Find$").MustClick()
		page.MustElementR("body *", "Nothing heard yet")
		page.MustEval(`() => { window.long = []; ` +
			`new PerformanceObserver((l) => window.long.push(...l.getEntries().map((e) => e.duration))).observe({ type: "longtask", ` +
			`buffered: false }); }`)
		began := time.Now()
		page.MustElementR("button", "Sweep the site").MustClick()
		page.Timeout(5*time.Minute).MustElementR("body *", `^1000 cameras`)
		shown = time.Since(began)
		page.Timeout(5 * time.Minute).MustElement(`[data-run="finished"]`)
		for _, d := range page.MustEval(`() => window.long`).Arr() {
			longest = max(longest, d.Num())
			if d.Num() > 100 {
				tasks++
			}
		}
	})
	if err != nil { // what the person would have seen
		if png, serr := page.Timeout(10*time.Second).Screenshot(false, nil); serr == nil {
			os.WriteFile(filepath.Join(".unlatch", "failed-bench.png"), png, 0o644)
		}
	}
	return tasks, longest, shown, err
}

// watchStalls takes steps of always the same work, about 20 ms of it, until it is halted, and returns how many of them took more than
// 100 ms and the longest: what the machine does to any program that runs beside the stand-ins, the database, the server and the
// browser.
func watchStalls() (halt func() (int, time.Duration)) {
	work := func(rounds int) {
		sum := [32]byte{}
		for range rounds {
			sum = sha256.Sum256(sum[:])
		}
	}
	rounds := 1000
	for took := time.Duration(0); took < 20*time.Millisecond; rounds *= 2 {
		began := time.Now()
		work(rounds)
		took = time.Since(began)
	}
	rounds /= 2
	done, ended := make(chan struct{}), make(chan struct{})
	n, longest := 0, time.Duration(0)
	go func() {
		defer close(ended)
		for {
			select {
			case <-done:
				return
			case <-time.After(80 * time.Millisecond):
			}
			began := time.Now()
			work(rounds)
			took := time.Since(began)
			longest = max(longest, took)
			if took > 100*time.Millisecond {
				n++
			}
		}
	}()
	return func() (int, time.Duration) {
		close(done)
		<-ended
		return n, longest
	}
}
